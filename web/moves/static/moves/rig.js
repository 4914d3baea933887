// The simulated rig: drawn from above and from the front, played, and its places dragged.

import {typing} from "../ui/app.js";
import {newestOnly, svg} from "../ui/draw.js";

const field = id => document.getElementById(id),
  page = JSON.parse(field("page-data").textContent),
  form = field("rig-form"),
  MARGIN = 26,
  VIEWS = {"rig-plan": [0, 2], "rig-front": [0, 1]},
  NAMES = {start: "start", end: "end", target: "looks at"};

/**
 * One of the drawings: which two of x, y, z it shows, the second downwards or, of heights, upwards.
 */
class Drawing {
  constructor(id, stage) {
    this.root = field(id);
    this.axes = VIEWS[id];
    this.up = this.axes[1] === 1;
    this.stage = stage;
    this.root.addEventListener("pointerdown", event => this.#grab(event));
    this.root.addEventListener("pointermove", event => this.#drag(event));
    for (const name of ["pointerup", "pointercancel"])
      this.root.addEventListener(name, () => {
        this.held = null;
      });
  }

  fit(move) {
    const points = [
      ...move.camera,
      ...Object.values(move.places),
      ...move.items.flatMap(item => item.corners),
      ...move.rail.map(x => [x, 0, 0]),
    ];
    this.low = this.axes.map(axis => Math.min(...points.map(p => p[axis])));
    this.high = this.axes.map(axis => Math.max(...points.map(p => p[axis])));
  }

  /** Metres to pixels. */
  at(point) {
    const [x, y] = this.axes.map(axis => point[axis]),
      {scale, left, top} = this.view;
    return [left + x * scale, top + (this.up ? -y : y) * scale];
  }

  draw(move, frame) {
    const {clientWidth: width, clientHeight: height} = this.root,
      spans = this.high.map((high, i) => Math.max(high - this.low[i], 0.5)),
      scale = Math.min((width - 2 * MARGIN) / spans[0], (height - 2 * MARGIN) / spans[1]),
      left = (width - spans[0] * scale) / 2 - this.low[0] * scale,
      free = (height - spans[1] * scale) / 2,
      top = this.up ? free + this.high[1] * scale : free - this.low[1] * scale;
    this.view = {scale, left, top};
    this.root.setAttribute("viewBox", `0 0 ${width} ${height}`);
    this.root.replaceChildren();
    const line = (points, kind) =>
      svg(
        "path",
        {d: `M${points.map(p => this.at(p).join(" ")).join("L")}`, class: kind},
        this.root,
      );
    line(
      [
        [-1e3, 0, 0],
        [1e3, 0, 0],
      ],
      this.up ? "floor" : "rails",
    );
    for (const item of move.items) this.#item(item);
    line(move.camera, "path");
    const camera = move.camera[frame],
      pillar = [move.rail[frame], camera[1], 0],
      ahead = move.ahead[frame];
    if (this.up) line([[move.rail[frame], 0, 0], pillar], "pillar");
    line([pillar, camera], "arm");
    for (const side of [-1, 1]) line([camera, this.#edge(camera, ahead, side * move.half)], "view");
    const [x, y] = this.at(camera);
    svg(
      "circle",
      {cx: x, cy: y, r: frame < 2 ? 9 : 5, class: frame < 2 ? "lamp" : "camera"},
      this.root,
    );
    for (const [name, place] of Object.entries(move.places)) this.#handle(name, place);
    this.#metre(height);
  }

  #item(item) {
    const hull = hullOf(item.corners.map(corner => this.at(corner)));
    const shape = svg(
      "path",
      {d: `M${hull.map(p => p.join(" ")).join("L")}Z`, class: "item"},
      this.root,
    );
    svg("title", {}, shape).textContent = item.name;
  }

  /** Where the edge of the view goes, two metres ahead, turned within this drawing. */
  #edge(camera, ahead, angle) {
    const [a, b] = this.axes,
      out = [...camera],
      size = Math.hypot(ahead[a], ahead[b]) || 1,
      [x, y] = [ahead[a] / size, ahead[b] / size];
    out[a] += 2 * (x * Math.cos(angle) - y * Math.sin(angle));
    out[b] += 2 * (x * Math.sin(angle) + y * Math.cos(angle));
    return out;
  }

  #handle(name, place) {
    const [x, y] = this.at(place);
    svg(
      "rect",
      {x: x - 5, y: y - 5, width: 10, height: 10, class: "handle", "data-place": name},
      this.root,
    );
    svg("text", {x: x + 9, y: y + 4}, this.root).textContent = NAMES[name];
  }

  #metre(height) {
    const {scale} = this.view;
    svg("path", {d: `M10 ${height - 8}h${scale}`, class: "metre"}, this.root);
    svg("text", {x: 14 + scale, y: height - 4}, this.root).textContent = "1 m";
  }

  #grab(event) {
    const name = event.target.dataset?.place;
    if (!name) return;
    this.held = name;
    this.root.setPointerCapture(event.pointerId);
    event.preventDefault();
  }

  #drag(event) {
    if (!this.held) return;
    const box = this.root.getBoundingClientRect(),
      {scale, left, top} = this.view,
      x = (event.clientX - box.left - left) / scale,
      y = ((event.clientY - box.top - top) / scale) * (this.up ? -1 : 1);
    for (const [axis, value] of [
      [this.axes[0], x],
      [this.axes[1], y],
    ])
      field(`id_${this.held}_${"xyz"[axis]}`).value = value.toFixed(2);
    this.stage.changed(false);
  }
}

/** The smallest convex outline of points (Andrew's monotone chain). */
function hullOf(points) {
  const sorted = [...points].sort((a, b) => a[0] - b[0] || a[1] - b[1]),
    turn = (o, a, b) => (a[0] - o[0]) * (b[1] - o[1]) - (a[1] - o[1]) * (b[0] - o[0]),
    half = list => {
      const out = [];
      for (const point of list) {
        while (out.length > 1 && turn(out.at(-2), out.at(-1), point) <= 0) out.pop();
        out.push(point);
      }
      return out.slice(0, -1);
    };
  return [...half(sorted), ...half(sorted.reverse())];
}

class Stage {
  constructor() {
    this.drawings = Object.keys(VIEWS).map(id => new Drawing(id, this));
    this.slider = field("frame");
    this.slider.addEventListener("input", () => this.draw());
    field("play").addEventListener("click", () => this.play());
    form.addEventListener("input", () => this.changed(true));
    window.addEventListener("resize", () => this.draw());
    document.addEventListener("keydown", event => this.#key(event));
    this.ask = newestOnly(async ({query, fits}) => {
      const answer = await fetch(`${page.play}?${query}`, {headers: {Accept: "application/json"}});
      const move = await answer.json();
      if (!answer.ok) return this.say(move.problem || "That can’t be played.", []);
      this.take(move, fits);
    });
    if (page.move) this.take(page.move, true);
  }

  changed(fits) {
    const query = new URLSearchParams(new FormData(form));
    for (const name of ["csrfmiddlewaretoken", "base"]) query.delete(name);
    history.replaceState(null, "", `?${query}`);
    this.ask({query, fits});
  }

  take(move, fits) {
    this.move = move;
    this.slider.max = move.camera.length - 1;
    if (fits || !this.drawings[0].low) for (const drawing of this.drawings) drawing.fit(move);
    this.say("", move.exceeds);
    this.draw();
  }

  say(problem, exceeds) {
    const box = field("rig-says");
    box.replaceChildren();
    const add = (kind, text) => {
      const line = document.createElement("p");
      line.className = kind;
      line.textContent = text;
      box.append(line);
    };
    if (problem) add("error", problem);
    for (const text of exceeds) add("remark doubt", text);
    if (!problem && !exceeds.length && this.move)
      add(
        "text-[13px] text-quiet",
        `The rig can do it. The camera goes at ${this.move.fastest} at most.`,
      );
  }

  draw() {
    if (!this.move) return;
    const frame = +this.slider.value;
    for (const drawing of this.drawings) drawing.draw(this.move, frame);
    field("frame-says").textContent =
      `frame ${frame} of ${this.move.count - 1}${frame < 2 ? ", lamp lit" : ""}`;
  }

  play() {
    this.plays = !this.plays;
    field("play").setAttribute("aria-pressed", this.plays);
    if (!this.plays) return;
    if (+this.slider.value >= +this.slider.max) this.slider.value = 0;
    const begun = performance.now() - (+this.slider.value / this.move.rate) * 1000,
      step = now => {
        if (!this.plays) return;
        this.slider.value = Math.round(((now - begun) / 1000) * this.move.rate);
        this.draw();
        if (+this.slider.value >= +this.slider.max) return this.play();
        requestAnimationFrame(step);
      };
    requestAnimationFrame(step);
  }

  #key(event) {
    if (typing(event)) return;
    if (event.key === " " && event.target.tagName !== "BUTTON") {
      event.preventDefault();
      this.play();
    } else if (event.key === "Home" || event.key === "End") {
      this.slider.value = event.key === "Home" ? 0 : this.slider.max;
      this.draw();
    }
  }
}

new Stage();
