// The face of the open hole, drawn as it is entered: what is seen on the left, what was planned on the right, to one scale.
import { svg } from "./ui.js";

const WIDTH = 300, HEIGHT = 260, SAME_CM = 3;

/** How a horizon differs from its plan; empty where it does not. The same limits as `core::field::differences`: where the hole
 * ends within a horizon (`deepest`), that is no boundary. */
export function otherwise(seen, layers, deepest) {
  const plan = layers.find((l) => l.name.toLowerCase() === seen.name.toLowerCase());
  if (!plan) return "not in the plan";
  const bottom = seen.bottom_cm >= deepest ? Math.max(seen.bottom_cm, plan.span_cm[1]) : seen.bottom_cm;
  if (Math.abs(plan.span_cm[1] - bottom) > SAME_CM) return `plan: to ${plan.span_cm[1]} cm`;
  const other = seen.texture && plan.texture && plan.texture.toLowerCase() !== seen.texture.toLowerCase();
  return other ? `plan: ${plan.texture}` : "";
}

export function face(seen, pack) {
  const deepest = Math.max(20, ...seen.map((d) => d.bottom_cm), ...pack.layers.map((l) => l.span_cm[1]));
  const y = (cm) => 8 + (cm / deepest) * (HEIGHT - 16);
  const column = (x, rows, className) => rows.flatMap(({ name, top, bottom, differs }, i) => {
    const box = svg("rect", { x, y: y(top), width: 118, height: Math.max(1, y(bottom) - y(top)), class: `soil tone${(i % 4) + 1} ${className}${differs ? " differs" : ""}` });
    const room = y(bottom) - y(top) > 18;
    return room ? [box, svg("text", { x: x + 8, y: (y(top) + y(bottom)) / 2 + 6 }, name)] : [box];
  });
  const ticks = [0, deepest / 2, deepest].map((cm) => svg("text", { x: 32, y: y(cm) + (cm === 0 ? 10 : 5), class: "cm", "text-anchor": "end" }, String(Math.round(cm))));
  const end = Math.max(0, ...seen.map((d) => d.bottom_cm));
  const rows = seen.map((d) => ({ name: d.name, top: d.top_cm, bottom: d.bottom_cm, differs: otherwise(d, pack.layers, end) }));
  const planned = pack.layers.map((l) => ({ name: l.name, top: l.span_cm[0], bottom: l.span_cm[1] }));
  const words = `The face: ${seen.length} horizons seen, ${pack.layers.length} planned`;
  const drawing = svg("svg", { viewBox: `0 0 ${WIDTH} ${HEIGHT + 22}`, class: "face", role: "img", "aria-label": words },
    ...column(40, rows, "seen"), ...column(172, planned, "planned"), ...ticks,
    svg("text", { x: 99, y: HEIGHT + 16, "text-anchor": "middle" }, "seen"), svg("text", { x: 231, y: HEIGHT + 16, "text-anchor": "middle" }, "planned"));
  return drawing;
}
