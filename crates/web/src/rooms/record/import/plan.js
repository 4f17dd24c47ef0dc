// Each change of a control is shown at once: the form is sent, and the parts that say what was understood come anew.
const form = document.getElementById("plan");
let latest = 0;

/** The fields of the form as they stand, but for the buttons. */
function fields() {
  return new URLSearchParams(new FormData(form));
}

const names = (part) => [...part.querySelectorAll("[name]")].map((field) => field.name).join();

/** Marks the fields as the answer has them; what stands in them, and where somebody types, stays. */
function mark(part, other) {
  const theirs = [...other.querySelectorAll("[name]")];
  part.querySelectorAll(".invalid-feedback").forEach((said) => said.remove());
  part.querySelectorAll("[name]").forEach((mine, i) => {
    mine.className = theirs[i].className;
    for (const attribute of ["aria-describedby", "aria-invalid"]) {
      if (theirs[i].hasAttribute(attribute)) mine.setAttribute(attribute, theirs[i].getAttribute(attribute));
      else mine.removeAttribute(attribute);
    }
    const said = theirs[i].getAttribute("aria-describedby");
    const error = said && other.querySelector(`#${CSS.escape(said)}`);
    if (error) mine.after(error);
  });
  const runs = [...other.querySelectorAll("td.run")];
  part.querySelectorAll("td.run").forEach((run, i) => run.replaceChildren(...runs[i].childNodes));
  const rows = [...other.querySelectorAll("tr")];
  part.querySelectorAll("tr").forEach((row, i) => (row.className = rows[i].className));
}

/** Puts a part of the answer in the place of its own. */
function renew(part, page) {
  const other = page.querySelector(`[data-part="${part.dataset.part}"]`);
  if (!other) return;
  if (part.querySelector("[name]") && names(part) === names(other)) mark(part, other);
  else part.replaceChildren(...other.childNodes);
}

async function show() {
  const mine = ++latest;
  const body = fields();
  body.set("do", "preview");
  body.delete("save_as");
  form.setAttribute("aria-busy", "true");
  try {
    const answer = await fetch(form.action, { method: "POST", body });
    if (!answer.ok || mine !== latest) return;
    const page = new DOMParser().parseFromString(await answer.text(), "text/html");
    document.querySelectorAll("[data-part]").forEach((part) => renew(part, page));
    // The button itself stays: somebody may be pressing it.
    const store = 'button[value="store"]';
    form.querySelector(store).disabled = page.querySelector(store)?.disabled ?? true;
  } catch {
    // Without a connection the button still sends the form.
  } finally {
    if (mine === latest) form.removeAttribute("aria-busy");
  }
}

form.addEventListener("change", (event) => {
  if (event.target.name !== "save_as") show();
});
