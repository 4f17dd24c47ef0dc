// A reading judged by the table that came with the pack: the same steps in the same order as `core::field::judge`.

const figure = (value, digits) => {
  const text = value.toFixed(digits);
  return /^-0(\.0*)?$/.test(text) ? text.slice(1) : text.replace("-", "−");
};

/** The value of a reading on the table's scale: straight between its points, the end's line beyond. */
export function valueOf(limits, raw) {
  const scale = limits.scale, n = scale.length;
  if (n < 2) return null;
  let i = 1;
  while (i < n - 1 && scale[i][0] < raw) i += 1;
  const [x0, y0] = scale[i - 1], [x1, y1] = scale[i];
  return y0 + ((y1 - y0) * (raw - x0)) / (x1 - x0);
}

const ORDERS = {
  go_on: "Go on.",
  press: "Press it home and read it three times more.",
  wait: "Wait ten minutes and read it again.",
  pull: "Pull it, clean the prongs, and push it in again without wobble.",
  move: "Move it a hand's breadth into fresh soil.",
  plug: "Look at the plug, the port and the wires.",
};

/** Judges repeats; `beside` is the nearest probe that was read: {place, value}. */
export function judge(limits, repeats, beside) {
  if (!repeats.length || !repeats.every(Number.isFinite)) return null;
  let sum = 0, least = repeats[0], most = repeats[0];
  for (const r of repeats) {
    sum += r;
    if (r < least) least = r;
    if (r > most) most = r;
  }
  const raw = sum / repeats.length;
  const value = valueOf(limits, raw);
  const off = value !== null && beside ? Math.abs(value - beside.value) : null;
  const figures = { raw, spread: most - least, value, off };
  const speaks = limits.rules.find((rule) => {
    const f = figures[rule.of];
    return f !== null && ((rule.low !== null && f < rule.low) || (rule.high !== null && f > rule.high));
  });
  const rawDigits = limits.raw_decimals, digits = limits.decimals;
  const words = {
    raw: figure(raw, rawDigits),
    spread: figure(most - least, rawDigits),
    value: value === null ? "" : figure(value, digits),
    off: off === null ? "" : figure(off, digits),
    other: beside?.place ?? "",
  };
  const [verdict, does, says] = speaks ? [speaks.verdict, speaks.does, speaks.says] : ["good", "go_on", limits.good];
  return { verdict, does, value, says: `${says.replace(/\{(\w+)\}/g, (_, key) => words[key])} ${ORDERS[does]}` };
}
