// Rows of fields named LIST.NUMBER.FIELD: blocks pasted from a spreadsheet, keys along a column, a new row at the end.

const NAMED = /^(\w+)\.(\d+)\.(.+)$/;

/** A copy of the last row of a table that grows, without what was typed in it. */
function extend(table) {
  const last = table.querySelector(":scope > [data-row]:last-child");
  const [, list, number] = NAMED.exec(`${last.dataset.row}x`);
  const next = document.createElement("template");
  next.innerHTML = last.outerHTML.replaceAll(`"${list}.${number}.`, `"${list}.${Number(number) + 1}.`);
  const row = next.content.firstElementChild;
  for (const field of row.querySelectorAll("input")) {
    if (field.type === "checkbox") field.removeAttribute("checked");
    else field.removeAttribute("value");
    field.classList.remove("is-invalid");
    field.setAttribute("aria-label", (field.getAttribute("aria-label") ?? "").replace(/\d+/, Number(number) + 2));
  }
  for (const part of row.querySelectorAll("[data-live]")) part.replaceChildren();
  table.append(row);
}

/** Keeps an empty row at the end of the table of a field. */
export function grow(field) {
  const row = field.closest("[data-rows] > [data-row]");
  if (row && !row.nextElementSibling && field.value) extend(row.parentElement);
}

/** The field above or below in a table that grows: null at its ends, undefined where the key does not move along a column. */
export function column(event) {
  const step = { Enter: 1, ArrowDown: 1, ArrowUp: -1 }[event.key];
  const named = NAMED.exec(event.target.name ?? "");
  if (!step || !named || named[3] === "why" || !event.target.closest("[data-rows]")) return undefined;
  return document.getElementById(`${named[1]}.${Number(named[2]) + step}.${named[3]}`);
}

/** Takes a block of cells into fields from where it is pasted; false if it is one cell alone. */
export function paste(event, form) {
  const text = event.clipboardData.getData("text/plain").replace(/\r/g, "").replace(/\n+$/, "");
  const named = NAMED.exec(event.target.name ?? "");
  if (!named || !/[\t\n]/.test(text)) return false;
  const [, list, number] = named;
  const fields = [...form.querySelectorAll(`input[name^="${list}.${number}."]:not([type=hidden], [type=checkbox])`)];
  // Columns that are not shown are passed over.
  const names = fields.filter((f) => f.offsetParent).map((f) => NAMED.exec(f.name)[3]);
  const first = names.indexOf(named[3]);
  text.split("\n").forEach((line, i) => {
    line.split(/\t|;/).forEach((cell, j) => {
      const name = `${list}.${Number(number) + i}.${names[first + j]}`;
      const table = event.target.closest("[data-rows]");
      if (table && names[first + j] && !document.getElementById(name)) extend(table);
      const field = document.getElementById(name);
      if (field && names[first + j]) field.value = cell.trim();
      if (field) grow(field);
    });
  });
  return true;
}
