// A page that is typed on: sends what is typed, and takes over from the answer every part that follows from it.
import { column, grow, paste } from "./rows.js";

const form = document.querySelector("[data-plan]");
const saved = document.querySelector("[data-saved]");
let timer, away, waiting, shown = 0;

/** An answer that takes longer is none, ms. */
const PATIENCE = 20_000;

/** Marks fields at which something stops. */
function mark(root) {
  const set = (field, stop) => {
    field.classList.toggle("is-invalid", stop);
    field.setAttribute("aria-invalid", String(stop));
  };
  for (const slot of root.querySelectorAll("[data-says]")) {
    const field = document.getElementById(slot.dataset.says);
    if (field) set(field, Boolean(slot.querySelector(".stop")));
  }
  for (const row of root.querySelectorAll("[data-row]")) {
    const wrong = new Set([...row.querySelectorAll("[data-at]")].map((p) => p.dataset.at));
    for (const field of row.querySelectorAll("input[id]")) set(field, wrong.has(field.id));
  }
}

/** Takes the live parts of `page` over into this one; what has the focus keeps it. */
function take(page) {
  const focus = document.activeElement?.id;
  for (const part of document.querySelectorAll("[data-live]")) {
    // Where somebody types, only the parts within are taken over: a letter typed meanwhile must not be lost.
    if (part.contains(document.activeElement) && document.activeElement.matches("input, textarea")) continue;
    const fresh = page.querySelector(`[data-live="${CSS.escape(part.dataset.live)}"]`);
    if (fresh && fresh.innerHTML !== part.innerHTML) part.replaceChildren(...fresh.childNodes);
  }
  for (const table of document.querySelectorAll("[data-rows]")) {
    const more = [...page.querySelectorAll("[data-rows] > [data-row]")].slice(table.querySelectorAll(":scope > [data-row]").length);
    table.append(...more);
  }
  for (const fresh of page.querySelectorAll("[data-row] input[placeholder]")) {
    const field = document.getElementById(fresh.id);
    if (field) field.placeholder = fresh.placeholder;
  }
  mark(document);
  if (focus && document.activeElement?.id !== focus) document.getElementById(focus)?.focus();
  document.dispatchEvent(new CustomEvent("plan:shown"));
}

/** What stands in the form's fields, by their numbers on the page. */
const typed = () => new Map([...form.querySelectorAll("[name][id]")].map((f) => [f.id, f.checked ? "✓" : f.value]));

/**
 * Takes the revision over, and, where somebody else's changes came in, every field that has not the focus and in which nothing was typed
 * since it was sent.
 */
function renew(fresh, sent) {
  const revision = form.elements.namedItem("revision");
  const next = fresh?.elements.namedItem("revision");
  if (!revision || !next) return false;
  const others = Number(next.value) > Number(revision.value) + 1;
  revision.value = next.value;
  if (!others) return false;
  const now = typed();
  for (const field of fresh.querySelectorAll("input[name], select[name], textarea[name]")) {
    const mine = document.getElementById(field.id);
    if (!mine || mine === document.activeElement || mine.name !== field.name || now.get(mine.id) !== sent.get(mine.id)) continue;
    if (mine.type === "checkbox" || mine.type === "radio") mine.checked = field.checked;
    else mine.value = field.value;
  }
  return true;
}

/** Sends what stands in the form, and takes the answer over. */
async function post() {
  const sent = typed();
  const body = new URLSearchParams(new FormData(form));
  body.append("live", "yes");
  saved.textContent = "keeping…";
  try {
    const answer = await fetch(location.pathname, { method: "POST", body, signal: AbortSignal.timeout(PATIENCE) });
    const text = await answer.text();
    if (!answer.ok) throw new Error(new DOMParser().parseFromString(text, "text/html").querySelector("main p")?.textContent ?? answer.status);
    const page = new DOMParser().parseFromString(text, "text/html");
    const merged = renew(page.querySelector("[data-plan]"), sent);
    take(page);
    const conflict = page.querySelector(".said")?.textContent;
    saved.textContent = conflict ?? (merged ? "Kept; somebody else's changes came in." : page.querySelector("[data-saved]")?.textContent ?? "Kept.");
    form.dataset.shown = String(++shown);
  } catch (error) {
    const silent = error instanceof TypeError || error.name === "TimeoutError";
    const why = silent ? "no answer from Ebrel" : error.message;
    saved.textContent = `Not kept (${why}). What you typed stays here; it is sent again with the next change.`;
  }
}

/**
 * Sends the form, one sending after the other: each is made of what the one before came to. Two at once would be two people, of whom
 * the second loses where both typed.
 */
export function send() {
  clearTimeout(timer);
  timer = undefined;
  if (!away) {
    away = post().finally(() => { away = undefined; });
    return away;
  }
  waiting ??= away.then(() => {
    waiting = undefined;
    return send();
  });
  return waiting;
}

function later(wait) {
  clearTimeout(timer);
  timer = setTimeout(send, wait);
}

form.addEventListener("input", (e) => {
  grow(e.target);
  later(220);
});
form.addEventListener("change", (e) => {
  if (e.target.matches("select, input[type=checkbox], input[type=radio]")) later(0);
});
// Enter moves on like Tab, or down a column of rows; it never sends the first button by accident.
form.addEventListener("keydown", (e) => {
  if (!e.target.matches("input:not([type=file]), select")) return;
  const below = column(e);
  if (below === undefined && e.key !== "Enter") return;
  e.preventDefault();
  if (below !== undefined) return below?.focus();
  const fields = [...form.querySelectorAll("input:not([type=hidden]), select, textarea, button:not([tabindex='-1']), [data-next]")].filter((f) => f.offsetParent);
  fields[fields.indexOf(e.target) + 1]?.focus();
});
document.addEventListener("keydown", (e) => {
  if (e.altKey && e.key === "ArrowRight") {
    e.preventDefault();
    document.querySelector("[data-next]")?.click();
  }
});
// A link or another form that leads away waits until what was typed is kept.
document.querySelector("[data-next]")?.addEventListener("click", async (e) => {
  if (!timer && !away) return;
  e.preventDefault();
  await (timer ? send() : waiting ?? away);
  location.assign(e.target.href);
});
document.addEventListener("submit", async (e) => {
  if (e.target === form || !(timer || away)) return;
  e.preventDefault();
  await (timer ? send() : waiting ?? away);
  e.target.requestSubmit(e.submitter?.isConnected ? e.submitter : undefined);
});
form.addEventListener("paste", (e) => {
  if (!paste(e, form)) return;
  e.preventDefault();
  later(0);
});
mark(document);
