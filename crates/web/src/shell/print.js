// The button that prints a paper.
document.querySelector("[data-print]")?.addEventListener("click", () => window.print());
