// The station page: section and strips, which grow while the record does.
import { Strips } from "../../components/strips/strips.js";
import { editable } from "./events/events.js";

const strips = new Strips(document.querySelector("[data-strips]"));
editable(strips);
let line = null;

/** Listens for what comes, while somebody looks: a browser keeps few lines to one host. */
function listen() {
  line?.close();
  line = null;
  if (document.hidden) return;
  line = new EventSource(`/stations/${strips.station}/growing`);
  line.addEventListener("message", (event) => strips.grow(JSON.parse(event.data).last + 1));
}

document.addEventListener("visibilitychange", listen);
listen();
