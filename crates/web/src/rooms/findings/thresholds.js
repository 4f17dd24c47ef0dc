// A file of rows is put into the field, where it is seen and corrected before it is kept.

const file = document.querySelector("[data-rows-file]");
const rows = document.getElementById("rows");

if (file && rows) {
  file.closest("[hidden]")?.removeAttribute("hidden");
  file.addEventListener("change", async () => {
    const chosen = file.files[0];
    if (!chosen) return;
    rows.value = (await chosen.text()).replace(/^\uFEFF/, "");
    rows.focus();
  });
}
