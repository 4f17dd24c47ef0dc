// Each change of a control is shown at once: the form is sent, and the parts that say what was understood come anew.
const form = document.getElementById("plan");
const sent = new Map();
let latest = 0;

/** The fields of the form as they stand, but for the buttons. */
function fields() {
  return new URLSearchParams(new FormData(form));
}

/** Puts a part of the answer in the place of its own, unless somebody goes on typing in it. */
function renew(part, page) {
  const other = page.querySelector(`[data-part="${part.dataset.part}"]`);
  const at = document.activeElement;
  const within = part.contains(at) && at.name;
  if (!other || (within && sent.get(at.name) !== at.value && at.type !== "checkbox" && at.type !== "radio")) return;
  const name = within ? at.name : null;
  const value = within ? at.value : null;
  part.replaceChildren(...other.childNodes);
  if (!name) return;
  const again = [...part.querySelectorAll(`[name="${CSS.escape(name)}"]`)];
  (again.find((field) => field.value === value) ?? again[0])?.focus();
}

async function show() {
  const mine = ++latest;
  const body = fields();
  sent.clear();
  for (const [name, value] of body) sent.set(name, value);
  body.set("do", "preview");
  body.delete("save_as");
  form.setAttribute("aria-busy", "true");
  try {
    const answer = await fetch(form.action, { method: "POST", body });
    if (!answer.ok || mine !== latest) return;
    const page = new DOMParser().parseFromString(await answer.text(), "text/html");
    document.querySelectorAll("[data-part]").forEach((part) => renew(part, page));
  } catch {
    // Without a connection the button still sends the form.
  } finally {
    if (mine === latest) form.removeAttribute("aria-busy");
  }
}

form.addEventListener("change", (event) => {
  if (event.target.name !== "save_as") show();
});
