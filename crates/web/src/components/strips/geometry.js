// Pure helpers of the strips: scales, ticks, words. No document, no state.

export const DAY = 86400;
export const SPANS = { day: DAY, week: 7 * DAY, month: 30 * DAY, season: 91 * DAY, year: 365.25 * DAY };

const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
const two = (n) => String(n).padStart(2, "0");

/** A time in the study's offset as its calendar parts. @param {number} t @param {number} offset minutes */
export function civil(t, offset) {
  const d = new Date((t + offset * 60) * 1000);
  return { y: d.getUTCFullYear(), m: d.getUTCMonth(), d: d.getUTCDate(), h: d.getUTCHours(), min: d.getUTCMinutes() };
}

/** "24 Jun 2026 02:15" */
export function moment(t, offset) {
  const c = civil(t, offset);
  return `${c.d} ${MONTHS[c.m]} ${c.y} ${two(c.h)}:${two(c.min)}`;
}

/** A number with a true minus. */
export function fixed(value, decimals) {
  return value.toFixed(decimals).replace("-", "−").replace(/^−(0(\.0*)?)$/, "$1");
}

/** Ticks of a time axis: [{t, text}], whole days, months or years of the study's offset. */
export function timeTicks(from, to, offset, most) {
  const span = to - from;
  const hours = [3, 6, 12].find((h) => span / (h * 3600) <= most);
  if (hours) return even(from, to, offset, hours * 3600, (c) => (c.h === 0 ? `${c.d} ${MONTHS[c.m]}` : `${two(c.h)}:00`));
  const days = [1, 2, 5, 7, 14].find((d) => span / (d * DAY) <= most);
  if (days) return even(from, to, offset, days * DAY, (c) => `${c.d} ${MONTHS[c.m]}`);
  const months = [1, 2, 3, 6, 12, 24, 60].find((m) => span / (m * 30.4 * DAY) <= most) ?? 120;
  const ticks = [];
  const start = civil(from, offset);
  for (let i = start.y * 12 + start.m; ; i++) {
    const t = Date.UTC(Math.floor(i / 12), i % 12, 1) / 1000 - offset * 60;
    if (t > to) return ticks;
    if (t >= from && i % months === 0) {
      const c = civil(t, offset);
      ticks.push({ t, text: c.m === 0 || months >= 12 ? String(c.y) : MONTHS[c.m] });
    }
  }
}

function even(from, to, offset, step, text) {
  const ticks = [];
  for (let t = Math.ceil((from + offset * 60) / step) * step - offset * 60; t <= to; t += step) ticks.push({ t, text: text(civil(t, offset)) });
  return ticks;
}

/** Three to five round numbers within a range. */
export function valueTicks(low, high, most) {
  const rough = (high - low) / Math.max(1, Math.min(5, most));
  const power = 10 ** Math.floor(Math.log10(rough));
  const step = [1, 2, 5, 10].map((m) => m * power).find((s) => s >= rough) ?? rough;
  const ticks = [];
  for (let v = Math.ceil(low / step - 1e-9) * step; v <= high + 1e-9 * step; v += step) ticks.push(v);
  const decimals = Math.max(0, -Math.floor(Math.log10(step) + 1e-9));
  return ticks.map((v) => ({ v, text: fixed(v, decimals) }));
}

/**
 * The range a strip is drawn in, with what was measured by hand. Columns under a flag do not stretch it: what lies beyond is marked at
 * the edge.
 * @param {object} strip @param {(column: number) => boolean} flagged
 */
export function range(strip, flagged) {
  let low = Infinity, high = -Infinity;
  for (const pass of [flagged, () => false]) {
    for (const line of strip.lines) {
      for (let i = 0; i < line.mean.length; i++) {
        if (line.mean[i] === null || pass(i)) continue;
        low = Math.min(low, line.min[i]);
        high = Math.max(high, line.max[i]);
      }
    }
    if (low <= high) break;
  }
  if (low > high) return null;
  const hands = strip.by_hand.map(([, value]) => value);
  low = Math.min(low * strip.step, ...hands);
  high = Math.max(high * strip.step, ...hands);
  const span = Math.max(high - low, strip.least_span);
  const middle = (low + high) / 2;
  return { low: middle - span * 0.58, high: middle + span * 0.58 };
}
