// Events on the strips: told, corrected and gone to from where they are drawn.
import { acts } from "../../../shell/keys.js";
import { civil } from "../../../components/strips/geometry.js";

/** Lets events of a station be told and corrected over its strips. @param {import("../../../components/strips/strips.js").Strips} strips */
export function editable(strips) {
  const dialog = document.querySelector("[data-event-dialog]");
  const form = dialog?.querySelector("form");
  const field = (name) => form.elements.namedItem(name);
  const two = (n) => String(n).padStart(2, "0");
  const typed = (t) => {
    const c = civil(t, strips.offset);
    return `${c.y}-${two(c.m + 1)}-${two(c.d)} ${two(c.h)}:${two(c.min)}`;
  };

  /** Opens the form: for a new event at the cursor, or for one that is corrected. */
  function form_of(event) {
    form.reset();
    const fields = event
      ? { event: event.id, revision: event.revision, kind: event.kind, start: typed(event.start), end: event.end > event.start ? typed(event.end) : "",
          amount: event.amount ?? "", unit: event.unit, note: event.note }
      : { event: "", revision: "", start: typed(Math.round(strips.cursorTime / 60) * 60) };
    for (const [name, value] of Object.entries({ ...fields, from: Math.round(strips.from), to: Math.round(strips.to) })) field(name).value = value;
    dialog.querySelector("h2").textContent = event ? "Correct an event" : "Tell an event";
    dialog.querySelector("[data-save]").textContent = event ? "Correct it" : "Keep it";
    dialog.querySelector("[data-event-page]").hidden = !event;
    dialog.showModal();
    field(event ? "start" : "kind").focus();
  }

  /** One that was told by hand is corrected here; several, and what came of a log, are seen on the page of events. */
  function open(events) {
    if (dialog && events.length === 1 && events[0].by_hand) form_of(events[0]);
    else location.assign(`/stations/${strips.station}/events`);
  }

  /** Moves the cursor to the next event on one side, and the window with it. */
  function go(forward) {
    const all = strips.data?.events ?? [];
    const next = forward ? all.find((e) => e.start > strips.cursorTime + 1) : all.findLast((e) => e.start < strips.cursorTime - 1);
    if (!next) return strips.move(forward ? 0.8 : -0.8);
    strips.cursorTime = next.start;
    strips.paint();
  }

  function under() {
    const column = (strips.to - strips.from) / strips.width;
    return (strips.data?.events ?? []).filter((e) => strips.cursorTime >= e.start - 5 * column && strips.cursorTime <= e.end + 5 * column);
  }

  document.addEventListener("keydown", (e) => {
    if (!acts(e)) return;
    const actions = {
      e: () => (dialog ? form_of(null) : false), n: () => go(true), N: () => go(false),
      Enter: () => strips.record.contains(e.target) && under().length && open(under()),
    };
    if (!actions[e.key] || actions[e.key]() === false) return;
    if (e.key !== "Enter") e.preventDefault();
  });
  let down = null;
  strips.canvas.addEventListener("pointerdown", (e) => (down = e.clientX));
  strips.canvas.addEventListener("pointerup", (e) => {
    const events = Math.abs(e.clientX - down) < 4 ? strips.eventsAt(e.offsetX, e.offsetY) : [];
    if (events.length) open(events);
  });
  strips.canvas.addEventListener("pointermove", (e) => {
    strips.canvas.classList.toggle("over-event", strips.eventsAt(e.offsetX, e.offsetY).length > 0);
  });
  document.querySelector("[data-tell-event]")?.addEventListener("click", (e) => {
    e.preventDefault();
    form_of(null);
  });
  if (dialog) {
    const close = dialog.querySelector("[data-close]");
    close.hidden = false;
    close.addEventListener("click", () => dialog.close());
  }
}
