// A calibration run: sends what is typed, shows what follows from it, takes pasted blocks.
const root = document.querySelector("[data-run]");
const token = document.querySelector('meta[name="ebrel-token"]').content;
const table = root.querySelector(".samples tbody");
const saved = root.querySelector("[data-saved]");
const COLUMNS = ["tin", "at", "raw", "tare", "wet", "dry", "volume"];
const CONDITIONS = ["school", "unit", "soil", "density", "cores", "step", "volume_pct", "container", "layers", "w_now", "water", "pot_tare", "pot_dry", "pot_volume", "dry_temperature", "dry_hours", "organic", "particles", "logger", "excitation"];
const value = (id) => document.getElementById(id)?.value ?? "";
let timer, asked = 0;

const rows = () => [...table.querySelectorAll("[data-row]")];
const field = (row, name) => row.querySelector(`[data-field="${name}"]`);
/** The line under a sample in which its reason stands. */
const why = (row) => row.nextElementSibling.nextElementSibling;

function draft() {
  const each = rows().map((row) => ({ ...Object.fromEntries(COLUMNS.map((c) => [c, field(row, c).value])), out: field(row, "out").checked, why: why(row).querySelector("input").value }));
  while (each.length && COLUMNS.every((c) => !each.at(-1)[c].trim())) each.pop();
  return { ...Object.fromEntries(CONDITIONS.map((c) => [c, value(c)])), rows: each };
}

async function send() {
  const number = ++asked;
  saved.textContent = "saving…";
  try {
    const answer = await fetch(`/bench/${root.dataset.run}/draft`, {
      method: "POST",
      headers: { "content-type": "application/json", "x-ebrel-token": token },
      body: JSON.stringify({ title: value("title"), probe: Number(value("probe")) || null, draft: draft(), revision: Number(root.dataset.revision) }),
    });
    if (!answer.ok) throw new Error(new DOMParser().parseFromString(await answer.text(), "text/html").querySelector("main p")?.textContent ?? `answer ${answer.status}`);
    const worked = await answer.json();
    root.dataset.revision = worked.revision;
    if (number !== asked) return;
    if (worked.merged) fill(worked.merged);
    show(worked);
    saved.textContent = worked.conflicts ?? (worked.merged ? "Saved; somebody else's changes came in." : "Saved.");
    root.dataset.worked = String(number);
  } catch (error) {
    if (number === asked) saved.textContent = `Not saved: ${error instanceof TypeError ? "no answer from Ebrel" : error.message}. What you typed stays here; it is sent again with the next change.`;
  }
}

/** Shows a draft into which somebody else's changes came; what has the focus stays as it is typed. */
function fill(merged) {
  const put = (input, text) => {
    if (input && input !== document.activeElement) input.value = text ?? "";
  };
  for (const name of CONDITIONS) put(document.getElementById(name), merged[name]);
  while (rows().length <= merged.rows.length) grow();
  rows().forEach((row, i) => {
    const kept = merged.rows[i] ?? {};
    for (const name of COLUMNS) put(field(row, name), kept[name]);
    field(row, "out").checked = Boolean(kept.out);
    put(why(row).querySelector("input"), kept.why);
    why(row).hidden = !kept.out;
  });
}

function show(worked) {
  rows().forEach((row, i) => {
    const figures = worked.figures[i] ?? { w: "", density: "", theta: "", field: "", message: "" };
    field(row, "raw").placeholder = figures.recorded ?? "";
    for (const name of ["w", "density", "theta", "mean", "last"]) row.querySelector(`[data-out="${name}"]`).textContent = figures[name] ?? "";
    COLUMNS.forEach((c) => field(row, c).classList.toggle("is-invalid", figures.field === c && !figures.waits));
    const message = row.nextElementSibling;
    message.hidden = !figures.message;
    message.lastElementChild.textContent = figures.message;
    message.lastElementChild.className = figures.waits ? "soft" : "warn";
  });
  root.querySelector("[data-result]").innerHTML = worked.result;
  for (const button of root.querySelectorAll("[data-adopt] .btn")) button.disabled = !worked.defended;
}

function later() {
  clearTimeout(timer);
  timer = setTimeout(send, 180);
}

/** Adds an empty row at the end. */
function grow() {
  const last = rows().at(-1);
  const copies = [last.cloneNode(true), last.nextElementSibling.cloneNode(true), why(last).cloneNode(true)];
  copies[1].hidden = copies[2].hidden = true;
  copies[2].querySelector("input").value = "";
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
  if (["title", "probe", ...CONDITIONS].includes(e.target.id)) later();
  if (e.target.id === "school") root.dataset.school = e.target.value;
  if (e.target.dataset.field === "out") {
    const line = why(e.target.closest("[data-row]"));
    line.hidden = !e.target.checked;
    if (e.target.checked) line.querySelector("input").focus();
  }
});
root.addEventListener("input", (e) => {
  if (CONDITIONS.includes(e.target.id)) later();
});

table.addEventListener("paste", (e) => {
  const text = e.clipboardData.getData("text/plain").replace(/\r/g, "").replace(/\n+$/, "");
  if (!/[\t\n]/.test(text)) return;
  const at = rows().indexOf(e.target.closest("[data-row]"));
  // Columns that this school does not use are passed over.
  const shown = COLUMNS.filter((c) => field(rows()[0], c).offsetParent);
  const first = shown.indexOf(e.target.dataset.field);
  if (at < 0 || first < 0) return;
  e.preventDefault();
  text.split("\n").forEach((line, i) => {
    while (rows().length <= at + i + 1) grow();
    line.split(/\t|;/).forEach((cell, j) => {
      const name = shown[first + j];
      if (name) field(rows()[at + i], name).value = cell.trim();
    });
  });
  later();
});

table.addEventListener("keydown", (e) => {
  const step = { Enter: 1, ArrowDown: 1, ArrowUp: -1 }[e.key];
  if (!step || !e.target.dataset.field || e.target.dataset.field === "why") return;
  e.preventDefault();
  const next = rows()[rows().indexOf(e.target.closest("[data-row]")) + step];
  if (next) field(next, e.target.dataset.field).focus();
});

// What was typed is kept before a form is sent.
for (const form of document.querySelectorAll("[data-adopt], [data-standins]")) {
  form.addEventListener("submit", async (e) => {
    if (form.dataset.sent) return;
    e.preventDefault();
    clearTimeout(timer);
    await send();
    form.dataset.sent = "yes";
    form.requestSubmit(e.submitter);
  });
}
