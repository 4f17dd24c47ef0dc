// A calibration run: sends what is typed, shows what follows from it, takes pasted blocks.
const root = document.querySelector("[data-run]");
const token = document.querySelector('meta[name="ebrel-token"]').content;
const table = root.querySelector(".samples tbody");
const saved = root.querySelector("[data-saved]");
const COLUMNS = ["raw", "tare", "wet", "dry", "volume"];
const value = (id) => document.getElementById(id).value;
let timer, asked = 0;

const rows = () => [...table.querySelectorAll("[data-row]")];
const field = (row, name) => row.querySelector(`[data-field="${name}"]`);

function draft() {
  const each = rows().map((row) => ({ ...Object.fromEntries(COLUMNS.map((c) => [c, field(row, c).value])), out: field(row, "out").checked }));
  while (each.length && COLUMNS.every((c) => !each.at(-1)[c].trim())) each.pop();
  return { unit: value("unit"), density: value("density"), step: value("step"), volume_pct: value("volume_pct"), rows: each };
}

async function send() {
  const number = ++asked;
  saved.textContent = "saving…";
  try {
    const answer = await fetch(`/bench/${root.dataset.run}/draft`, {
      method: "POST",
      headers: { "content-type": "application/json", "x-ebrel-token": token },
      body: JSON.stringify({ title: value("title"), probe: Number(value("probe")) || null, draft: draft() }),
    });
    if (!answer.ok) throw new Error(String(answer.status));
    const worked = await answer.json();
    if (number !== asked) return;
    show(worked);
    saved.textContent = "Saved.";
    root.dataset.worked = String(number);
  } catch {
    if (number === asked) saved.textContent = "Not saved: no answer from Ebrel. What you typed stays here; it is sent again with the next change.";
  }
}

function show(worked) {
  rows().forEach((row, i) => {
    const figures = worked.figures[i] ?? { w: "", density: "", theta: "", field: "", message: "" };
    for (const name of ["w", "density", "theta"]) row.querySelector(`[data-out="${name}"]`).textContent = figures[name];
    COLUMNS.forEach((c) => field(row, c).classList.toggle("is-invalid", figures.field === c));
    const message = row.nextElementSibling;
    message.hidden = !figures.message;
    message.lastElementChild.textContent = figures.message;
  });
  root.querySelector("[data-result]").innerHTML = worked.result;
  root.querySelector("[data-adopt] .btn").disabled = !worked.defended;
}

function later() {
  clearTimeout(timer);
  timer = setTimeout(send, 180);
}

/** Adds an empty row at the end. */
function grow() {
  const last = rows().at(-1);
  const copies = [last.cloneNode(true), last.nextElementSibling.cloneNode(true)];
  copies[1].hidden = true;
  copies[0].querySelectorAll("input").forEach((input) => {
    input.value = "";
    input.checked = false;
    input.classList.remove("is-invalid");
    input.setAttribute("aria-label", input.getAttribute("aria-label").replace(/\d+$/, rows().length + 1));
  });
  copies[0].querySelectorAll("[data-out]").forEach((cell) => (cell.textContent = ""));
  copies[0].firstElementChild.textContent = rows().length + 1;
  table.append(...copies);
}

table.addEventListener("input", (e) => {
  if (e.target.closest("[data-row]") === rows().at(-1) && e.target.value) grow();
  later();
});
root.addEventListener("change", (e) => {
  if (["title", "probe", "unit", "density", "step", "volume_pct"].includes(e.target.id)) later();
});
root.addEventListener("input", (e) => {
  if (["density", "step", "volume_pct", "unit"].includes(e.target.id)) later();
});

table.addEventListener("paste", (e) => {
  const text = e.clipboardData.getData("text/plain").replace(/\r/g, "").replace(/\n+$/, "");
  if (!/[\t\n]/.test(text)) return;
  e.preventDefault();
  const at = rows().indexOf(e.target.closest("[data-row]"));
  const first = COLUMNS.indexOf(e.target.dataset.field);
  text.split("\n").forEach((line, i) => {
    while (rows().length <= at + i + 1) grow();
    line.split(/\t|;/).forEach((cell, j) => {
      const name = COLUMNS[first + j];
      if (name) field(rows()[at + i], name).value = cell.trim();
    });
  });
  later();
});

table.addEventListener("keydown", (e) => {
  const step = { Enter: 1, ArrowDown: 1, ArrowUp: -1 }[e.key];
  if (!step || !e.target.dataset.field) return;
  e.preventDefault();
  const next = rows()[rows().indexOf(e.target.closest("[data-row]")) + step];
  if (next) field(next, e.target.dataset.field).focus();
});

root.querySelector("[data-adopt]").addEventListener("submit", async (e) => {
  if (e.target.dataset.sent) return;
  e.preventDefault();
  clearTimeout(timer);
  await send();
  e.target.dataset.sent = "yes";
  e.target.requestSubmit();
});
