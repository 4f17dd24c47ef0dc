// One station on the phone: what to do there, and what was done.
import * as keep from "./keep.js";
import { take } from "./home.js";
import { newId } from "./ids.js";
import { button, clock, day, h, says } from "./ui.js";

const KINDS = [
  ["installation", "Put probes in"],
  ["visit", "Visit"],
  ["round", "Round with the handheld"],
  ["removal", "Take probes out"],
];

export async function station(id) {
  const pack = await keep.pack(id);
  if (!pack) return h("div", {}, h("h1", { tabIndex: -1 }, "Not here yet"), says("This station is not on this phone."), button("Take it along", () => take(Number(id)), "big"));
  const all = (await keep.entries()).filter((e) => e.stationId === pack.station);
  const logs = [...new Set(all.map((e) => e.log))].map((log) => {
    const of = all.filter((e) => e.log === log);
    const kind = of.find((e) => e.deed.kind === "begun")?.deed.of ?? "visit";
    return { log, kind, at: of[0].at, entries: of.length, closed: of.some((e) => e.deed.kind === "closed") };
  }).sort((a, b) => b.at - a.at);
  const begin = async (kind) => {
    if (!(await keep.setting("initials"))) {
      document.getElementById("why").replaceChildren(says("Give your initials first: every entry says who made it.", "bad"));
      location.hash = "#/";
      return;
    }
    const log = newId();
    await keep.add(pack, log, { kind: "begun", of: kind });
    location.hash = `#/s/${id}/${kind}/${log}`;
  };
  const fits = { installation: pack.steps.length, visit: true, round: pack.installed.length, removal: pack.installed.length };
  return h("div", {},
    h("p", {}, h("a", { href: "#/" }, "‹ Field")),
    h("h1", { tabIndex: -1 }, pack.name),
    pack.stops.length ? h("div", { className: "card bad" }, h("b", {}, `The plan is not in order (${pack.stops.length}):`), ...pack.stops.map((s) => h("p", {}, s))) : null,
    pack.found_again?.length ? h("p", {}, `The station stands ${pack.found_again.join(", and ")}.`) : null,
    h("p", { className: "caution" }, pack.caution),
    ...logs.filter((l) => !l.closed).map((l) => h("a", { className: "card go", href: `#/s/${id}/${l.kind}/${l.log}` }, h("b", {}, `Go on: ${name(l.kind)}`), h("span", {}, `begun ${day(l.at, pack.offset_minutes)} ${clock(l.at, pack.offset_minutes)}, ${l.entries} entries`))),
    ...KINDS.filter(([kind]) => fits[kind]).map(([kind, words]) => button(words, () => begin(kind), "big")),
    pack.drawing ? h("details", {}, h("summary", {}, "The hole, to scale"), h("div", { className: "frame", tabIndex: 0 }, h("img", { alt: "The hole to scale, as planned", src: `data:image/svg+xml;charset=utf-8,${encodeURIComponent(pack.drawing)}` }))) : null,
    h("details", {}, h("summary", {}, "Kit to take along"), ...pack.kit.map(([shelf, items]) => h("div", {}, h("b", {}, shelf), h("ul", {}, ...items.map((i) => h("li", {}, i)))))),
    pack.installed.length ? h("details", {}, h("summary", {}, "In the ground"), h("ul", {}, ...pack.installed.map((p) => h("li", {}, `${p.place}: ${p.label}, port ${p.port}, ${p.model}`, p.last ? h("span", { className: "soft" }, ` · last ${p.last}`) : null)))) : null,
    ...logs.filter((l) => l.closed).map((l) => h("a", { className: "card", href: `#/s/${id}/${l.kind}/${l.log}` }, h("b", {}, name(l.kind)), h("span", {}, `${day(l.at, pack.offset_minutes)}, ${l.entries} entries, finished`))),
    button("Pack anew (needs a line)", () => take(Number(id)), "quiet"));
}

export const name = (kind) => KINDS.find(([k]) => k === kind)?.[1] ?? kind;
