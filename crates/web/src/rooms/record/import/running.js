// Tells how far an import is until it is done, and shows its report then.
const bar = document.getElementById("bar");
const far = document.getElementById("far");
const pace = document.getElementById("pace");
const grouped = (n) => n.toString().replace(/\B(?=(\d{3})+$)/g, "\u202f");

async function look() {
  try {
    const is = await (await fetch(bar.dataset.progress)).json();
    if (is.done) return location.reload();
    bar.value = is.lines;
    const what = is.ending ? "Ending after this piece" : "Being stored";
    far.textContent = `${what}: ${grouped(is.lines)} of ${grouped(is.all)} lines.`;
    pace.textContent = `${grouped(is.per_second)} lines a second.`;
  } catch {
    pace.textContent = "No connection to Ebrel; asking again.";
  }
  setTimeout(look, 700);
}

setTimeout(look, 300);
