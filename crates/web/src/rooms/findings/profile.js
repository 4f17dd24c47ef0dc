// The profile through time: depth downwards, time to the right, one ramp from dry (light) to wet (dark).
import { SPANS, fixed, moment, timeTicks } from "../../components/strips/geometry.js";

/** The ramp: its lightness falls evenly, so that it reads in black and white. */
const RAMP = [[246, 240, 222], [206, 205, 190], [150, 178, 184], [95, 143, 163], [52, 100, 128], [28, 56, 82]];
const RAIN = 42;
const LEFT = 4;

/** @param {number} share 0 to 1 @returns {number[]} red, green, blue */
function colour(share) {
  const at = Math.min(Math.max(share, 0), 1) * (RAMP.length - 1);
  const i = Math.min(Math.floor(at), RAMP.length - 2);
  return RAMP[i].map((c, k) => Math.round(c + (RAMP[i + 1][k] - c) * (at - i)));
}

/** Round steps for about n lines between two values. */
function steps(low, high, n) {
  const rough = (high - low) / n;
  const power = 10 ** Math.floor(Math.log10(rough));
  const step = [1, 2, 5, 10].map((m) => m * power).find((s) => s >= rough) ?? rough;
  const all = [];
  for (let v = Math.ceil(low / step) * step; v <= high && all.length < 20; v += step) all.push(v);
  return all;
}

class Profile {
  /** @param {HTMLElement} root the element with data-profile */
  constructor(root) {
    this.root = root;
    const d = root.dataset;
    [this.station, this.what] = [d.station, d.what];
    [this.first, this.last, this.offset] = [Number(d.first), Number(d.last), Number(d.offset)];
    [this.surface, this.height] = [Number(d.surface), Number(d.height)];
    this.canvas = root.querySelector("canvas.section-canvas");
    this.asked = 0;
    const q = new URLSearchParams(location.search);
    this.to = Number(q.get("to")) || this.last;
    this.from = Number(q.get("from")) || Math.max(this.first, this.to - SPANS.year);
    this.cursor = null;
    this.silent = false;
    this.keep();
    this.listen();
    this.load();
  }

  listen() {
    document.addEventListener("click", (e) => {
      const { span, move, zoom } = e.target.dataset ?? {};
      if (span) this.set(span === "all" ? this.first : this.to - SPANS[span], this.to);
      if (move) this.move(Number(move) * 0.5);
      if (zoom) this.zoom(Number(zoom));
    });
    this.canvas.addEventListener("pointermove", (e) => this.point(e.offsetX));
    this.canvas.addEventListener("pointerdown", (e) => this.point(e.offsetX));
    this.canvas.addEventListener("keydown", (e) => {
      const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
      if (by && e.shiftKey) this.move(by * 0.5);
      else if (by) this.point((this.cursor ?? this.width / 2) + by * 4);
      else if (e.key === "+") this.zoom(0.5);
      else if (e.key === "-") this.zoom(2);
      else return;
      e.preventDefault();
    });
    new ResizeObserver(() => this.load()).observe(this.canvas);
    document.fonts.ready.then(() => this.paint());
  }

  move(share) {
    const by = (this.to - this.from) * share;
    this.set(this.from + by, this.to + by);
  }

  zoom(by) {
    const middle = (this.from + this.to) / 2;
    const half = Math.max((this.to - this.from) * by, 86400) / 2;
    this.set(middle - half, middle + half);
  }

  set(from, to) {
    const length = Math.min(Math.max(to - from, 86400), this.last - this.first);
    this.to = Math.round(Math.min(Math.max(to, this.first + length), this.last));
    this.from = Math.round(this.to - length);
    const url = new URL(location.href);
    url.searchParams.set("from", this.from);
    url.searchParams.set("to", this.to);
    history.replaceState(null, "", url);
    this.keep();
    this.load();
  }

  /** What else can be shown is shown of the same time. */
  keep() {
    for (const link of document.querySelectorAll("a[data-what]")) {
      const url = new URL(link.href);
      url.searchParams.set("from", this.from);
      url.searchParams.set("to", this.to);
      link.href = url.href;
    }
  }

  async load() {
    const box = this.canvas.getBoundingClientRect();
    if (box.width < 50) return;
    this.width = box.width;
    const columns = Math.min(Math.max(Math.floor((box.width - LEFT) / 2), 50), 700);
    const asked = ++this.asked;
    const query = `from=${this.from}&to=${this.to}&columns=${columns}&what=${this.what}`;
    const address = `/stations/${this.station}/findings/profile.json?${query}`;
    const answer = await fetch(address).catch(() => null);
    const data = answer?.ok ? await answer.json().catch(() => null) : null;
    if (asked !== this.asked) return;
    this.data = data;
    this.silent = answer === null;
    const said = this.root.querySelector("[data-values]");
    said.textContent = this.silent ? "Ebrel does not answer: move the window to ask again." : "";
    const words = document.querySelector("[data-window-words]");
    if (words) words.textContent = `${moment(this.from, this.offset)} – ${moment(this.to, this.offset)}`;
    this.root.querySelector("a[data-readings]").href =
      `/stations/${this.station}?from=${this.from}&to=${this.to}&show=${this.what === "temperature" ? "temperature" : "moisture"}`;
    this.paint();
    this.root.dataset.loaded = String(asked);
  }

  /** Height of a depth, px: as in the section beside it. */
  y(cm) {
    const deepest = Math.max(20, ...this.data.rows.map((r) => r.depth));
    const bottom = Math.max(deepest * 1.2 + 2, 25);
    return this.surface + (cm / bottom) * (this.height - this.surface - 12);
  }

  x(column) {
    return LEFT + (column / this.data.columns) * (this.width - LEFT);
  }

  time(x) {
    return this.from + ((x - LEFT) / (this.width - LEFT)) * (this.to - this.from);
  }

  value(row, column) {
    const v = row.mean[column];
    return v === null ? null : v / 10 ** this.data.decimals;
  }

  range() {
    let [low, high] = [Infinity, -Infinity];
    for (const row of this.data.rows) {
      for (let i = 0; i < this.data.columns; i++) {
        const v = this.value(row, i);
        if (v !== null) [low, high] = [Math.min(low, v), Math.max(high, v)];
      }
    }
    return low < high ? [low, high] : [low - 1, high + 1];
  }

  paint() {
    const ratio = devicePixelRatio || 1;
    this.canvas.width = Math.round(this.width * ratio);
    this.canvas.height = Math.round(this.height * ratio);
    const c = this.canvas.getContext("2d");
    c.scale(ratio, ratio);
    c.font = "12px 'Atkinson Hyperlegible Mono', monospace";
    const style = getComputedStyle(document.documentElement);
    const ink = style.getPropertyValue("--ink");
    c.clearRect(0, 0, this.width, this.height);
    if (!this.data || this.data.rows.length === 0) {
      c.fillStyle = ink;
      c.fillText(this.silent ? "No answer." : "Nothing is believed in this time.", 20, 80);
      return;
    }
    const [low, high] = this.range();
    this.hatch(c, style.getPropertyValue("--line"));
    this.cells(c, low, high);
    this.isolines(c, low, high, ink);
    this.rain(c, style.getPropertyValue("--water"));
    this.frost(c, ink);
    this.fronts(c, style.getPropertyValue("--clay"));
    for (const row of this.data.rows) {
      const y = this.y(row.depth);
      c.fillStyle = ink;
      c.fillRect(LEFT - 4, y - 0.5, 8, 1);
    }
    this.axis(c, ink);
    this.legend(low, high);
    if (this.cursor !== null) {
      c.strokeStyle = ink;
      c.lineWidth = 1;
      c.beginPath();
      c.moveTo(this.cursor, 0);
      c.lineTo(this.cursor, this.height);
      c.stroke();
    }
  }

  /** Where nothing is known: hatched all over first, what is known is painted on it. */
  hatch(c, line) {
    const top = this.surface;
    c.save();
    c.beginPath();
    c.rect(LEFT, top, this.width - LEFT, this.height - 12 - top);
    c.clip();
    c.strokeStyle = line;
    c.lineWidth = 1;
    for (let x = -this.height; x < this.width; x += 7) {
      c.beginPath();
      c.moveTo(x, this.height);
      c.lineTo(x + this.height, 0);
      c.stroke();
    }
    c.restore();
  }

  cells(c, low, high) {
    const { rows, columns } = this.data;
    for (let k = 0; k + 1 < rows.length; k++) {
      const [top, bottom] = [this.y(rows[k].depth), this.y(rows[k + 1].depth)];
      for (let i = 0; i < columns; i++) {
        const [a, b] = [this.value(rows[k], i), this.value(rows[k + 1], i)];
        if (a === null || b === null) continue;
        const shade = (v) => `rgb(${colour((v - low) / (high - low)).join(" ")})`;
        const [x, next] = [this.x(i), this.x(i + 1)];
        const fill = c.createLinearGradient(0, top, 0, bottom);
        for (let s = 0; s <= 4; s++) fill.addColorStop(s / 4, shade(a + ((b - a) * s) / 4));
        c.fillStyle = fill;
        c.fillRect(x, top, next - x + 0.4, bottom - top + 0.4);
      }
    }
    if (rows.length !== 1) return;
    for (let i = 0; i < columns; i++) {
      const v = this.value(rows[0], i);
      if (v === null) continue;
      c.fillStyle = `rgb(${colour((v - low) / (high - low)).join(" ")})`;
      c.fillRect(this.x(i), this.y(rows[0].depth) - 6, this.x(i + 1) - this.x(i) + 0.4, 12);
    }
  }

  isolines(c, low, high, ink) {
    const { rows, columns } = this.data;
    c.strokeStyle = ink;
    c.globalAlpha = 0.45;
    c.lineWidth = 0.8;
    for (const iso of steps(low, high, 6)) {
      for (let k = 0; k + 1 < rows.length; k++) {
        let before = null;
        c.beginPath();
        for (let i = 0; i < columns; i++) {
          const [a, b] = [this.value(rows[k], i), this.value(rows[k + 1], i)];
          const crosses = a !== null && b !== null && a !== b && (a - iso) * (b - iso) <= 0;
          const y = crosses ? this.y(rows[k].depth + ((iso - a) / (b - a)) * (rows[k + 1].depth - rows[k].depth)) : null;
          const x = (this.x(i) + this.x(i + 1)) / 2;
          if (y !== null && before !== null) c.lineTo(x, y);
          else if (y !== null) c.moveTo(x, y);
          before = y;
        }
        c.stroke();
      }
    }
    c.globalAlpha = 1;
  }

  rain(c, water) {
    const most = Math.max(1, ...this.data.rain.map((v) => v ?? 0));
    c.fillStyle = water;
    this.data.rain.forEach((mm, i) => {
      if (mm) c.fillRect(this.x(i), 0, Math.max(this.x(i + 1) - this.x(i), 1), Math.max((mm / most) * (RAIN - 6), 0.7));
    });
    if (this.data.rain.length) c.fillText(`rain, up to ${fixed(most / 10, 1)} mm`, LEFT + 6, RAIN - 4);
  }

  frost(c, ink) {
    c.strokeStyle = ink;
    c.lineWidth = 2;
    c.setLineDash([2, 3]);
    c.beginPath();
    let on = false;
    this.data.frost.forEach((tenths, i) => {
      const x = (this.x(i) + this.x(i + 1)) / 2;
      if (tenths === null) on = false;
      else {
        const y = this.y(tenths / 10);
        if (on) c.lineTo(x, y);
        else c.moveTo(x, y);
        on = true;
      }
    });
    c.stroke();
    c.setLineDash([]);
  }

  fronts(c, clay) {
    c.strokeStyle = clay;
    c.fillStyle = clay;
    c.lineWidth = 1.6;
    for (const front of this.data.fronts) {
      c.beginPath();
      front.points.forEach(([t, cm], i) => {
        const [x, y] = [LEFT + ((t - this.from) / (this.to - this.from)) * (this.width - LEFT), this.y(cm)];
        if (i) c.lineTo(x, y);
        else c.moveTo(x, y);
      });
      c.stroke();
      for (const [t, cm] of front.points) {
        c.beginPath();
        c.arc(LEFT + ((t - this.from) / (this.to - this.from)) * (this.width - LEFT), this.y(cm), 3, 0, 2 * Math.PI);
        c.fill();
      }
    }
  }

  axis(c, ink) {
    c.fillStyle = ink;
    for (const { t, text } of timeTicks(this.from, this.to, this.offset, Math.max(2, Math.floor(this.width / 90)))) {
      const x = LEFT + ((t - this.from) / (this.to - this.from)) * (this.width - LEFT);
      c.fillText(text, Math.min(Math.max(x - c.measureText(text).width / 2, LEFT), this.width - c.measureText(text).width), this.height - 1);
      c.fillRect(x, this.height - 14, 1, 3);
    }
  }

  legend(low, high) {
    const ramp = this.root.querySelector("canvas[data-ramp]");
    const c = ramp.getContext("2d");
    for (let x = 0; x < ramp.width; x++) {
      c.fillStyle = `rgb(${colour(x / (ramp.width - 1)).join(" ")})`;
      c.fillRect(x, 0, 1, ramp.height);
    }
    const percent = this.what === "saturation";
    const words = (v) => (percent ? fixed(v * 100, 0) : fixed(v, Math.min(this.data.decimals, 2)));
    this.root.querySelector("[data-low]").textContent = words(low);
    this.root.querySelector("[data-high]").textContent = words(high);
  }

  point(x) {
    if (!this.data) return;
    this.cursor = Math.min(Math.max(x, LEFT), this.width - 1);
    const column = Math.min(Math.floor(((this.cursor - LEFT) / (this.width - LEFT)) * this.data.columns), this.data.columns - 1);
    const percent = this.what === "saturation";
    const { decimals } = this.data;
    const said = this.data.rows.map((row) => {
      const v = this.value(row, column);
      const half = row.half[column];
      this.fill(row, v);
      if (v === null) return `${row.depth} cm: gap`;
      const shown = percent ? `${fixed(v * 100, 0)} %` : fixed(v, decimals);
      const band = half ? ` ± ${percent ? fixed((half / 10 ** decimals) * 100, 0) : fixed(half / 10 ** decimals, decimals)}` : "";
      return `${row.depth} cm: ${shown}${band}`;
    });
    const near = this.data.fronts.find((f) => f.points.some(([t]) => Math.abs(t - this.time(this.cursor)) < (this.to - this.from) / 60));
    const front = near ? ` · front: ${near.words}` : "";
    this.root.querySelector("[data-values]").textContent =
      `${moment(this.time(this.cursor), this.offset)} · ${said.join(" · ")}${front}`;
    this.paint();
  }

  /** Fills the probe of the section. */
  fill(row, v) {
    const probe = this.root.querySelector(`[data-strip="${CSS.escape(row.strip)}"]`);
    const share = v === null ? 0 : this.what === "saturation" ? v : v / (row.pores || 0.5);
    const water = this.what === "moisture" || this.what === "saturation" ? Math.min(Math.max(share, 0), 1) : 0;
    probe?.querySelector(".water")?.setAttribute("width", String(89 * water));
  }
}

for (const root of document.querySelectorAll("[data-profile]")) new Profile(root);
