// What the phone keeps: packs, entries and photographs, in IndexedDB. Nothing is ever deleted by sending it.
import { openDB } from "/assets/vendor/idb/idb.js";
import { newId } from "./ids.js";

const db = await openDB("ebrel-field", 1, {
  upgrade(base) {
    base.createObjectStore("packs", { keyPath: "station" });
    const entries = base.createObjectStore("entries", { keyPath: "id" });
    entries.createIndex("log", "log");
    entries.createIndex("state", "state");
    base.createObjectStore("photos", { keyPath: "sha256" });
    base.createObjectStore("settings");
  },
});

export const setting = (key) => db.get("settings", key);
export const set = (key, value) => db.put("settings", value, key);
export const packs = () => db.getAll("packs");
export const pack = (station) => db.get("packs", Number(station));
export const keepPack = (value) => db.put("packs", { ...value, packed: Date.now() });
export const entriesOf = async (log) => (await db.getAllFromIndex("entries", "log", log)).sort(byTime);
export const entries = async () => (await db.getAll("entries")).sort(byTime);
export const unsent = async () => (await entries()).filter((e) => e.state !== "sent");
export const mark = async (id, state, says = "") => {
  const entry = await db.get("entries", id);
  if (entry) await db.put("entries", { ...entry, state, says });
};
export const addPhoto = (photo) => db.put("photos", photo);
export const photo = (sha256) => db.get("photos", sha256);
export const photos = () => db.getAll("photos");

function byTime(a, b) {
  return a.at - b.at || (a.id < b.id ? -1 : 1);
}

/** Now by the study's clock: the demo's present stands still where it was packed. */
export function now(pack) {
  const real = Math.floor(Date.now() / 1000);
  return pack.fixed_now ? pack.made_at + Math.floor((Date.now() - pack.packed) / 1000) : real;
}

/** Keeps an entry at once; it is sent when there is a line. */
export async function add(pack, log, deed, corrects) {
  const by = (await setting("initials")) ?? "";
  const entry = { id: newId(), log, station: pack.code, at: now(pack), by, deed };
  if (corrects) entry.corrects = corrects;
  await db.put("entries", { ...entry, stationId: pack.station, state: "kept", says: "" });
  document.dispatchEvent(new CustomEvent("field:kept"));
  return entry;
}

/** What stands of a log: the last correction of each entry, in the place of the first, whatever the clock said in between. */
export async function standing(log) {
  const all = await entriesOf(log), byId = new Map(all.map((e) => [e.id, e]));
  // The first entry of a chain is known by its number, whether it is here or not.
  const first = (e) => {
    let at = e.id;
    for (let i = 0; i < all.length && byId.get(at)?.corrects; i += 1) at = byId.get(at).corrects;
    return at;
  };
  const replaced = new Set(all.map((e) => e.corrects)), last = new Map();
  for (const e of [...all.filter((e) => replaced.has(e.id)), ...all.filter((e) => !replaced.has(e.id))]) last.set(first(e), e);
  return [...last.entries()].map(([root, e]) => ({ ...e, at: byId.get(root)?.at ?? e.at, root })).sort(byTime);
}

/** Counts for the line at the top. */
export async function counts() {
  const all = await entries();
  const of = (state) => all.filter((e) => e.state === state).length;
  return { kept: of("kept"), sent: of("sent"), refused: of("refused"), last: await setting("lastSent") };
}

/** An entry as it goes over the line or into a file: without what only this phone needs. */
export function plain({ id, log, station, at, by, corrects, deed }) {
  return corrects ? { id, log, station, at, by, corrects, deed } : { id, log, station, at, by, deed };
}
