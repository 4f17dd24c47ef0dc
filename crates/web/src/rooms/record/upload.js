// Tells of a file that is too large before it is sent.
const form = document.querySelector("form[data-limit]");
const field = form.querySelector("#file");

field.addEventListener("change", () => {
  const file = field.files[0];
  const limit = Number(form.dataset.limit);
  const over = file && file.size > limit;
  const mb = (bytes) => Math.round(bytes / 1048576);
  field.setCustomValidity(over ? `This file has ${mb(file.size)} MB; at most ${mb(limit)} MB can be taken at once. Split it, for instance by year.` : "");
  field.reportValidity();
});
