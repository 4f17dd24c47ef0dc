// Stations on the phone, and taking another along.
import * as keep from "./keep.js";
import * as send from "./send.js";
import { button, day, field, h, input, says } from "./ui.js";

export async function home() {
  const packs = await keep.packs();
  const initials = input({ id: "initials", value: (await keep.setting("initials")) ?? "", maxLength: 40, oninput: (e) => keep.set("initials", e.target.value.trim()) });
  const others = h("div", { id: "others" });
  const load = async () => {
    others.replaceChildren(says("Asking…"));
    try {
      const list = (await send.stations()).filter((s) => !packs.some((p) => p.station === s.id));
      others.replaceChildren(...list.map((s) => button(`Take along: ${s.name} (${s.study})`, () => take(s.id), "big")));
      if (!list.length) others.replaceChildren(says("All your stations are here."));
    } catch {
      others.replaceChildren(says("No line, or no sign-in: other stations can be taken along when there is one."));
    }
  };
  const view = h("div", {},
    h("h1", { tabIndex: -1 }, "Field"),
    field("Your initials", initials),
    packs.length ? h("h2", {}, "Here on this phone") : null,
    ...packs.map((p) => h("a", { className: "card", href: `#/s/${p.station}` }, h("b", {}, p.name), h("span", {}, `${p.study} · packed ${day(p.made_at, p.offset_minutes)} · ${p.probes.length} to put in, ${p.installed.length} in the ground`))),
    h("h2", {}, "Other stations"), others,
    button("Carry all entries as a file", send.carry, "quiet"));
  load();
  return view;
}

export async function take(id) {
  try {
    await keep.keepPack(await send.fetchPack(id));
    if (location.hash === `#/s/${id}`) document.dispatchEvent(new CustomEvent("field:show"));
    else location.hash = `#/s/${id}`;
  } catch (error) {
    document.getElementById("why").replaceChildren(says(`Not taken along (${error.message || "no sign-in"}): try again with a line.`, "bad"));
  }
}
