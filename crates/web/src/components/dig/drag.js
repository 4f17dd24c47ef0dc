// Drags probes and boundaries in the drawing: the field follows the hand, the answer follows the field.
let held = null;

const rounded = (cm) => Math.max(0.5, Math.round(cm * 2) / 2);

function put(handle, cm, done) {
  const field = document.getElementById(handle.dataset.drag);
  if (!field) return;
  field.value = String(cm);
  handle.setAttribute("aria-valuenow", String(cm));
  if (done) field.dispatchEvent(new Event("input", { bubbles: true }));
}

document.addEventListener("pointerdown", (e) => {
  const handle = e.target.closest("[data-drag]");
  if (!handle) return;
  e.preventDefault();
  handle.focus();
  held = { handle, from: e.clientY, cm: Number(handle.dataset.cm), scale: Number(handle.dataset.perCm) * handle.ownerSVGElement.getScreenCTM().d };
  handle.setPointerCapture(e.pointerId);
});
document.addEventListener("pointermove", (e) => {
  if (!held) return;
  held.now = rounded(held.cm + (e.clientY - held.from) / held.scale);
  held.handle.setAttribute("transform", `translate(0 ${(held.now - held.cm) * Number(held.handle.dataset.perCm)})`);
  put(held.handle, held.now, false);
});
for (const end of ["pointerup", "pointercancel"]) {
  document.addEventListener(end, () => {
    if (held?.now !== undefined) put(held.handle, held.now, true);
    held = null;
  });
}
document.addEventListener("keydown", (e) => {
  const handle = e.target.closest?.("[data-drag]");
  const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 10, PageUp: -10 }[e.key];
  if (!handle || !step) return;
  e.preventDefault();
  const field = document.getElementById(handle.dataset.drag);
  const now = Number(String(field?.value).replace(",", "."));
  put(handle, rounded((Number.isFinite(now) ? now : Number(handle.dataset.cm)) + step), true);
});
