// Tells of files that are too large before they are sent.
const form = document.querySelector("form[data-limit]");
const field = form.querySelector("#file");

field.addEventListener("change", () => {
  const size = [...field.files].reduce((sum, file) => sum + file.size, 0);
  const limit = Number(form.dataset.limit);
  const mb = (bytes) => Math.round(bytes / 1048576);
  const what = field.files.length > 1 ? "These files have" : "This file has";
  const how = field.files.length > 1 ? "Send them in parts" : "Split it, for instance by year, or pack it (.gz)";
  field.setCustomValidity(size > limit ? `${what} ${mb(size)} MB; at most ${mb(limit)} MB can be taken at once. ${how}.` : "");
  field.reportValidity();
});
