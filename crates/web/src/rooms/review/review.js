// Review: walks the list by keys, moves the strips to what is looked at, and sends verdicts.
import { Strips } from "../../components/strips/strips.js";
import { acts } from "../../shell/keys.js";

const root = document.querySelector("[data-review]");
const token = document.querySelector('meta[name="ebrel-token"]').content;
const drawn = document.querySelector("[data-strips]");
const strips = drawn ? new Strips(drawn) : null;
const items = [...root.querySelectorAll(".item")];
const undone = [];
const picked = new Set();
let current = -1;

function look(index, closer = false) {
  if (!items.length) return;
  current = Math.max(0, Math.min(items.length - 1, index));
  items.forEach((item, i) => {
    item.classList.toggle("active", i === current);
    item.setAttribute("aria-current", String(i === current));
  });
  const item = items[current];
  item.scrollIntoView({ block: "nearest" });
  if (!strips) return;
  strips.show = item.dataset.show;
  strips.goTo({ start: Number(item.dataset.start), end: Number(item.dataset.end), title: item.dataset.title }, closer);
}

async function send(what, body) {
  const answer = await fetch(`/stations/${root.dataset.station}/review/${what}`, {
    method: "POST",
    headers: { "content-type": "application/json", "x-ebrel-token": token },
    body: JSON.stringify(body),
  });
  if (!answer.ok) throw new Error("Ebrel did not take it: reload the page and try again.");
  return answer.json();
}

function say(item, words) {
  const line = item.querySelector(".verdict");
  line.hidden = false;
  line.firstElementChild.textContent = words;
}

function waiting(n) {
  root.querySelector("[data-answer]").textContent = n === 0 ? "Nothing waits for a verdict." : `${n} ${n === 1 ? "thing waits" : "things wait"} for a verdict.`;
  const count = document.querySelector(".top .count");
  if (count) count.textContent = n || "";
}

function pick() {
  const item = items[current];
  if (!item || item.classList.contains("done")) return;
  if (!picked.delete(item)) picked.add(item);
  item.classList.toggle("picked", picked.has(item));
  item.querySelector(".picked-words").hidden = !picked.has(item);
  look(current + 1);
}

/** The verdict on the item that is looked at, or on all that were picked. */
async function decide(verdict) {
  const item = items[current];
  const all = picked.size ? [...picked] : [item];
  if (!item || all.some((i) => i.classList.contains("done"))) return;
  const reason = item.querySelector(".reason");
  try {
    for (const one of all) {
      const outcome = await send("verdict", { flags: one.dataset.flags.split(" ").map(Number), verdict, reason: reason.value });
      one.dataset.verdicts = outcome.verdicts.join(" ");
      one.classList.add("done");
      one.classList.remove("picked");
      one.querySelector(".picked-words").hidden = true;
      picked.delete(one);
      say(one, `${verdict === "left_out" ? "Left out" : "Kept"}${reason.value ? `: ${reason.value}` : ""}`);
      undone.push(one);
      waiting(outcome.waiting);
    }
    const next = items.findIndex((other, i) => i > current && !other.classList.contains("done"));
    if (next >= 0) look(next);
    else strips?.fetch();
  } catch (error) {
    say(item, error.message);
  }
}

async function undo(item) {
  if (!item?.dataset.verdicts) return;
  try {
    const outcome = await send("undo", { verdicts: item.dataset.verdicts.split(" ").map(Number) });
    item.dataset.verdicts = "";
    item.classList.remove("done");
    item.querySelector(".verdict").hidden = true;
    waiting(outcome.waiting);
    const at = items.indexOf(item);
    // What a person saw was nothing but its verdict.
    if (Number(item.dataset.flags) < 0) {
      item.remove();
      items.splice(at, 1);
    }
    look(at);
  } catch (error) {
    say(item, error.message);
  }
}

/** Begins a span of one's own at the cursor, or ends it. */
function span() {
  if (!strips?.data) return;
  if (strips.drawn) strips.end();
  else strips.begin(strips.cursorTime, strips.cursorY, Number(items[current]?.dataset.stream));
}

if (strips) {
  strips.onSpan = (start, end, strip) => {
    const query = new URLSearchParams({ from: Math.round(start), to: Math.round(end) });
    // Twins share a strip: the one that is looked at is meant, if it is among them.
    const own = Number(items[current]?.dataset.stream);
    const channel = strip?.streams.includes(own) ? own : strip?.streams[0];
    if (channel) query.set("channel", channel);
    location.assign(`/stations/${root.dataset.station}/review/mark?${query}`);
  };
}

function writeReason() {
  const field = items[current]?.querySelector(".reason");
  if (!field) return;
  field.hidden = false;
  field.focus();
}

const actions = {
  left_out: () => decide("left_out"), kept: () => decide("kept"), closer: () => look(current, true),
  reason: writeReason, undo: () => undo(items[current]), convince: () => items[current]?.querySelector('a[data-do="convince"]')?.click(),
  speak: () => items[current]?.querySelector('a[data-do="speak"]')?.click(),
};

root.addEventListener("click", (e) => {
  const item = e.target.closest(".item");
  if (!item || e.target.closest("input")) return;
  const todo = e.target.closest("[data-do]")?.dataset.do;
  if (!todo || items.indexOf(item) !== current) look(items.indexOf(item));
  if (todo && todo !== "convince" && todo !== "speak") actions[todo]();
});

root.addEventListener("keydown", (e) => {
  if (!e.target.matches(".reason") || (e.key !== "Enter" && e.key !== "Escape")) return;
  e.preventDefault();
  e.target.blur();
});

document.addEventListener("keydown", (e) => {
  if (!acts(e)) return;
  const keys = { j: () => look(current + 1), k: () => look(current - 1), a: actions.left_out, s: actions.kept, d: actions.closer, r: writeReason, e: actions.convince, o: actions.speak, x: pick, h: span, u: () => undo(undone.pop()) };
  const action = keys[e.key];
  if (!action) return;
  e.preventDefault();
  action();
});

root.querySelector(".filters").addEventListener("change", (e) => {
  const here = new URLSearchParams(location.search);
  ["from", "to", "show"].forEach((name) => here.delete(name));
  here.set(e.target.name, e.target.value);
  location.search = here;
});

if (items.length) look(0);
