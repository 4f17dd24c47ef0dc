// One log: its steps one at a time, notes and photographs at any time, and what was entered.
import * as keep from "./keep.js";
import { forms } from "./forms.js";
import { name } from "./station.js";
import { photograph } from "./photo.js";
import { button, clock, day, h, input, says } from "./ui.js";

const VISIT = [
  ["clock", "Clock: what the node shows, and what it truly is."],
  ["last-record", "The last record was written when it was due."],
  ["battery", "Battery: voltage under load, poles clean."],
  ["enclosure", "Enclosure: dry inside, gasket whole, gel still blue."],
  ["cables", "Cables and plugs: no gnawing, no strain, tight."],
  ["cover", "Cover and surface: as they were; photographs from the usual places."],
  ["storm", "After a storm: damage, standing water, erosion at the mound."],
  ["reference", "A reference reading: thermometer four minutes, or a core by tin."],
  ["repairs", "Repairs: each with its minute, since its meaning changes from then on."],
].map(([key, does]) => ({ key, does, about: ["clock", "reference", "repairs"].includes(key) ? key : "check" }));

/** The steps of a log of this kind. */
export function stepsOf(kind, pack) {
  if (kind === "installation") return pack.steps;
  if (kind === "visit") return VISIT;
  const each = (key, does) => pack.installed.map((p, number) => ({ key: `${key}-${p.label}`, does: does(p), about: key, number }));
  if (kind === "round") return each("spot", (p) => `Read ${p.place}: ${p.label}.`);
  return [
    { key: "dig", does: "Dig beside the cable and follow it to the probe. Never pull at it.", about: "check", caution: "Have buried services located before any hole." },
    // In the order of the digging: the shallowest first.
    ...each("remove", (p) => `Take out ${p.place}: ${p.label}.`).sort((a, b) => pack.installed[a.number].depth_cm - pack.installed[b.number].depth_cm),
    { key: "close-holes", does: "Fill and tamp the holes; nothing is left behind.", about: "check" },
  ];
}

const step = (entries, key) => entries.find((e) => e.deed.kind === "step" && e.deed.step === key);

export async function log(id, kind, number) {
  const pack = await keep.pack(id);
  const entries = await keep.standing(number);
  const steps = stepsOf(kind, pack);
  const open = steps.findIndex((s) => !step(entries, s.key));
  const closed = entries.some((e) => e.deed.kind === "closed");
  const chosen = Number(sessionStorage.getItem(`at:${number}`) ?? -1);
  const at = chosen >= 0 && chosen < steps.length ? chosen : open;
  const go = (place) => {
    sessionStorage.setItem(`at:${number}`, String(place));
    document.dispatchEvent(new CustomEvent("field:show"));
  };
  const context = {
    pack, kind, log: number, entries, now: () => keep.now(pack),
    add: (deed, corrects) => keep.add(pack, number, deed, corrects),
    again: () => document.dispatchEvent(new CustomEvent("field:show")),
  };
  const outcome = async (s, how, note = "") => {
    const before = step(entries, s.key);
    await context.add({ kind: "step", step: s.key, does: s.does, outcome: how, note }, before?.id);
    const next = steps.findIndex((other, i) => i > at && !step(entries, other.key));
    go(next < 0 ? -1 : next);
  };
  const done = steps.filter((s) => step(entries, s.key)).length;
  const view = h("div", { className: "log" },
    h("p", {}, h("a", { href: `#/s/${id}` }, `‹ ${pack.name}`)),
    h("h1", { tabIndex: -1 }, name(kind)),
    h("progress", { max: Math.max(1, steps.length), value: done, ariaLabel: `${done} of ${steps.length} steps` }));
  const latest = Math.max(...entries.map((e) => e.at));
  if (context.now() < latest - 60) {
    const shown = (at) => `${day(at, pack.offset_minutes)} ${clock(at, pack.offset_minutes)}`;
    view.append(says(`This phone's clock shows ${shown(context.now())}, and the last entry is of ${shown(latest)}: was it set back? Set it right before the next step; what is kept stays as it is.`, "bad"));
  }
  if (closed) view.append(says("This log is finished. What is entered now is added to it.", "good"));
  if (at >= 0 && steps[at]) view.append(one(steps[at], at, steps, context, outcome, go));
  else if (!closed) {
    const left = steps.filter((s) => step(entries, s.key)?.deed.outcome === "skipped");
    view.append(h("div", { className: "card go" }, h("p", {}, h("b", {}, "Every step has its answer.")),
      left.length ? h("p", {}, `Left out, and open in the office until done: ${left.length}.`) : null,
      button("Finish this log", async () => { await context.add({ kind: "closed" }); context.again(); }, "big")));
  }
  view.append(extras(context), list(entries, pack), h("details", { className: "steps" }, h("summary", {}, "All steps"),
    h("ol", {}, ...steps.map((s, i) => {
      const how = step(entries, s.key)?.deed.outcome;
      return h("li", {}, h("a", { href: "#", onclick: (e) => { e.preventDefault(); go(i); } }, s.does), how ? ` ${how === "done" ? "✓" : "left out"}` : "");
    }))));
  return view;
}

function one(s, at, steps, context, outcome, go) {
  const before = step(context.entries, s.key);
  const why = input({ id: "why-not", placeholder: "why?", ariaLabel: "Why it is left out" });
  const skip = h("div", { className: "skip", hidden: true }, why, button("Leave it out", () => {
    if (!why.value.trim()) { why.placeholder = "Say why: it shows in the office until it is done."; why.focus(); return; }
    outcome(s, "skipped", why.value.trim());
  }));
  const form = forms[s.about]?.(s, context);
  return h("section", { className: "step" },
    h("p", { className: "soft" }, `Step ${at + 1} of ${steps.length}${before ? ` · ${before.deed.outcome === "done" ? "done" : `left out: ${before.deed.note}`}` : ""}`),
    s.caution ? h("p", { className: "caution" }, s.caution) : null,
    h("p", { className: "does" }, s.does),
    form ?? null,
    button("Done", async () => {
      const left = (await form?.left?.()) ?? "";
      if (left) return form.tell(left);
      return outcome(s, "done");
    }, "big go"),
    h("div", { className: "row" },
      button("Leave out…", () => { skip.hidden = false; why.focus(); }, "quiet"),
      at > 0 ? button("Back", () => go(at - 1), "quiet") : null,
      at + 1 < steps.length ? button("Skip ahead", () => go(at + 1), "quiet") : null),
    skip);
}

function extras(context) {
  const text = h("textarea", { id: "note", rows: 2, ariaLabel: "Note" });
  return h("details", { className: "extras" }, h("summary", {}, "Note or photograph"),
    text, button("Keep the note", async () => {
      if (!text.value.trim()) return;
      await context.add({ kind: "note", text: text.value.trim() });
        context.again();
    }),
    photograph(context));
}

const WORDS = {
  begun: () => "begun", closed: () => "finished",
  step: (d) => `${d.outcome === "done" ? "✓" : "left out:"} ${d.does || d.step}${d.note ? ` (${d.note})` : ""}`,
  horizon: (d) => `horizon ${d.name}, ${d.top_cm} to ${d.bottom_cm} cm ${d.texture}`,
  hole: (d) => `hole ${d.number}: ${d.depth_cm} cm`,
  core: (d) => `core, tin ${d.tin}, ${d.depth_cm} cm, ${d.volume_cm3} cm³`,
  probe: (d) => (d.given_up ? `${d.serial}: stone at ${d.depth_cm} cm, new hole` : `${d.serial} at ${d.depth_cm} cm, port ${d.port}`),
  reading: (d) => `${d.serial}: ${d.repeats.join(", ")}. ${d.said}`,
  layer: (d) => `${d.name}: ${d.kg} kg back`,
  channel: (d) => `port ${d.port} reads ${d.value}`,
  clock: (d) => `clock of ${d.node}: ${d.shown - d.truth} s ahead${d.set ? ", set right" : ""}`,
  spot: (d) => (d.value === null ? `${d.point}: not reached, ${d.not_reached}` : `${d.point}: ${d.value}`),
  removed: (d) => `${d.serial} ${d.lost ? "not found" : d.refused ? "taken out, not fit to go out again" : "taken out"}${d.condition ? `: ${d.condition}` : ""}`,
  photo: (d) => `photograph ${d.caption}${d.taken ? `, taken ${d.taken}` : ""}${d.place ? `, at ${d.place.join(", ")}` : ""}`,
  repair: (d) => `${d.of.replace("_", " ")}: ${d.note}`,
  note: (d) => d.text,
};

function list(entries, pack) {
  const state = { kept: "kept here", sent: "sent", refused: "refused" };
  return h("details", { className: "entries" }, h("summary", {}, `Entries (${entries.length})`),
    h("ul", {}, ...[...entries].reverse().map((e) => h("li", { className: e.state },
      h("span", { className: "mono" }, clock(e.at, pack.offset_minutes)), ` ${(WORDS[e.deed.kind] ?? (() => e.deed.kind))(e.deed)} `,
      h("small", {}, `${e.by} · ${state[e.state]}${e.corrects ? " · corrected" : ""}${e.says ? `: ${e.says}` : ""}`)))));
}
