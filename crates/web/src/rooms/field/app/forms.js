// What belongs to a step: the form of each kind, everything kept as soon as it is entered.
import { face, otherwise } from "./face.js";
import { judge } from "./judge.js";
import * as keep from "./keep.js";
import { scan } from "./scan.js";
import { button, field, figure, h, input, number, says } from "./ui.js";
import { walk } from "./walk.js";

const of = (context, kind, match = () => true) => context.entries.filter((e) => e.deed.kind === kind && match(e.deed));
const last = (list) => list.at(-1);

/** A place for what a form says; a wrong number is told there and nothing is lost. */
function told() {
  const place = h("div", { className: "told", role: "status" });
  return [place, (text, kind = "bad") => place.replaceChildren(says(text, kind))];
}

async function keepIt(context, deed, corrects) {
  await context.add(deed, corrects);
  context.again();
}

function hole(s, context) {
  const at = Math.max(1, s.number ?? 1);
  const before = last(of(context, "hole", (d) => d.number === at));
  const [place, tell] = told();
  const depth = figure({ id: "hole-depth", value: before?.deed.depth_cm ?? "" });
  return h("div", {}, field("Measured along the hole", depth, "cm"), place, button(before ? "Correct it" : "Keep the depth", () => {
    const cm = number(depth.value);
    if (!(cm > 0 && cm <= 1000)) return tell("A depth in centimetres, above 0 and at most 1000.");
    keepIt(context, { kind: "hole", number: at, depth_cm: cm }, before?.id);
  }));
}

function horizons(s, context) {
  const seen = of(context, "horizon").sort((a, b) => a.deed.top_cm - b.deed.top_cm);
  const [place, tell] = told();
  const under = last(seen)?.deed.bottom_cm ?? 0;
  const next = context.pack.layers.find((l) => l.span_cm[0] >= under - 1) ?? { name: "", texture: "" };
  const name = input({ id: "h-name", value: next.name }), bottom = figure({ id: "h-bottom" }), texture = input({ id: "h-texture", value: next.texture });
  const view = h("div", {}, face(seen.map((e) => e.deed), context.pack),
    h("ul", { className: "seen" }, ...seen.map((e) => {
      const differs = otherwise(e.deed, context.pack.layers, under);
      return h("li", {}, `${e.deed.name}: ${e.deed.top_cm} to ${e.deed.bottom_cm} cm, ${e.deed.texture}`, differs ? h("b", { className: "bad" }, ` (${differs})`) : null);
    })),
    field("Horizon", name), field(`From ${under} cm down to`, bottom, "cm"), field("Texture by hand", texture), place,
    button("Keep this horizon", () => {
      const to = number(bottom.value);
      if (!name.value.trim()) return tell("Give it a name: A, E, Bt.");
      if (!(to > under && to <= 1000)) return tell(`It must end below ${under} cm.`);
      return keepIt(context, { kind: "horizon", name: name.value.trim(), top_cm: under, bottom_cm: to, texture: texture.value.trim() });
    }));
  const before = last(seen);
  if (before) {
    const deeper = figure({ id: "h-again", value: before.deed.bottom_cm, ariaLabel: `${before.deed.name} ends at` });
    view.append(h("details", {}, h("summary", {}, `Correct ${before.deed.name}`), field(`${before.deed.name} ends at`, deeper, "cm"), button("Correct it", () => {
      const to = number(deeper.value);
      if (!(to > before.deed.top_cm && to <= 1000)) return tell(`It must end below ${before.deed.top_cm} cm.`);
      return keepIt(context, { ...before.deed, bottom_cm: to }, before.id);
    }, "quiet")));
  }
  return view;
}

function cores(s, context) {
  const [place, tell] = told();
  const tin = input({ id: "c-tin" }), depth = figure({ id: "c-depth" }), volume = figure({ id: "c-volume", value: last(of(context, "core"))?.deed.volume_cm3 ?? "100" });
  return h("div", {},
    h("ul", { className: "seen" }, ...of(context, "core").map((e) => h("li", {}, `tin ${e.deed.tin}: ${e.deed.depth_cm} cm`))),
    field("Tin", tin), field("Depth of its middle", depth, "cm"), field("Corer holds", volume, "cm³"), place,
    button("Keep this core", () => {
      const cm = number(depth.value), cm3 = number(volume.value);
      if (!tin.value.trim()) return tell("Give the tin's number: it is weighed by it.");
      if (of(context, "core", (d) => d.tin === tin.value.trim()).length) return tell("This tin is taken: two cores cannot be in one.");
      if (!Number.isFinite(cm) || cm === null) return tell("Give the depth of its middle.");
      if (!(cm3 >= 1 && cm3 <= 20000)) return tell("The corer's volume lies between 1 and 20000 cm³.");
      keepIt(context, { kind: "core", tin: tin.value.trim(), depth_cm: cm, volume_cm3: cm3 });
    }));
}

/** The nearest other probe that was read, with its value. */
function beside(context, probe, serial) {
  const pack = context.pack;
  const read = of(context, "reading", (d) => d.serial !== serial).map((e) => {
    const placed = last(of(context, "probe", (d) => d.serial === e.deed.serial));
    const planned = [...pack.probes, ...pack.installed].find((p) => p.label === e.deed.serial) ?? pack.probes.find((p) => p.place === placed?.deed.orientation);
    const value = planned ? judge(planned.limits, e.deed.repeats, null)?.value : null;
    const depth = placed?.deed.depth_cm ?? planned?.depth_cm;
    return { place: `${depth} cm`, value: value ?? null, depth, unit: planned?.limits.unit };
  });
  const alike = read.filter((r) => r.value !== null && r.unit === probe.limits.unit && r.depth !== undefined);
  return alike.sort((a, b) => Math.abs(a.depth - probe.depth_cm) - Math.abs(b.depth - probe.depth_cm))[0] ?? null;
}

/** Three readings, judged as they are typed. */
function readings(context, probe, serialOf) {
  const fields = [0, 1, 2].map((i) => figure({ id: `r-${i}`, ariaLabel: `Reading ${i + 1}`, oninput: look }));
  const verdict = h("div", { id: "verdict", role: "status" });
  function typed() {
    return fields.map((f) => number(f.value)).filter((v) => v !== null);
  }
  function look() {
    const values = typed();
    if (values.some(Number.isNaN)) return verdict.replaceChildren(says("One of them is no number.", "bad"));
    const j = judge(probe.limits, values, beside(context, probe, serialOf()));
    verdict.replaceChildren(j ? says(j.says, j.verdict) : "");
    return undefined;
  }
  const before = last(of(context, "reading", (d) => d.serial === serialOf()));
  return h("div", { className: "readings" },
    h("p", { className: "label" }, `Read it three times${probe.limits.raw_unit ? `, ${probe.limits.raw_unit}` : ""}`),
    h("div", { className: "row three" }, ...fields), verdict,
    before ? h("p", { className: "soft" }, `Before: ${before.deed.repeats.join(", ")}. ${before.deed.said}`) : null,
    button("Keep the reading", () => {
      const values = typed();
      if (!values.length || values.some(Number.isNaN)) return verdict.replaceChildren(says("A reading needs a number.", "bad"));
      const said = judge(probe.limits, values, beside(context, probe, serialOf()))?.says ?? "";
      return keepIt(context, { kind: "reading", serial: serialOf(), repeats: values, said });
    }),
    probe.limits.assumes.length ? h("details", {}, h("summary", {}, "What this assumes"), h("ul", {}, ...probe.limits.assumes.map((a) => h("li", {}, a)))) : null);
}

function probe(s, context) {
  const planned = context.pack.probes[s.number];
  if (!planned) return null;
  const mine = (d) => d.place === undefined && (d.port === planned.port || d.serial === planned.label);
  const before = last(of(context, "probe", (d) => mine(d) && !d.given_up));
  const [place, tell] = told();
  const list = h("datalist", { id: "register" }, ...context.pack.register.map((r) => h("option", { value: r })));
  const serial = input({ id: "p-serial", value: before?.deed.serial ?? (planned.known ? planned.label : ""), oninput: complete });
  serial.setAttribute("list", "register");
  const depth = figure({ id: "p-depth", value: before?.deed.depth_cm ?? planned.depth_cm });
  const port = input({ id: "p-port", value: before?.deed.port ?? planned.port });
  const orientation = input({ id: "p-orientation", value: before?.deed.orientation ?? planned.orientation });
  const repacked = h("input", { type: "checkbox", id: "p-repacked", checked: before?.deed.repacked ?? false });
  /** The last digits of a serial are enough where they fit one alone. */
  function complete() {
    const typed = serial.value.trim().toLowerCase();
    const hits = context.pack.register.filter((r) => r.toLowerCase().endsWith(typed));
    if (typed.length >= 3 && hits.length === 1 && hits[0].toLowerCase() !== typed) serial.value = hits[0];
  }
  const deed = (givenUp) => {
    const cm = number(depth.value);
    const name = context.pack.register.find((r) => r.toLowerCase() === serial.value.trim().toLowerCase());
    if (!name) return tell(serial.value.trim() ? `No probe of the register is called ${serial.value.trim()}: a label of another study, or a slip?` : "Give the serial that stands on the label.");
    if (!Number.isFinite(cm) || cm === null || cm < -300 || cm > 1000) return tell("Give the depth of its middle in centimetres.");
    if (!port.value.trim() && !givenUp) return tell("Give the port that it goes into.");
    const twice = last(of(context, "probe", (d) => !d.given_up && d.serial !== name && d.port.toLowerCase() === port.value.trim().toLowerCase()));
    if (twice && !givenUp) return tell(`Port ${port.value.trim()} is ${twice.deed.serial}'s: which of the two is it?`);
    return { kind: "probe", serial: name, depth_cm: cm, port: port.value.trim(), orientation: orientation.value.trim(), given_up: givenUp, repacked: repacked.checked };
  };
  return h("div", {}, list,
    h("p", {}, h("b", {}, planned.place), `, ${planned.model}, ${planned.orientation}`),
    h("div", { className: "row" }, field("Label", serial), button("Scan", async () => {
      const text = await scan(tell);
      if (!text) return;
      const found = decodeURIComponent(text.split("/probes/")[1] ?? text).trim();
      serial.value = found;
      if (!context.pack.register.includes(found)) tell(`The label says “${found}”, which is not in the register.`);
    }, "quiet")),
    h("div", { className: "row" }, field("Depth", depth, "cm"), field("Port", port)),
    field("It lies", orientation), h("label", { className: "f tick" }, repacked, " seat of sieved native soil"), place,
    button(before ? "Correct the placement" : "It is in", () => {
      const d = deed(false);
      if (d?.kind) keepIt(context, d, before?.id);
    }, before ? "" : "big"),
    before ? readings(context, planned, () => before.deed.serial) : null,
    button("Stone or root: new hole", () => {
      const d = deed(true);
      if (d?.kind) keepIt(context, d, before?.id);
    }, "quiet"));
}

function layer(s, context) {
  const planned = context.pack.layers.find((l) => l.name === s.layer);
  const before = last(of(context, "layer", (d) => d.name === s.layer));
  const [place, tell] = told();
  const kg = figure({ id: "l-kg", value: before?.deed.kg ?? (planned?.kg ? planned.kg.toFixed(1) : "") });
  const buckets = figure({ id: "l-buckets", oninput: count }), each = figure({ id: "l-each", value: "10", oninput: count });
  function count() {
    const n = number(buckets.value), one = number(each.value);
    if (n && one) kg.value = (n * one).toFixed(1);
  }
  return h("div", {}, field("Soil put back", kg, "kg"),
    h("details", {}, h("summary", {}, "Counted by buckets"), h("div", { className: "row" }, field("Buckets", buckets), field("each", each, "kg"))), place,
    button(before ? "Correct it" : "Keep the weight", () => {
      const mass = number(kg.value);
      if (!(mass >= 0 && mass <= 5000)) return tell("A weight in kilograms, from 0 to 5000.");
      keepIt(context, { kind: "layer", name: s.layer, kg: mass }, before?.id);
    }));
}

function clockCheck(s, context) {
  const [place, tell] = told();
  const node = h("select", { id: "k-node" }, ...context.pack.nodes.map((n) => h("option", {}, n)));
  const shown = input({ id: "k-shown", placeholder: "hh:mm:ss" }), truth = input({ id: "k-truth", placeholder: "hh:mm:ss" });
  const set = h("input", { type: "checkbox", id: "k-set" });
  let asked = 0;
  const today = () => {
    const at = context.now();
    return at - (((at + context.pack.offset_minutes * 60) % 86400) + 86400) % 86400;
  };
  const read = (text) => {
    const m = /^(\d{1,2}):(\d{2})(?::(\d{2}))?$/.exec(text.trim());
    return m && m[1] < 24 && m[2] < 60 && (m[3] ?? 0) < 60 ? Number(m[1]) * 3600 + Number(m[2]) * 60 + Number(m[3] ?? 0) : null;
  };
  return h("div", {}, of(context, "clock").map((e) => h("p", { className: "soft" }, `${e.deed.node}: ${e.deed.shown - e.deed.truth} s ahead${e.deed.set ? ", set right" : ""}`)),
    field("Node", node), field("The node shows", shown), field("It truly is", truth), h("label", { className: "f tick" }, set, " it was set right now"), place,
    button("Keep the check", () => {
      const a = read(shown.value), b = read(truth.value);
      if (a === null || b === null) return tell("Write both times like 14:05:30.");
      // The same day, but for the minutes around midnight.
      let off = a - b;
      if (off > 43200) off -= 86400;
      if (off < -43200) off += 86400;
      if (Math.abs(off) > 3600 && asked !== off) {
        asked = off;
        return tell(`That would be ${Math.round(off / 60)} minutes off: is one of the times in another zone? If it truly is so, keep it again.`);
      }
      keepIt(context, { kind: "clock", node: node.value, shown: today() + b + off, truth: today() + b, set: set.checked });
    }));
}

function reference(s, context) {
  const left = h("b", { id: "countdown" }, "4:00");
  const [place, tell] = told();
  const value = figure({ id: "ref-value" });
  let end = 0;
  const tick = () => {
    const seconds = Math.max(0, Math.round((end - Date.now()) / 1000));
    left.textContent = `${Math.floor(seconds / 60)}:${String(seconds % 60).padStart(2, "0")}`;
    if (seconds > 0 && left.isConnected) setTimeout(tick, 500);
    else if (left.isConnected) navigator.vibrate?.(400);
  };
  return h("div", {}, h("p", {}, "Thermometer beside the probe: ", left, " "), button("Start four minutes", () => { end = Date.now() + 240000; tick(); }, "quiet"),
    field("It reads", value, "°C"), place,
    button("Keep the reading", () => {
      const c = number(value.value);
      if (!Number.isFinite(c) || c === null || c < -60 || c > 80) return tell("A temperature in °C.");
      keepIt(context, { kind: "note", text: `reference thermometer: ${c} °C` });
    }));
}

function leaving(s, context) {
  const rows = [...context.pack.probes].map((p) => {
    const before = last(of(context, "channel", (d) => d.port === p.port));
    const value = figure({ id: `ch-${p.port}`, value: before?.deed.value ?? "", ariaLabel: `Port ${p.port}` });
    return h("div", { className: "row" }, field(`${p.port} (${p.place})`, value, p.limits.raw_unit), button("Keep", () => {
      const v = number(value.value);
      if (v === null || Number.isNaN(v)) return value.focus();
      return keepIt(context, { kind: "channel", port: p.port, value: v }, before?.id);
    }, "quiet"));
  });
  return h("div", {}, h("p", { className: "label" }, "Each channel through the logger itself"), ...rows);
}

const REPAIRS = {
  probe_exchanged: "Probe exchanged", port_changed: "Port changed", firmware: "Firmware", program: "Program version", shield_moved: "Shield moved",
  cover_cut: "Shrubs or grass cut", other: "Something else",
};

function repairs(s, context) {
  const [place, tell] = told();
  const of_ = h("select", { id: "rep-of" }, ...Object.entries(REPAIRS).map(([value, words]) => h("option", { value }, words)));
  const note = input({ id: "rep-note", placeholder: "what, from what to what" });
  return h("div", {}, h("ul", { className: "seen" }, ...of(context, "repair").map((e) => h("li", {}, `${REPAIRS[e.deed.of]}: ${e.deed.note}`))),
    field("What was done", of_), field("In words", note), place,
    button("Keep the repair (now)", () => {
      if (!note.value.trim()) return tell("Say what was changed: the record means something else from now on.");
      keepIt(context, { kind: "repair", of: of_.value, note: note.value.trim() });
    }));
}

function spot(s, context) {
  const p = context.pack.installed[s.number];
  const before = last(of(context, "spot", (d) => d.point === p.label));
  const [place, tell] = told();
  const value = figure({ id: "spot", value: before?.deed.value ?? "", oninput: look }), why = input({ id: "spot-why", value: before?.deed.not_reached ?? "", placeholder: "reason" });
  const shown = (v) => `${v.toFixed(p.limits.raw_decimals)} ${p.limits.raw_unit}`;
  /** The points walked to before and after this one that were read today. */
  const beside = () => [s.number - 1, s.number + 1].map((i) => context.pack.installed[i]).filter((o) => o && o.limits.raw_unit === p.limits.raw_unit)
    .map((o) => [o.label, last(of(context, "spot", (d) => d.point === o.label))?.deed.value]).filter(([, v]) => Number.isFinite(v));
  function look() {
    const v = number(value.value);
    if (v === null || Number.isNaN(v)) return;
    const j = judge(p.limits, [v], null);
    if (!j) return;
    const odd = p.usual && (v < p.usual[0] || v > p.usual[1]);
    const past = odd ? ` Within the last year it usually lay between ${shown(p.usual[0])} and ${shown(p.usual[1])}${j.verdict === "good" ? ": read it again, and note why if it stays so" : ""}.` : "";
    const near = beside().map(([label, other]) => `${label} ${shown(other)}`);
    tell(`${j.says}${past}${near.length ? ` Beside it today: ${near.join(", ")}.` : ""}`, odd && j.verdict === "good" ? "doubtful" : j.verdict);
  }
  const read = (point) => Boolean(last(of(context, "spot", (d) => d.point === point.label)));
  return h("div", {}, p.way ? h("p", {}, p.way) : null, p.last ? h("p", { className: "soft" }, `Last: ${p.last}`) : null, field("Value", value, p.limits.raw_unit), place,
    button(before ? "Correct it" : "Keep the value", () => {
      const v = number(value.value);
      if (v === null || Number.isNaN(v)) return tell("A value is a number; if the point was not reached, say why below.");
      keepIt(context, { kind: "spot", point: p.label, value: v, not_reached: "" }, before?.id);
    }),
    h("details", {}, h("summary", {}, "Not reached"), field("Because", why), button("Keep that", () => {
      if (!why.value.trim()) return tell(`Say why ${p.label} was not reached.`);
      keepIt(context, { kind: "spot", point: p.label, value: null, not_reached: why.value.trim() }, before?.id);
    })), walk(context.pack.installed, s.number, read));
}

function remove(s, context) {
  const p = context.pack.installed[s.number];
  const before = last(of(context, "removed", (d) => d.serial === p.label));
  const condition = input({ id: "rm-condition", value: before?.deed.condition ?? "", placeholder: "prongs, cable, plug" });
  const unfit = h("input", { type: "checkbox", id: "rm-unfit", checked: before?.deed.refused ?? false });
  const keepIts = (lost) => keepIt(context, { kind: "removed", serial: p.label, condition: condition.value.trim(), lost, refused: !lost && unfit.checked }, before?.id);
  return h("div", {}, h("p", {}, "Follow the cable; lever beside the probe, never pull."), field("Condition", condition),
    h("label", { className: "f tick" }, unfit, " not fit to go out again"),
    button("It is out", () => keepIts(false), "big"), button("Not found: lost", () => keepIts(true), "quiet"));
}

/** The kit, item by item: nothing is left behind. Ticks are kept on the phone and are no entries of their own. */
function kit(s, context) {
  const [place, tell] = told();
  const items = context.pack.kit.flatMap(([, of_]) => of_);
  const key = `kit:${context.log}`;
  const boxes = items.map((item, i) => h("input", { type: "checkbox", id: `kit-${i}`, onchange: remember }));
  async function remember() {
    await keep.set(key, items.filter((_, i) => boxes[i].checked));
    count.textContent = counted();
  }
  const counted = () => `${boxes.filter((b) => b.checked).length} of ${items.length} counted`;
  const count = h("p", { className: "label", role: "status" });
  const known = keep.setting(key).then((ticked) => {
    boxes.forEach((b, i) => { b.checked = (ticked ?? []).includes(items[i]); });
    count.textContent = counted();
  });
  const view = h("div", {}, count, ...items.map((item, i) => h("label", { className: "f tick" }, boxes[i], ` ${item}`)), place);
  view.tell = tell;
  view.left = async () => {
    await known;
    const missing = items.filter((_, i) => !boxes[i].checked);
    if (!missing.length) return "";
    const named = missing.slice(0, 3).join(", ");
    return `Not counted yet: ${named}${missing.length > 3 ? ` and ${missing.length - 3} more` : ""}. Tick what is there, or leave the step out with a reason.`;
  };
  return view;
}

export const forms = { kit, hole, horizons, cores, probe, layer, leaving, clock: clockCheck, reference, repairs, spot, remove };
