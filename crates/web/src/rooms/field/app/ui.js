// Small things of the page: elements, times, numbers as people type them.

/** An element with attributes and children; what begins with "on" listens. */
export function h(tag, attributes = {}, ...children) {
  const node = document.createElement(tag);
  for (const [name, value] of Object.entries(attributes)) {
    if (value === undefined || value === null || value === false) continue;
    if (name.startsWith("on")) node.addEventListener(name.slice(2), value);
    else if (name in node && name !== "list" && name !== "for") node[name] = value;
    else node.setAttribute(name, value === true ? "" : value);
  }
  node.append(...children.flat().filter((c) => c !== null && c !== undefined && c !== false));
  return node;
}

/** An element of a drawing. */
export function svg(tag, attributes, ...children) {
  const node = document.createElementNS("http://www.w3.org/2000/svg", tag);
  for (const [name, value] of Object.entries(attributes)) node.setAttribute(name, value);
  node.append(...children);
  return node;
}

/** A number as people type it; null for an empty field, NaN for what is no number. */
export function number(text) {
  const tidy = text.trim().replace("−", "-").replace(",", ".");
  return tidy === "" ? null : Number(tidy);
}

export function clock(seconds, offsetMinutes = 0) {
  return new Date((seconds + offsetMinutes * 60) * 1000).toISOString().slice(11, 16);
}

export function day(seconds, offsetMinutes = 0) {
  return new Date((seconds + offsetMinutes * 60) * 1000).toISOString().slice(0, 10);
}

/** A labelled field; `options` are suggestions. */
export function field(label, input, unit) {
  return h("label", { className: "f" }, h("span", {}, label), h("span", { className: "in" }, input, unit ? h("span", { className: "unit" }, unit) : null));
}

export const input = (attributes) => h("input", { autocomplete: "off", ...attributes });
export const figure = (attributes) => input({ inputMode: "decimal", ...attributes });

/** A large button. */
export function button(words, onclick, className = "") {
  return h("button", { type: "button", className, onclick }, words);
}

/** Says something at a place, at once and for a reader of the screen. */
export function says(text, className = "") {
  return h("p", { className: `says ${className}`, role: "status" }, text);
}
