// A table that is wider than its place scrolls in a frame of its own, which the keyboard reaches.

/** Puts a table into its frame. */
function frame(table) {
  if (table.closest(".frame, .table-responsive, .scroll, dialog")) return;
  const frame = document.createElement("div");
  frame.className = "frame";
  table.replaceWith(frame);
  frame.append(table);
  watch.observe(frame);
}

/** Only a frame that scrolls is a stop for the Tab key. */
function measure(frame) {
  if (frame.scrollWidth > frame.clientWidth + 1) {
    frame.tabIndex = 0;
    frame.setAttribute("role", "group");
    frame.setAttribute("aria-label", frame.querySelector("caption")?.textContent || frame.querySelector("table")?.getAttribute("aria-label") || "Table, scrolls sideways");
  } else {
    for (const name of ["tabindex", "role", "aria-label"]) frame.removeAttribute(name);
  }
}

const watch = new ResizeObserver((entries) => entries.forEach((e) => measure(e.target)));
const main = document.getElementById("main");
const all = () => main.querySelectorAll("table").forEach(frame);
all();
main.querySelectorAll(".table-responsive").forEach((f) => watch.observe(f));
// Parts of a page come anew as one types.
new MutationObserver(all).observe(main, { childList: true, subtree: true });
