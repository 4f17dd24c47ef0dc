// A round of practice: spans are drawn on the strips and named; lists lead to their spans.
import { Strips } from "../../components/strips/strips.js";
import { civil } from "../../components/strips/geometry.js";
import { acts } from "../../shell/keys.js";

const root = document.querySelector("[data-round]");
const drawn = document.querySelector("[data-strips]");
const strips = drawn ? new Strips(drawn) : null;
const form = root.querySelector("[data-mark]");
const items = [...root.querySelectorAll(".item")];
let current = -1;

function look(index) {
  if (!items.length || !strips) return;
  current = Math.max(0, Math.min(items.length - 1, index));
  items.forEach((item, i) => item.classList.toggle("active", i === current));
  const { start, end, title, show } = items[current].dataset;
  items[current].scrollIntoView({ block: "nearest" });
  strips.show = show;
  strips.goTo({ start: Number(start), end: Number(end), title });
}

const two = (n) => String(n).padStart(2, "0");
const typed = (t) => {
  const c = civil(t, 0);
  return `${c.y}-${two(c.m + 1)}-${two(c.d)} ${two(c.h)}:${two(c.min)}`;
};

/** Puts a drawn span into the form; what it is remains to be said. */
function fill(start, end, strip) {
  form.elements.start.value = typed(start);
  form.elements.end.value = typed(end);
  if (strip?.streams?.length) form.elements.channel.value = String(strip.streams[0]);
  form.elements.test.focus();
  form.elements.test.scrollIntoView({ block: "nearest" });
}

function span() {
  if (!strips?.data || !form) return;
  if (strips.drawn) strips.end();
  else strips.begin(strips.cursorTime, strips.cursorY);
}

if (strips && form) {
  strips.onSpan = fill;
  form.elements.test.addEventListener("keydown", (e) => {
    if (e.key !== "Enter" || !e.target.value) return;
    e.preventDefault();
    form.requestSubmit();
  });
}

for (const keeps of root.querySelectorAll("[data-keeps-window]")) {
  keeps.addEventListener("submit", () => {
    if (!strips) return;
    for (const [name, value] of Object.entries({ from: Math.round(strips.from), to: Math.round(strips.to), show: strips.show })) {
      keeps.append(Object.assign(document.createElement("input"), { type: "hidden", name, value }));
    }
  });
}

root.addEventListener("click", (e) => {
  const item = e.target.closest(".item");
  if (item && !e.target.closest("button")) look(items.indexOf(item));
});

document.addEventListener("keydown", (e) => {
  if (!acts(e)) return;
  const action = { j: () => look(current + 1), k: () => look(current - 1), h: span }[e.key];
  if (!action) return;
  e.preventDefault();
  action();
});
