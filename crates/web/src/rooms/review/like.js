// All like this: the boxes that are ticked are what the verdict is for.
const form = document.querySelector("[data-like]");
const chosen = form.querySelector("[data-chosen]");
const ones = [...form.querySelectorAll("[data-one]")];

function note() {
  chosen.value = ones.filter((box) => box.checked).map((box) => box.value).join(" ");
}

form.querySelector("[data-all]").addEventListener("change", (e) => {
  ones.forEach((box) => { box.checked = e.target.checked; });
  note();
});
ones.forEach((box) => box.addEventListener("change", note));
note();
