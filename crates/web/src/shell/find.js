// The key / leads to the field that finds a probe or a station, from any page.
import { acts } from "./keys.js";

document.addEventListener("keydown", (e) => {
  const field = document.querySelector("[data-find]");
  if (e.key !== "/" || !field || !acts(e)) return;
  e.preventDefault();
  field.focus();
  field.select();
});
