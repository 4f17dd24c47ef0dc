// The round as it is walked, north up: where one is, where one was, where one goes next.
import { svg } from "./ui.js";

const SIZE = 300, EDGE = 26;

/** The walk past the points whose place is known, with the one at `here` marked; null where there are none. `read` says whether a
 * point has its value. */
export function walk(installed, here, read) {
  const points = installed.map((p, i) => ({ ...p, turn: i })).filter((p) => p.at);
  if (points.length < 2) return null;
  const reach = (axis) => [Math.min(...points.map((p) => p.at[axis])), Math.max(...points.map((p) => p.at[axis]))];
  const [[west, east], [south, north]] = [reach(0), reach(1)];
  const scale = (SIZE - 2 * EDGE) / Math.max(east - west, north - south, 1);
  const height = Math.round((north - south) * scale + 2 * EDGE);
  const x = (p) => EDGE + (p.at[0] - west) * scale, y = (p) => EDGE + (north - p.at[1]) * scale;
  const line = points.map((p) => `${x(p).toFixed(1)},${y(p).toFixed(1)}`).join(" ");
  const mark = (p) => svg("g", { class: p.turn === here ? "here" : read(p) ? "read" : "" },
    svg("circle", { cx: x(p).toFixed(1), cy: y(p).toFixed(1), r: p.turn === here ? 15 : 11 }),
    svg("text", { x: x(p).toFixed(1), y: (y(p) + 5).toFixed(1), "text-anchor": "middle" }, String(p.turn + 1)));
  const words = `The round, north up: ${points.length} points; this is point ${here + 1}, ${installed[here].label}`;
  return svg("svg", { viewBox: `0 0 ${SIZE} ${height}`, class: "walk", role: "img", "aria-label": words },
    svg("polyline", { points: line }), ...points.map(mark));
}
