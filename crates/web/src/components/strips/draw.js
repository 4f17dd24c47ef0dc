// Draws strips, rain, flags and the cursor on one canvas.
import { fixed, range, timeTicks, valueTicks } from "./geometry.js";

export const RAMP = ["#c08a3e", "#9a6233", "#6b4a3a", "#3f4347"];
const INK = "#22302b", SOFT = "#5d5c50", LINE = "#d8d0bd", SHEET = "#fbf8f1", WATER = "#2e6f8e", CLAY = "#a8461f", MOSS = "#3d6b4a";
const MONO = "12px 'Atkinson Hyperlegible Mono', monospace";
export const RAIN_HEIGHT = 44;
/** Height of the row of events, where there are any in the window. */
const EVENTS = 20;
const AXIS = 20, GAP = 8;
/** Height of a strip's own line of words above its plot, so that none lies over a curve. */
const WORDS = 17;

export const rampOf = (depth) => (depth === null ? SOFT : RAMP[depth < 10 ? 0 : depth < 22 ? 1 : depth < 45 ? 2 : 3]);

/** Where each strip lies: [{strip, top, height}] */
export function layout(data, height) {
  const n = Math.max(1, data.strips.length);
  const head = RAIN_HEIGHT + (data.events?.length ? EVENTS : 0);
  const each = (height - head - AXIS - GAP * (n - 1)) / n;
  return data.strips.map((strip, i) => ({ strip, top: head + i * (each + GAP), height: each }));
}

/**
 * @param {CanvasRenderingContext2D} ctx @param {object} data answer of the server
 * @param {{width: number, height: number, offset: number, from: number, to: number, cursor: number|null, active: object|null}} view
 */
export function draw(ctx, data, view) {
  ctx.clearRect(0, 0, view.width, view.height);
  const x = (t) => ((t - view.from) / (view.to - view.from)) * view.width;
  rain(ctx, data, view, x);
  for (const place of layout(data, view.height)) strip(ctx, data, place, view, x);
  for (const place of eventPlaces(data, view)) event(ctx, place, view);
  axis(ctx, view, x);
  if (view.drawn) {
    const [left, right] = [x(view.drawn.start), x(view.drawn.end)].sort((a, b) => a - b);
    const place = layout(data, view.height).find((p) => p.strip.id === view.drawn.strip?.id);
    ctx.fillStyle = "rgba(61, 107, 74, .18)";
    ctx.fillRect(left, place?.top ?? 0, Math.max(1, right - left), place?.height ?? view.height - AXIS);
  }
  if (view.cursor !== null) {
    ctx.setLineDash([3, 3]);
    ctx.strokeStyle = INK;
    ctx.beginPath();
    ctx.moveTo(view.cursor + 0.5, 0);
    ctx.lineTo(view.cursor + 0.5, view.height - AXIS);
    ctx.stroke();
    ctx.setLineDash([]);
  }
}

/**
 * Where the letters of events stand: [{events, left, right, x, top}]. Those that would lie over each other share one.
 */
export function eventPlaces(data, view) {
  const x = (t) => ((t - view.from) / (view.to - view.from)) * view.width;
  const places = [];
  for (const e of data.events ?? []) {
    const left = x(e.start), right = x(e.end);
    const at = Math.min(Math.max(left, 9), view.width - 9);
    const last = places.at(-1);
    if (last && at - last.x < 18) {
      last.events.push(e);
      last.right = Math.max(last.right, right);
    } else if (right >= 0 && left <= view.width) places.push({ events: [e], left, right, x: at, top: RAIN_HEIGHT });
  }
  return places;
}

function event(ctx, { events, left, right, x, top }, view) {
  const [first] = events;
  const colour = first.kind === "irrigation" ? WATER : first.kind === "treatment" ? MOSS : SOFT;
  ctx.strokeStyle = colour;
  ctx.setLineDash([1, 3]);
  ctx.beginPath();
  for (const edge of right - left > 3 ? [left, right] : [left]) {
    if (edge < 0 || edge > view.width) continue;
    ctx.moveTo(Math.round(edge) + 0.5, top + EVENTS - 3);
    ctx.lineTo(Math.round(edge) + 0.5, view.height - AXIS);
  }
  ctx.stroke();
  ctx.setLineDash([]);
  ctx.fillStyle = colour;
  if (right - left > 3) ctx.fillRect(left, top + EVENTS - 5, right - left, 2);
  ctx.beginPath();
  ctx.arc(x, top + 8, 7.5, 0, 2 * Math.PI);
  ctx.fill();
  ctx.font = "700 11px 'Atkinson Hyperlegible Mono', monospace";
  ctx.textAlign = "center";
  ctx.fillStyle = SHEET;
  ctx.fillText(events.length > 1 ? String(Math.min(events.length, 9)) : first.mark, x, top + 12);
}

const columnX = (data, x) => (i) => x(data.from + ((data.to - data.from) * i) / data.columns);

function rain(ctx, data, view, x) {
  ctx.strokeStyle = LINE;
  ctx.beginPath();
  ctx.moveTo(0, 0.5);
  ctx.lineTo(view.width, 0.5);
  ctx.stroke();
  if (!data.rain.length) return;
  const cx = columnX(data, x);
  const most = Math.max(20, ...data.rain.map((v) => v ?? 0));
  ctx.fillStyle = WATER;
  data.rain.forEach((v, i) => {
    if (v) ctx.fillRect(cx(i), 1, Math.max(1, cx(i + 1) - cx(i)), Math.max(1, (v / most) * (RAIN_HEIGHT - 8)));
  });
  ctx.font = MONO;
  ctx.fillStyle = SOFT;
  ctx.textAlign = "right";
  const minutes = (data.to - data.from) / data.columns / 60;
  const per = minutes < 90 ? `${Math.round(minutes)} min` : minutes < 2880 ? `${Math.round(minutes / 60)} h` : `${Math.round(minutes / 1440)} d`;
  ctx.fillText(`rain, longest bar ${fixed(most / 10, 1)} mm in ${per}`, view.width - 4, RAIN_HEIGHT - 4);
}

function strip(ctx, data, place, view, x) {
  const { strip, top, height } = place;
  ctx.fillStyle = SHEET;
  ctx.fillRect(0, top, view.width, height);
  const spans = data.flags.filter((f) => f.strip === strip.id);
  const second = (i) => data.from + ((data.to - data.from) * i) / data.columns;
  const flagged = new Uint8Array(data.columns);
  for (const f of spans.filter((f) => f.grade !== "condition")) {
    const first = Math.max(0, Math.floor(((f.start - data.from) / (data.to - data.from)) * data.columns));
    const last = Math.min(data.columns - 1, Math.floor(((f.end - data.from) / (data.to - data.from)) * data.columns));
    flagged.fill(1, first, last + 1);
  }
  const scale = range(strip, (i) => flagged[i] === 1);
  ctx.strokeStyle = LINE;
  ctx.strokeRect(0.5, Math.round(top) + 0.5, view.width - 1, Math.round(height) - 1);
  ctx.font = MONO;
  if (!scale) {
    ctx.fillStyle = SOFT;
    ctx.textAlign = "center";
    ctx.fillText("no readings in this window", view.width / 2, top + height / 2);
    return;
  }
  const plot = { top: top + WORDS, height: height - WORDS - 3 };
  const y = (v) => plot.top + plot.height - ((v - scale.low) / (scale.high - scale.low)) * plot.height;
  const ticks = valueTicks(scale.low, scale.high, plot.height / 28);
  for (const tick of ticks) {
    ctx.strokeStyle = "#e8e1d0";
    ctx.beginPath();
    ctx.moveTo(1, Math.round(y(tick.v)) + 0.5);
    ctx.lineTo(view.width - 1, Math.round(y(tick.v)) + 0.5);
    ctx.stroke();
  }
  const roomy = height > 80 && view.width > 500;
  const full = roomy && strip.pores !== null && strip.pores < scale.high && strip.pores > scale.low;
  if (full) {
    ctx.strokeStyle = WATER;
    ctx.setLineDash([8, 4]);
    ctx.beginPath();
    ctx.moveTo(0, y(strip.pores));
    ctx.lineTo(view.width, y(strip.pores));
    ctx.stroke();
    ctx.setLineDash([]);
  }
  caption(ctx, strip, place, roomy);
  ctx.save();
  ctx.beginPath();
  ctx.rect(0, plot.top, view.width, plot.height);
  ctx.clip();
  spans.forEach((f) => hatch(ctx, f, place, view, x));
  strip.lines.forEach((line, i) => lineOf(ctx, data, strip, line, i, x, y, plot.top, plot.height, second));
  spans.forEach((f) => mark(ctx, f, place, view, x));
  strip.by_hand.forEach((hand) => byHand(ctx, hand, x, y));
  ctx.restore();
  // The two ends of the strip always have their value; others stand where there is room between them.
  const ends = [[scale.high, plot.top], [scale.low, plot.top + plot.height]];
  ends.forEach(([v, at], i) => plate(ctx, fixed(v, strip.decimals), view.width - 5, at + (i ? -2 : 11), SOFT));
  const clear = (at) => at > plot.top + 26 && at < plot.top + plot.height - 15;
  for (const tick of ticks.filter((t) => clear(y(t.v)))) plate(ctx, tick.text, view.width - 5, y(tick.v) - 3, SOFT);
  if (full) plate(ctx, "all pores full", view.width - 60, y(strip.pores) < plot.top + 18 ? y(strip.pores) + 13 : y(strip.pores) - 4, WATER);
}

/** What was measured by hand: a ring with what it may err. */
function byHand(ctx, [t, value, half], x, y) {
  ctx.strokeStyle = INK;
  ctx.lineWidth = 1.5;
  if (half !== null) {
    ctx.beginPath();
    ctx.moveTo(x(t), y(value - half));
    ctx.lineTo(x(t), y(value + half));
    ctx.stroke();
  }
  ctx.fillStyle = SHEET;
  ctx.beginPath();
  ctx.arc(x(t), y(value), 4, 0, 2 * Math.PI);
  ctx.fill();
  ctx.stroke();
  ctx.lineWidth = 1;
}

/** Words on a plate of paper, right aligned, so that no line runs through them. */
function plate(ctx, text, right, base, colour) {
  ctx.font = MONO;
  ctx.textAlign = "right";
  const width = ctx.measureText(text).width;
  ctx.fillStyle = "rgba(251, 248, 241, .92)";
  ctx.fillRect(right - width - 2, base - 11, width + 4, 14);
  ctx.fillStyle = colour;
  ctx.fillText(text, right, base);
}

function caption(ctx, strip, place, roomy) {
  const words = `${strip.what}, ${strip.unit}`;
  ctx.font = "12px 'Atkinson Hyperlegible Next', sans-serif";
  ctx.textAlign = "left";
  const width = ctx.measureText(words).width;
  ctx.fillStyle = strip.raw ? CLAY : SOFT;
  ctx.fillText(words, 7, place.top + 14);
  if (strip.lines.length > 1 && strip.depth === null) {
    ctx.fillText(strip.lines.map((l, i) => `${i ? "┄" : "─"} ${l.label}`).join("   "), width + 24, place.top + 14);
  }
  if (roomy && strip.lines.some((l) => l.beyond.length)) {
    ctx.fillStyle = SOFT;
    ctx.fillText("pale: beyond the calibration's samples", width + 24, place.top + 14);
  }
}

function lineOf(ctx, data, strip, line, index, x, y, top, height, second) {
  const colour = strip.depth === null ? (index ? CLAY : INK) : rampOf(strip.depth);
  const at = (i) => x(second(i + 0.5));
  const step = strip.step;
  if (line.band.length) {
    ctx.fillStyle = colour;
    ctx.globalAlpha = 0.18;
    eachRun(line.mean, (a, b) => {
      ctx.beginPath();
      for (let i = a; i <= b; i++) ctx.lineTo(at(i), y((line.mean[i] + (line.band[i] ?? 0)) * step));
      for (let i = b; i >= a; i--) ctx.lineTo(at(i), y((line.mean[i] - (line.band[i] ?? 0)) * step));
      ctx.fill();
    });
    ctx.globalAlpha = 1;
  }
  const beyond = new Uint8Array(data.columns);
  line.beyond.forEach(([a, b]) => beyond.fill(1, a, b + 1));
  ctx.strokeStyle = colour;
  ctx.lineWidth = 1.4;
  ctx.setLineDash(index ? [4, 3] : []);
  // The smallest and the largest value of each column, so that no spike is averaged away.
  eachRun(line.mean, (a, b) => {
    for (let i = a; i <= b; i++) {
      ctx.globalAlpha = beyond[i] ? 0.45 : 1;
      ctx.beginPath();
      if (i > a) ctx.moveTo(at(i - 1), y(line.mean[i - 1] * step));
      ctx.lineTo(at(i), y(line.mean[i] * step));
      if (a === b) dot(ctx, at(i), y(line.mean[i] * step), colour);
      ctx.moveTo(at(i), y(line.min[i] * step));
      ctx.lineTo(at(i), y(line.max[i] * step));
      ctx.stroke();
    }
  });
  ctx.globalAlpha = 1;
  ctx.setLineDash([]);
  ctx.lineWidth = 1;
  edges(ctx, line, step, at, y, top, height);
}

/** A reading that stands alone, as of a weekly round. */
function dot(ctx, x, y, colour) {
  ctx.fillStyle = colour;
  ctx.arc(x, y, 2.2, 0, 2 * Math.PI);
  ctx.fill();
  ctx.beginPath();
}

/** What lies beyond the drawn range is marked at the edge, never clipped in silence. */
function edges(ctx, line, step, at, y, top, height) {
  ctx.fillStyle = CLAY;
  let last = -20;
  for (let i = 0; i < line.mean.length; i++) {
    if (line.mean[i] === null || at(i) - last < 9) continue;
    const above = y(line.max[i] * step) < top, below = y(line.min[i] * step) > top + height;
    if (!above && !below) continue;
    last = at(i);
    const tip = above ? top + 1 : top + height - 1, base = above ? tip + 8 : tip - 8;
    ctx.beginPath();
    ctx.moveTo(last - 4.5, base);
    ctx.lineTo(last + 4.5, base);
    ctx.lineTo(last, tip);
    ctx.fill();
  }
}

function eachRun(values, each) {
  let start = -1;
  for (let i = 0; i <= values.length; i++) {
    const has = i < values.length && values[i] !== null;
    if (has && start < 0) start = i;
    if (!has && start >= 0) {
      each(start, i - 1);
      start = -1;
    }
  }
}

function extent(f, x) {
  const a = x(f.start), b = x(f.end);
  return b - a < 6 ? [(a + b) / 2 - 3, 6] : [a, b - a];
}

function hatch(ctx, f, place, view, x) {
  const [left, width] = extent(f, x);
  if (left > view.width || left + width < 0) return;
  const active = view.active && view.active.start === f.start && view.active.end === f.end && view.active.title === f.title;
  const colour = f.verdict === "kept" ? "#3d6b4a" : f.verdict === "left_out" ? SOFT : f.grade === "condition" ? WATER : CLAY;
  ctx.save();
  ctx.beginPath();
  ctx.rect(left, place.top, width, place.height);
  ctx.clip();
  ctx.globalAlpha = active ? 0.25 : 0.1;
  ctx.fillStyle = colour;
  ctx.fillRect(left, place.top, width, place.height);
  ctx.globalAlpha = 0.55;
  ctx.strokeStyle = colour;
  ctx.beginPath();
  const from = Math.max(left, -place.height) - place.height, until = Math.min(left + width, view.width);
  for (let s = Math.floor(from / 7) * 7; s < until; s += 7) {
    ctx.moveTo(s, place.top + place.height);
    ctx.lineTo(s + place.height, place.top);
  }
  ctx.stroke();
  ctx.restore();
  ctx.strokeStyle = colour;
  ctx.lineWidth = active ? 2 : 1;
  ctx.strokeRect(left, place.top + 1, width, place.height - 2);
  ctx.lineWidth = 1;
}

function mark(ctx, f, place, view, x) {
  const [left, width] = extent(f, x);
  const middle = Math.min(Math.max(left + width / 2, 8), view.width - 8);
  if (left > view.width || left + width < 0) return;
  ctx.font = "700 12px 'Atkinson Hyperlegible Mono', monospace";
  ctx.textAlign = "center";
  ctx.fillStyle = "rgba(251, 248, 241, .9)";
  ctx.fillRect(middle - 6, place.top + 20, 12, 14);
  ctx.fillStyle = f.grade === "condition" ? WATER : f.verdict ? SOFT : CLAY;
  ctx.fillText(f.mark, middle, place.top + 31);
}

function axis(ctx, view, x) {
  ctx.font = MONO;
  ctx.fillStyle = SOFT;
  ctx.strokeStyle = LINE;
  for (const tick of timeTicks(view.from, view.to, view.offset, Math.max(2, view.width / 90))) {
    const left = x(tick.t);
    ctx.beginPath();
    ctx.moveTo(left + 0.5, view.height - AXIS - 4);
    ctx.lineTo(left + 0.5, view.height - AXIS);
    ctx.stroke();
    ctx.textAlign = left < 22 ? "left" : left > view.width - 26 ? "right" : "center";
    ctx.fillText(tick.text, left, view.height - 5);
  }
}
