// The curve of one channel over frames: its keys dragged in time and value, their handles, the
// readings.

import {svg} from "../ui/draw.js";

const LEFT = 62,
  RIGHT = 14,
  TOP = 12,
  BOTTOM = 22,
  HANDLE_PX = 42;

export class Graph {
  constructor(app, root) {
    Object.assign(this, {app, root, chosen: new Set(), held: null, range: null});
    root.addEventListener("pointerdown", event => this.#grab(event));
    root.addEventListener("pointermove", event => this.#drag(event));
    for (const name of ["pointerup", "pointercancel"])
      root.addEventListener(name, () => this.#let());
    root.addEventListener("dblclick", event => this.#add(event));
    new ResizeObserver(() => this.draw()).observe(root);
  }

  get channel() {
    return this.app.channel;
  }

  get keys() {
    return this.app.authored.curves[this.channel] || [];
  }

  /** Over which numbers the curve goes: frames, or of a speed seconds or metres. */
  get across() {
    const {made, authored} = this.app;
    if (this.channel !== "speed") return [authored.first, authored.last];
    const over = made.speed_over || [0, 10];
    return [over[0], over.at(-1)];
  }

  #x(at) {
    const [low, high] = this.across;
    return LEFT + ((at - low) / (high - low || 1)) * (this.width - LEFT - RIGHT);
  }

  #y(value) {
    const [low, high] = this.range;
    return this.height - BOTTOM - ((value - low) / (high - low)) * (this.height - TOP - BOTTOM);
  }

  /** Pixels to a place in time and a value. */
  #back(event) {
    const box = this.root.getBoundingClientRect(),
      [low, high] = this.across,
      [bottom, top] = this.range,
      x = event.clientX - box.left,
      y = event.clientY - box.top;
    return [
      low + ((x - LEFT) / (this.width - LEFT - RIGHT)) * (high - low),
      bottom + ((this.height - BOTTOM - y) / (this.height - TOP - BOTTOM)) * (top - bottom),
    ];
  }

  #fit(values) {
    let low = Math.min(...values),
      high = Math.max(...values);
    const {channels, readings} = this.app.data,
      {unit} = channels[this.channel] || readings[this.app.reading];
    const least = {m: 0.5, "°": 5, mm: 2}[unit] ?? 0.5;
    if (high - low < least) {
      const middle = (low + high) / 2;
      low = middle - least / 2;
      high = middle + least / 2;
    }
    const free = 0.12 * (high - low);
    this.range = [low - free, high + free];
  }

  draw() {
    const {made, data} = this.app;
    this.width = this.root.clientWidth;
    this.height = this.root.clientHeight;
    if (!this.width || !made) return;
    const {reading} = this.app,
      values = reading
        ? made.readings[reading] || [0]
        : made.curves[this.channel] || [data.channels[this.channel].usual],
      keys = this.keys;
    if (!this.held) this.#fit([...values, ...keys.map(key => key[1])]);
    this.root.setAttribute("viewBox", `0 0 ${this.width} ${this.height}`);
    this.root.replaceChildren();
    this.#axes();
    const [low, high] = this.across,
      many = values.length - 1 || 1,
      points = values.map((value, i) => {
        const at =
          this.channel === "speed" && made.speed_over
            ? made.speed_over[i]
            : low + (i / many) * (high - low);
        return `${this.#x(at).toFixed(1)} ${this.#y(value).toFixed(1)}`;
      });
    svg("path", {d: `M${points.join("L")}`, class: "line"}, this.root);
    for (const [from, to] of (reading && made.exceeded[reading]) || []) {
      const part = points.slice(from, to + 1);
      svg("path", {d: `M${part.join("L")}h0.1`, class: "beyond"}, this.root);
    }
    if (this.channel !== "speed") {
      const x = this.#x(this.app.frame);
      svg("path", {d: `M${x} ${TOP}V${this.height - BOTTOM}`, class: "playhead"}, this.root);
    }
    keys.forEach((key, i) => this.#key(key, i));
  }

  #axes() {
    const {channels, readings} = this.app.data,
      {unit} = channels[this.channel] || readings[this.app.reading],
      [bottom, top] = this.range,
      [low, high] = this.across;
    for (const share of [0, 0.5, 1]) {
      const value = bottom + share * (top - bottom),
        y = this.#y(value);
      svg("path", {d: `M${LEFT} ${y}H${this.width - RIGHT}`, class: "rule"}, this.root);
      const text = svg("text", {x: LEFT - 6, y: y + 4, "text-anchor": "end"}, this.root);
      text.textContent = `${value.toFixed(2)}${share === 1 ? ` ${unit}` : ""}`;
    }
    for (const [at, anchor] of [
      [low, "start"],
      [high, "end"],
    ]) {
      const text = svg(
        "text",
        {x: this.#x(at), y: this.height - 6, "text-anchor": anchor},
        this.root,
      );
      text.textContent =
        this.channel === "speed"
          ? `${at.toFixed(1)} ${this.app.authored.by === "distance" ? "m" : "s"}`
          : Math.round(at);
    }
  }

  #key(key, index) {
    const [frame, value, kind, before, after] = key,
      x = this.#x(frame),
      y = this.#y(value),
      chosen = this.chosen.has(index);
    if (chosen && kind === "free")
      for (const [side, slope] of [
        [-1, before],
        [1, after],
      ]) {
        const [hx, hy] = this.#handle(x, y, side, slope);
        svg("path", {d: `M${x} ${y}L${hx} ${hy}`, class: "handle-line"}, this.root);
        svg(
          "circle",
          {cx: hx, cy: hy, r: 5, class: "handle", "data-side": side, "data-key": index},
          this.root,
        );
      }
    svg(
      "rect",
      {
        x: x - 5,
        y: y - 5,
        width: 10,
        height: 10,
        class: chosen ? "key chosen" : "key",
        "data-key": index,
      },
      this.root,
    );
    const said = svg("title", {}, this.root.lastChild);
    said.textContent = `${frame}: ${value.toFixed(3)}, ${kind}`;
  }

  /** Where a handle of a slope is drawn, so many pixels from its key. */
  #handle(x, y, side, slope) {
    const [low, high] = this.across,
      perFrame = (this.width - LEFT - RIGHT) / (high - low || 1),
      perValue = (this.height - TOP - BOTTOM) / (this.range[1] - this.range[0]),
      dy = (-slope * perValue) / perFrame,
      long = Math.hypot(1, dy);
    return [x + (side * HANDLE_PX) / long, y + (side * dy * HANDLE_PX) / long];
  }

  chooseAll() {
    this.chosen = new Set(this.keys.keys());
    this.app.chose();
    this.draw();
  }

  #grab(event) {
    const {key, side} = event.target.dataset ?? {};
    if (key === undefined && event.shiftKey) {
      const {left, top} = this.root.getBoundingClientRect();
      this.held = {
        corner: [event.clientX - left, event.clientY - top],
        chosen: new Set(this.chosen),
      };
    } else if (key === undefined) {
      if (this.channel !== "speed") {
        this.held = {scrubs: true};
        this.app.show(Math.round(this.#back(event)[0]));
      }
      this.chosen.clear();
    } else {
      const index = +key;
      if (event.shiftKey)
        this.chosen.has(index) ? this.chosen.delete(index) : this.chosen.add(index);
      else if (!this.chosen.has(index)) this.chosen = new Set([index]);
      this.held = {
        side: side && +side,
        index,
        from: this.#back(event),
        keys: structuredClone(this.keys),
      };
    }
    this.root.setPointerCapture(event.pointerId);
    this.app.chose();
    this.draw();
  }

  #drag(event) {
    if (!this.held) return;
    if (this.held.corner) return this.#box(event);
    const at = this.#back(event);
    if (this.held.scrubs) return this.app.show(Math.round(at[0]));
    const {keys, from, side, index} = this.held;
    if (side) {
      const key = keys[index],
        wide = at[0] - key[0];
      if (side * wide <= 1e-6) return;
      const slope = (at[1] - key[1]) / wide;
      this.keys[index][side < 0 ? 3 : 4] = slope;
      // A handle without Alt keeps its opposite in line.
      if (!event.altKey) this.keys[index][side < 0 ? 4 : 3] = slope;
    } else {
      let frames = at[0] - from[0];
      if (this.channel !== "speed") frames = Math.round(frames);
      const value = event.shiftKey ? 0 : at[1] - from[1];
      for (const i of this.chosen) {
        this.keys[i][0] = keys[i][0] + frames;
        this.keys[i][1] = keys[i][1] + value;
      }
    }
    this.held.moved = true;
    this.app.changed();
  }

  /** Choose the keys in the box that is dragged, beside those that were chosen before. */
  #box(event) {
    const {left, top} = this.root.getBoundingClientRect(),
      [x0, y0] = this.held.corner,
      [x1, y1] = [event.clientX - left, event.clientY - top],
      [x, y] = [Math.min(x0, x1), Math.min(y0, y1)],
      [width, height] = [Math.abs(x1 - x0), Math.abs(y1 - y0)],
      inside = ([frame, value]) =>
        Math.abs(2 * (this.#x(frame) - x) - width) <= width &&
        Math.abs(2 * (this.#y(value) - y) - height) <= height;
    this.chosen = new Set(this.held.chosen);
    this.keys.forEach((key, i) => {
      if (inside(key)) this.chosen.add(i);
    });
    this.app.chose();
    this.draw();
    svg("rect", {x, y, width, height, class: "box"}, this.root);
  }

  #let() {
    const held = this.held;
    this.held = null;
    if (held?.corner) return this.draw();
    if (!held?.moved) return;
    // Keys that were dragged past others change places; one that lands on another takes its place.
    const chosen = [...this.chosen].map(i => this.keys[i]),
      frames = new Set(chosen.map(key => key[0])),
      rest = this.keys.filter(key => !chosen.includes(key) && !frames.has(key[0])),
      all = [...rest, ...chosen].sort((a, b) => a[0] - b[0]);
    this.app.authored.curves[this.channel] = all;
    this.chosen = new Set(chosen.map(key => all.indexOf(key)));
    this.app.save(`${this.app.title} dragged`);
  }

  #add(event) {
    if (event.target.dataset?.key !== undefined) return;
    const [at, value] = this.#back(event),
      frame = this.channel === "speed" ? Math.max(0, at) : Math.round(at);
    this.app.put(this.channel, frame, value);
  }
}
