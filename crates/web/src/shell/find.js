// The key / leads to the field that finds a probe or a station, from any page.
document.addEventListener("keydown", (e) => {
  if (e.key !== "/" || e.ctrlKey || e.altKey || e.metaKey || e.target.matches("input, textarea, select, [contenteditable]")) return;
  const field = document.querySelector("[data-find]");
  if (!field) return;
  e.preventDefault();
  field.focus();
  field.select();
});
