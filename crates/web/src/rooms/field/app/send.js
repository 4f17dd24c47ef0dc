// Sending: every entry until the office says that it has it, as often as it takes. A refused one stays, with its reason.
import * as keep from "./keep.js";

const BATCH = 200;
let under = null;

class SignIn extends Error {}

async function json(url, options = {}) {
  const answer = await fetch(url, { ...options, headers: { accept: "application/json", ...options.headers } });
  const isJson = answer.headers.get("content-type")?.includes("json");
  if (answer.redirected || answer.status === 401 || (answer.ok && !isJson)) throw new SignIn();
  if (!answer.ok) throw new Error(new DOMParser().parseFromString(await answer.text(), "text/html").querySelector("main p")?.textContent ?? `answer ${answer.status}`);
  return answer.json();
}

export const stations = () => json("/field/stations.json");
export const fetchPack = (station) => json(`/stations/${station}/field/pack.json`);

async function sendAll() {
  const waiting = (await keep.unsent()).filter((e) => e.state === "kept");
  const { token } = await json("/field/token.json");
  const headers = { "x-ebrel-token": token, "content-type": "application/json" };
  for (const photo of (await keep.photos()).filter((p) => !p.sent)) {
    await json(`/stations/${photo.stationId}/field/photos`, { method: "POST", headers: { ...headers, "content-type": "image/jpeg" }, body: photo.blob });
    await keep.addPhoto({ ...photo, sent: true });
  }
  const byStation = Map.groupBy ? Map.groupBy(waiting, (e) => e.stationId) : group(waiting);
  for (const [station, entries] of byStation) {
    for (let i = 0; i < entries.length; i += BATCH) {
      const part = entries.slice(i, i + BATCH);
      const body = JSON.stringify({ entries: part.map(keep.plain) });
      const answers = await json(`/stations/${station}/field/entries`, { method: "POST", headers, body });
      for (const a of answers) await keep.mark(a.id, a.kept ? "sent" : "refused", a.says);
    }
  }
  await keep.set("lastSent", Date.now());
}

function group(entries) {
  const map = new Map();
  for (const e of entries) map.set(e.stationId, [...(map.get(e.stationId) ?? []), e]);
  return map;
}

/** Sends what waits; what is said of it: "", "offline", "sign-in", or a sentence. */
export async function send() {
  under ??= sendAll().then(() => "").catch((error) => {
    if (error instanceof SignIn) return "sign-in";
    return error instanceof TypeError ? "offline" : error.message;
  }).finally(() => {
    under = null;
    document.dispatchEvent(new CustomEvent("field:sent"));
  });
  return under;
}

/** Refused entries once more: what was in their way may be gone. */
export async function again() {
  for (const e of await keep.unsent()) if (e.state === "refused") await keep.mark(e.id, "kept");
  return send();
}

/** All entries as a file, for a phone that never meets the office's line. */
export async function carry() {
  const entries = (await keep.entries()).map(keep.plain);
  const blob = new Blob([JSON.stringify({ format: "ebrel-field-entries", version: 1, entries }, null, 1)], { type: "application/json" });
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = `field-entries-${new Date().toISOString().slice(0, 16).replaceAll(":", "")}.json`;
  link.click();
}
