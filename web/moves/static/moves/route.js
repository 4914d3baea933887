// The route from above, from the front and from the side, its keys dragged.

import {svg} from "../ui/draw.js";

const MARGIN = 24,
  VIEWS = {plan: [0, 2], front: [0, 1], side: [2, 1]};

export class Route {
  constructor(app, root) {
    Object.assign(this, {app, root, which: "plan", held: null});
    root.addEventListener("pointerdown", event => this.#grab(event));
    root.addEventListener("pointermove", event => this.#drag(event));
    for (const name of ["pointerup", "pointercancel"])
      root.addEventListener(name, () => {
        if (this.held?.moved) app.save("route dragged");
        this.held = null;
      });
    new ResizeObserver(() => this.draw()).observe(root);
  }

  look(which) {
    this.which = which;
    this.draw();
  }

  /** The frames on which the route has a key, with its place there. */
  get keys() {
    const {curves} = this.app.authored,
      frames = new Set(["x", "y", "z"].flatMap(name => (curves[name] || []).map(key => key[0])));
    return [...frames].sort((a, b) => a - b);
  }

  #place(frame) {
    const {made, authored} = this.app,
      value = name => {
        const exact = (authored.curves[name] || []).find(key => key[0] === frame);
        if (exact) return exact[1];
        const series = made.curves[name],
          usual = this.app.data.channels[name].usual;
        return series
          ? series[Math.max(0, Math.min(series.length - 1, frame - authored.first))]
          : usual;
      };
    return ["x", "y", "z"].map(value);
  }

  #at(point) {
    const [a, b] = VIEWS[this.which],
      {scale, left, top} = this.view,
      up = b === 1;
    // From the side the set's front is at the right.
    return [left + point[a] * scale, top + (up ? -1 : 1) * point[b] * scale];
  }

  draw() {
    const {made, data} = this.app,
      {clientWidth: width, clientHeight: height} = this.root;
    if (!made || !width) return;
    const [a, b] = VIEWS[this.which],
      up = b === 1;
    if (!this.held) {
      const points = [
          ...made.eyes,
          ...(made.keyed || []),
          ...data.solids.flatMap(one => one.points),
          [0, 0, 0],
        ],
        of = axis => points.map(point => point[axis]),
        low = [Math.min(...of(a)), Math.min(...of(b))],
        spans = [Math.max(...of(a)) - low[0], Math.max(...of(b)) - low[1]].map(span =>
          Math.max(span, 1),
        ),
        scale = Math.min((width - 2 * MARGIN) / spans[0], (height - 2 * MARGIN) / spans[1]),
        free = (height - spans[1] * scale) / 2;
      this.view = {
        scale,
        left: (width - spans[0] * scale) / 2 - low[0] * scale,
        top: up ? free + (low[1] + spans[1]) * scale : free - low[1] * scale,
      };
    }
    this.root.setAttribute("viewBox", `0 0 ${width} ${height}`);
    this.root.replaceChildren();
    const line = (points, kind) =>
      points.length > 1 &&
      svg(
        "path",
        {d: `M${points.map(p => this.#at(p).join(" ")).join("L")}`, class: kind},
        this.root,
      );
    if (up)
      line(
        [
          [-1e4, 0, -1e4],
          [1e4, 0, 1e4],
        ],
        "floor",
      );
    for (const one of data.solids)
      for (const [i, j] of one.lines) line([one.points[i], one.points[j]], "solid");
    if (made.keyed) line(made.keyed, "keyed");
    line(made.eyes, "path");
    this.#camera(made);
    for (const frame of this.keys) this.#key(frame);
    svg("path", {d: `M10 ${height - 8}h${this.view.scale}`, class: "metre"}, this.root);
    svg("text", {x: 14 + this.view.scale, y: height - 4}, this.root).textContent = "1 m";
  }

  #camera(made) {
    const eye = made.eyes[this.app.index],
      turn = made.turns[this.app.index],
      wide = made.half[this.app.index][0],
      edge = side =>
        [0, 1, 2].map(row => eye[row] + 1.2 * (side * wide * turn[3 * row] - turn[3 * row + 2]));
    const d = [edge(-1), eye, edge(1)].map(p => this.#at(p).join(" ")).join("L"),
      [cx, cy] = this.#at(eye);
    svg("path", {d: `M${d}`, class: "view"}, this.root);
    svg("circle", {cx, cy, r: 5, class: "camera"}, this.root);
  }

  #key(frame) {
    const [x, y] = this.#at(this.#place(frame));
    svg(
      "rect",
      {x: x - 4.5, y: y - 4.5, width: 9, height: 9, class: "handle", "data-frame": frame},
      this.root,
    );
    svg("title", {}, this.root.lastChild).textContent = `Key on frame ${frame}`;
  }

  #grab(event) {
    const frame = event.target.dataset?.frame;
    if (frame === undefined) return;
    const place = this.#place(+frame);
    this.held = {frame: +frame, place, from: [event.clientX, event.clientY]};
    this.root.setPointerCapture(event.pointerId);
    this.app.show(+frame);
  }

  #drag(event) {
    if (!this.held) return;
    const {frame, place, from} = this.held,
      [a, b] = VIEWS[this.which],
      {scale} = this.view,
      to = [...place];
    to[a] += (event.clientX - from[0]) / scale;
    to[b] += ((event.clientY - from[1]) / scale) * (b === 1 ? -1 : 1);
    this.held.moved = true;
    for (const axis of [a, b]) this.app.set("xyz"[axis], frame, to[axis]);
    this.app.changed();
  }
}
