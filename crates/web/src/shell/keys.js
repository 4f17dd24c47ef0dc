// Commands of a single key: they never act where somebody types, and can be switched off for this browser.
const NAME = "ebrel-single-keys";

/** Whether a key may act as a command. */
export function acts(e) {
  return localStorage.getItem(NAME) !== "off" && !e.ctrlKey && !e.metaKey && !e.altKey
    && !e.target.closest?.("input, textarea, select, [contenteditable], dialog[open]");
}

for (const box of document.querySelectorAll("[data-single-keys]")) {
  box.checked = localStorage.getItem(NAME) !== "off";
  box.addEventListener("change", () => localStorage.setItem(NAME, box.checked ? "on" : "off"));
}
