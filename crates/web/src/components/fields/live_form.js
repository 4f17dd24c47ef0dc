// A plan's page: sends what is typed, and takes over from the answer every part that follows from it.
const form = document.querySelector("[data-plan]");
const saved = document.querySelector("[data-saved]");
let timer, asked = 0, shown = 0;

/** Marks fields at which something stops. */
function mark(root) {
  for (const slot of root.querySelectorAll("[data-says]")) {
    const field = document.getElementById(slot.dataset.says);
    if (!field) continue;
    const stop = Boolean(slot.querySelector(".stop"));
    field.classList.toggle("is-invalid", stop);
    field.setAttribute("aria-invalid", String(stop));
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
  mark(document);
  if (focus && document.activeElement?.id !== focus) document.getElementById(focus)?.focus();
  document.dispatchEvent(new CustomEvent("plan:shown"));
}

/** Takes the revision over, and, where somebody else's changes came in, every field that has not the focus. */
function renew(fresh) {
  const revision = form.elements.namedItem("revision");
  const next = fresh?.elements.namedItem("revision");
  if (!revision || !next) return false;
  const others = Number(next.value) > Number(revision.value) + 1;
  revision.value = next.value;
  if (!others) return false;
  for (const field of fresh.querySelectorAll("input[name], select[name], textarea[name]")) {
    const mine = document.getElementById(field.id);
    if (!mine || mine === document.activeElement || mine.name !== field.name) continue;
    if (mine.type === "checkbox" || mine.type === "radio") mine.checked = field.checked;
    else mine.value = field.value;
  }
  return true;
}

export async function send() {
  const number = ++asked;
  const body = new URLSearchParams(new FormData(form));
  body.append("live", "yes");
  saved.textContent = "keeping…";
  try {
    const answer = await fetch(location.pathname, { method: "POST", body });
    const text = await answer.text();
    if (!answer.ok) throw new Error(new DOMParser().parseFromString(text, "text/html").querySelector("main p")?.textContent ?? answer.status);
    if (number !== asked) return;
    const page = new DOMParser().parseFromString(text, "text/html");
    const merged = renew(page.querySelector("[data-plan]"));
    take(page);
    const conflict = page.querySelector(".said")?.textContent;
    saved.textContent = conflict ?? (merged ? "Kept; somebody else's changes came in." : page.querySelector("[data-saved]")?.textContent ?? "Kept.");
    form.dataset.shown = String(++shown);
  } catch (error) {
    if (number === asked) saved.textContent = `Not kept (${error.message}). What you typed stays here; it is sent again with the next change.`;
  }
}

function later(wait) {
  clearTimeout(timer);
  timer = setTimeout(send, wait);
}

form.addEventListener("input", () => later(220));
form.addEventListener("change", (e) => {
  if (e.target.matches("select, input[type=checkbox], input[type=radio]")) later(0);
});
// Enter moves on like Tab; it never sends the first button by accident.
form.addEventListener("keydown", (e) => {
  if (e.key !== "Enter" || !e.target.matches("input:not([type=file]), select")) return;
  e.preventDefault();
  const fields = [...form.querySelectorAll("input:not([type=hidden]), select, textarea, button:not([tabindex='-1']), [data-next]")].filter((f) => f.offsetParent);
  fields[fields.indexOf(e.target) + 1]?.focus();
});
document.addEventListener("keydown", (e) => {
  if (e.altKey && e.key === "ArrowRight") {
    e.preventDefault();
    document.querySelector("[data-next]")?.click();
  }
});
// A link out of the form waits until what was typed is kept.
document.querySelector("[data-next]")?.addEventListener("click", async (e) => {
  if (!timer) return;
  e.preventDefault();
  clearTimeout(timer);
  await send();
  location.assign(e.target.href);
});
// A column from a spreadsheet goes down from where it is pasted.
form.addEventListener("paste", (e) => {
  const lines = e.clipboardData.getData("text/plain").trim().split(/\r?\n/);
  const match = /^(\w+)\.(\d+)\.(.+)$/.exec(e.target.name ?? "");
  if (lines.length < 2 || !match) return;
  e.preventDefault();
  lines.forEach((line, i) => {
    const field = form.elements.namedItem(`${match[1]}.${Number(match[2]) + i}.${match[3]}`);
    if (field) field.value = line.split(/\t|;/)[0].trim();
  });
  later(0);
});
mark(document);
