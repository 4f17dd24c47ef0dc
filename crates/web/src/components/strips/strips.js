// The section and the strips: one window in time, one cursor through all.
import { draw, eventPlaces, layout, rampOf } from "./draw.js";
import { DAY, SPANS, fixed, moment } from "./geometry.js";
import { acts } from "../../shell/keys.js";

const HEIGHT = 560;
const SHORTEST = 6 * 3600;

export class Strips {
  /** @param {HTMLElement} root the element with data-strips */
  constructor(root) {
    this.root = root;
    this.station = root.dataset.station;
    this.first = Number(root.dataset.first);
    this.last = Number(root.dataset.last);
    this.offset = Number(root.dataset.offset);
    this.canvas = root.querySelector("canvas");
    this.record = root.querySelector(".record");
    this.controls = root.previousElementSibling;
    this.data = null;
    this.active = null;
    /** A span that is being drawn by hand: {start, end}; and who takes it when it is done. */
    this.drawn = null;
    this.onSpan = null;
    /** Height on the canvas at which the hand last was: its strip is meant. null: it was not there yet. */
    this.cursorY = null;
    this.asked = 0;
    this.restore();
    this.listen();
    this.resize();
  }

  restore() {
    const q = new URLSearchParams(location.search);
    this.show = q.get("show") ?? "moisture";
    this.to = Number(q.get("to")) || this.last;
    this.from = Number(q.get("from")) || Math.max(this.first, this.to - SPANS.season);
    if (this.from >= this.to) this.from = this.to - SPANS.month;
    this.cursorTime = this.from + (this.to - this.from) * 0.75;
  }

  listen() {
    this.controls.addEventListener("click", (e) => {
      const { span, show, move, zoom } = e.target.dataset;
      if (span) this.span(span);
      if (show) this.choose(show);
      if (move) this.move(Number(move) * 0.5);
      if (zoom) this.zoom(Number(zoom));
    });
    new ResizeObserver(() => this.resize()).observe(this.record);
    document.fonts.ready.then(() => this.paint());
    document.addEventListener("keydown", (e) => this.key(e));
    document.querySelector("[data-open-keys]")?.addEventListener("click", () => this.help());
    this.canvas.addEventListener("wheel", (e) => {
      e.preventDefault();
      if (Math.abs(e.deltaX) > Math.abs(e.deltaY)) this.move(e.deltaX / this.width);
      else this.zoom(e.deltaY > 0 ? 1.25 : 0.8, this.timeAt(e.offsetX));
    }, { passive: false });
    this.canvas.addEventListener("pointerdown", (e) => {
      if (e.shiftKey && this.onSpan) this.begin(this.timeAt(e.offsetX), e.offsetY);
      this.drag = { x: e.clientX, from: this.from, to: this.to };
      this.canvas.setPointerCapture(e.pointerId);
    });
    this.canvas.addEventListener("pointerup", (e) => {
      if (e.shiftKey && this.drawn && Math.abs(e.clientX - this.drag?.x) > 3) this.end();
      this.drag = null;
      this.canvas.classList.remove("dragging");
    });
    this.canvas.addEventListener("pointermove", (e) => {
      if (this.drag && !this.drawn && Math.abs(e.clientX - this.drag.x) > 3) {
        this.canvas.classList.add("dragging");
        const shift = ((this.drag.x - e.clientX) / this.width) * (this.drag.to - this.drag.from);
        this.set(this.drag.from + shift, this.drag.to + shift);
      }
      this.cursorTime = this.timeAt(e.offsetX);
      this.cursorY = e.offsetY;
      this.paint();
    });
  }

  key(e) {
    // Where single keys are switched off, the arrows and their like still act on the record that has the focus.
    const named = e.key.length > 1 && this.record.contains(e.target) && !e.ctrlKey && !e.metaKey && !e.altKey;
    if (!acts(e) && !named) return;
    const spans = [...Object.keys(SPANS), "all"];
    const actions = {
      m: () => this.choose("moisture"), t: () => this.choose("temperature"), b: () => this.choose("both"),
      ArrowLeft: () => this.move(e.shiftKey ? -1 : -0.2), ArrowRight: () => this.move(e.shiftKey ? 1 : 0.2),
      "+": () => this.zoom(0.5), "=": () => this.zoom(0.5), "-": () => this.zoom(2), "−": () => this.zoom(2),
      v: this.station === "0" ? null : () => location.assign(`/stations/${this.station}/readings?at=${Math.round(this.cursorTime)}&show=${this.show === "both" ? "all" : this.show}`),
      ",": () => this.nudge(-1), ".": () => this.nudge(1), "?": () => this.help(),
      Escape: this.drawn ? () => { this.drawn = null; this.paint(); } : null,
      Home: () => this.set(this.first, this.first + this.to - this.from), End: () => this.set(this.last - (this.to - this.from), this.last),
    };
    const action = spans[Number(e.key) - 1] ? () => this.span(spans[Number(e.key) - 1]) : actions[e.key];
    if (!action) return;
    e.preventDefault();
    action();
  }

  help() {
    document.querySelector(".keys-help").showModal();
  }

  timeAt(x) {
    return this.from + (x / this.width) * (this.to - this.from);
  }

  /** Begins a span of one's own: on the strip at some height, or on that of a stream where the hand was on none. */
  begin(time, y, stream) {
    const places = this.data ? layout(this.data, HEIGHT) : [];
    const at = y === null ? places.find((p) => p.strip.streams.includes(stream)) : places.find((p) => y <= p.top + p.height);
    this.drawn = { start: time, strip: (at ?? places[0])?.strip };
    this.paint();
  }

  /** Ends it at the cursor and hands it over. */
  end() {
    const { start, strip } = this.drawn;
    this.drawn = null;
    this.onSpan(Math.min(start, this.cursorTime), Math.max(start, this.cursorTime), strip);
  }

  nudge(columns) {
    this.cursorTime = Math.min(this.to, Math.max(this.from, this.cursorTime + (columns * (this.to - this.from)) / this.width));
    this.paint();
  }

  choose(show) {
    this.show = show;
    this.fetch();
  }

  span(name) {
    if (name === "all") return this.set(this.first, this.last);
    const half = SPANS[name] / 2;
    this.set(this.cursorTime - half, this.cursorTime + half);
  }

  move(windows) {
    const shift = windows * (this.to - this.from);
    this.set(this.from + shift, this.to + shift);
  }

  zoom(factor, around = this.cursorTime) {
    this.set(around - (around - this.from) * factor, around + (this.to - around) * factor);
  }

  /** Sets the window; it stays near the record and is neither too short nor too long. */
  set(from, to) {
    const longest = Math.max(this.last - this.first, SPANS.year) * 1.05;
    const span = Math.min(Math.max(to - from, SHORTEST), longest);
    const middle = (from + to) / 2;
    const low = this.first - span * 0.1, high = this.last + span * 0.1;
    const start = Math.max(low, Math.min(middle - span / 2, high - span));
    this.from = Math.round(start);
    this.to = Math.round(start + span);
    this.cursorTime = Math.min(this.to, Math.max(this.from, this.cursorTime));
    this.paint();
    this.fetch();
  }

  /** Takes a longer record: a window that showed its end goes along with it, any other stays where it is. */
  grow(last) {
    const atEnd = this.to >= this.last - 1 && last > this.last;
    const shift = last - this.last;
    this.last = Math.max(this.last, last);
    this.root.dataset.last = String(this.last);
    if (atEnd) {
      this.cursorTime += shift;
      this.set(this.from + shift, this.to + shift);
    } else this.fetch();
  }

  /** Moves to a flagged span, with as much again on either side, at least a day and a half. */
  goTo(flag, closer = false) {
    this.active = flag;
    const around = closer ? Math.max(flag.end - flag.start, 4 * 3600) * 0.4 : Math.max((flag.end - flag.start) * 1.2, 5 * DAY);
    this.cursorTime = (flag.start + flag.end) / 2;
    this.set(flag.start - around, flag.end + around);
  }

  resize() {
    const left = this.canvas.offsetLeft;
    this.width = Math.max(120, Math.floor(this.record.clientWidth - left));
    const ratio = window.devicePixelRatio || 1;
    this.canvas.width = this.width * ratio;
    this.canvas.height = HEIGHT * ratio;
    this.canvas.style.width = `${this.width}px`;
    this.canvas.style.height = `${HEIGHT}px`;
    this.record.style.height = `${HEIGHT}px`;
    this.canvas.getContext("2d").setTransform(ratio, 0, 0, ratio, 0, 0);
    if (this.data?.columns !== this.width) this.fetch();
    this.paint();
  }

  /** Asks for the window once the hand rests; the newest answer counts. */
  fetch() {
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.load(), this.data ? 60 : 0);
  }

  async load() {
    const number = ++this.asked;
    const busy = this.root.querySelector(".busy");
    const late = setTimeout(() => (busy.hidden = false), 250);
    const query = new URLSearchParams({ from: Math.round(this.from), to: Math.round(this.to), columns: this.width, show: this.show });
    try {
      const answer = await fetch(`${this.root.dataset.window}?${query}`);
      if (!answer.ok) throw new Error(String(answer.status));
      const data = await answer.json();
      if (number !== this.asked) return;
      this.data = data;
      busy.textContent = "reading…";
      query.delete("columns");
      const here = new URLSearchParams(location.search);
      query.forEach((v, k) => here.set(k, v));
      history.replaceState(null, "", `?${here}`);
      this.readouts();
      this.paint();
      this.root.dataset.loaded = String(number);
    } catch {
      if (number === this.asked) busy.textContent = "no answer from Ebrel: move the window to try again";
      return;
    } finally {
      clearTimeout(late);
      if (number === this.asked && this.data) busy.hidden = busy.textContent === "reading…";
    }
  }

  /** Depth, value and what is beside, left of each strip, and the leads from the probes. */
  readouts() {
    const places = layout(this.data, HEIGHT);
    const box = this.root.querySelector(".readouts");
    box.replaceChildren(...places.map(({ strip, top, height }) => {
      const div = document.createElement("div");
      div.className = height > 80 ? "readout" : "readout compact";
      div.style.top = `${top + Math.max(0, height / 2 - (height > 80 ? 26 : 19))}px`;
      for (const part of ["depth-label", "value", "more"]) div.append(Object.assign(document.createElement("span"), { className: part }));
      div.firstChild.textContent = strip.label;
      div.dataset.strip = strip.id;
      div.title = [strip.what, strip.note].filter(Boolean).join(": ");
      return div;
    }));
    this.leads(places);
  }

  leads(places) {
    const svg = this.root.querySelector(".leads");
    svg.setAttribute("height", HEIGHT);
    svg.replaceChildren();
    for (const probe of this.root.querySelectorAll(".probe")) {
      const [, station, depth] = /^(\d+)\/[^@]*@(.*)$/.exec(probe.dataset.strip);
      const beside = (id) => id.startsWith(`${station}/`) && id.endsWith(`@${depth}`);
      const place = places.find((p) => p.strip.id === probe.dataset.strip) ?? places.find((p) => beside(p.strip.id));
      if (!place) continue;
      const path = document.createElementNS("http://www.w3.org/2000/svg", "path");
      const y = place.top + place.height / 2, end = this.canvas.offsetLeft < 110 ? 24 : 32;
      path.setAttribute("d", `M-4 ${probe.dataset.y}C${end * 0.6} ${probe.dataset.y} ${end * 0.3} ${y} ${end} ${y}`);
      path.setAttribute("stroke", rampOf(Number(depth)));
      svg.append(path);
    }
  }

  view() {
    const x = ((this.cursorTime - this.from) / (this.to - this.from)) * this.width;
    return { width: this.width, height: HEIGHT, offset: this.offset, from: this.from, to: this.to, cursor: Math.round(x), active: this.active, drawn: this.drawn && { ...this.drawn, end: this.cursorTime } };
  }

  /** The events whose letter lies at a place of the canvas; none elsewhere. */
  eventsAt(x, y) {
    const near = (p) => Math.abs(p.x - x) <= 10 && y >= p.top - 2 && y <= p.top + 18;
    return this.data ? eventPlaces(this.data, this.view()).find(near)?.events ?? [] : [];
  }

  paint() {
    if (this.data) {
      draw(this.canvas.getContext("2d"), this.data, this.view());
      this.values();
    }
    this.words();
  }

  /** Values under the cursor in readouts and probes. */
  values() {
    const d = this.data;
    const i = Math.floor(((this.cursorTime - d.from) / (d.to - d.from)) * d.columns);
    for (const strip of d.strips) {
      const div = this.root.querySelector(`.readout[data-strip="${strip.id}"]`);
      if (!div) continue;
      const line = strip.lines.find((l) => l.mean[i] != null);
      const value = line ? line.mean[i] * strip.step : null;
      div.children[1].textContent = value === null ? "–" : fixed(value, strip.decimals);
      const more = [];
      if (line?.band[i] != null) more.push(`±${fixed(line.band[i] * strip.step, 3)}`);
      if (strip.beside[i] != null) more.push(`${fixed(strip.beside[i] / 10, 1)} °C`);
      if (strip.raw) more.push(`${strip.unit}, raw`);
      else if (!more.length) more.push(strip.unit);
      div.children[2].textContent = more.slice(0, 2).join("\n");
      div.children[2].style.whiteSpace = "pre";
      const probe = this.root.querySelector(`.probe[data-strip="${strip.id}"]`);
      const share = value === null || strip.raw ? 0 : Math.min(1, Math.max(0, value / Number(probe?.dataset.pores ?? 1)));
      probe?.querySelector(".water").setAttribute("width", (89 * share).toFixed(1));
    }
    const line = [moment(this.cursorTime, this.offset)];
    if (d.air[i] != null) line.push(`air ${fixed(d.air[i] / 10, 1)} °C`);
    const column = (d.to - d.from) / d.columns;
    const told = (d.events ?? []).filter((e) => this.cursorTime >= e.start - 5 * column && this.cursorTime <= e.end + 5 * column);
    this.root.nextElementSibling.textContent = told.map((e) => `${e.mark} ${moment(e.start, this.offset)}, ${e.words}`).join(" · ");
    this.root.querySelector(".cursor-time").textContent = line.join("\n");
    clearTimeout(this.saying);
    this.saying = setTimeout(() => this.say(), 400);
  }

  /** The values at the cursor in words, for those who do not see the strips. */
  say() {
    const each = [...this.root.querySelectorAll(".readout")].map((r) => `${r.children[0].textContent} ${r.children[1].textContent} ${r.children[2].textContent.replace("\n", ", ")}`);
    this.root.querySelector("[data-cursor-words]").textContent = `${moment(this.cursorTime, this.offset)}: ${each.join("; ")}`;
  }

  words() {
    const span = this.to - this.from;
    const near = Object.entries(SPANS).find(([, s]) => Math.abs(span / s - 1) < 0.02)?.[0] ?? (span >= (this.last - this.first) * 0.98 ? "all" : "");
    this.controls.querySelectorAll("[data-span]").forEach((b) => b.setAttribute("aria-pressed", String(b.dataset.span === near)));
    this.controls.querySelectorAll("[data-show]").forEach((b) => b.setAttribute("aria-pressed", String(b.dataset.show === this.show)));
    this.controls.querySelector(".window-words").textContent = `${moment(this.from, this.offset)} – ${moment(this.to, this.offset)}`;
  }
}
