// Draws marks, surveyed points and proposals over the plate, in screen pixels. Knows no rule of the
// job.

import {svg} from "../ui/draw.js";
import {kindOf, nameOf} from "./geometry.js";

const LETTERS = {across: "X", up: "Y", along: "Z", bow: "⌒"};

export class Drawing {
  constructor(table) {
    this.table = table;
    this.layer = document.getElementById("marks");
    this.labels = document.getElementById("labels");
  }

  clear() {
    this.layer.replaceChildren();
    this.labels.replaceChildren();
  }

  text(x, y, content, kind = "", dx = 0, dy = 0) {
    const [sx, sy] = this.table.toScreen([x, y]);
    svg("text", {x: sx + dx, y: sy + dy, class: `text-label ${kind}`}, this.labels).textContent =
      content;
  }

  mark(mark, {chosen, point, residual}) {
    mark.kind === "spot" ? this.#spot(mark, chosen) : this.#line(mark, chosen, point, residual);
  }

  #line(mark, chosen, point, residual) {
    const kind = kindOf(mark),
      group = svg("g", {class: mark.off ? "is-off-mark" : ""}, this.layer);
    const d = `M${mark.points.map(p => this.table.toScreen(p).join(" ")).join("L")}`;
    if (chosen) svg("path", {d, class: "casing chosen-line"}, group);
    svg("path", {d, class: "casing"}, group);
    svg("path", {d, class: `edge ${kind}`}, group);
    svg("path", {d, class: "hit", "data-mark": mark.id}, group);
    mark.points.forEach((p, index) => {
      const [cx, cy] = this.table.toScreen(p);
      svg(
        "circle",
        {
          cx,
          cy,
          r: chosen && index === point ? 7 : mark.points.length > 3 ? 4 : 5,
          class: `end ${mark.axis || ""}`,
          "data-mark": mark.id,
          "data-point": index,
        },
        group,
      );
    });
    const [a, b] = [mark.points[0], mark.points.at(-1)];
    this.text(
      (a[0] + b[0]) / 2,
      (a[1] + b[1]) / 2,
      `${LETTERS[kind]} ${residual === undefined || mark.off ? "" : residual.toFixed(1)}`,
      "res",
      5,
      -7,
    );
  }

  #spot(mark, chosen) {
    const [x, y] = this.table.toScreen(mark.at),
      d = `M${x - 9} ${y}h18M${x} ${y - 9}v18`;
    const group = svg("g", {class: mark.off ? "is-off-mark" : ""}, this.layer);
    if (chosen) svg("circle", {cx: x, cy: y, r: 13, class: "casing chosen-line"}, group);
    svg("path", {d, class: "spot-case"}, group);
    svg("path", {d, class: "spot-mark"}, group);
    svg(
      "circle",
      {
        cx: x,
        cy: y,
        r: 10,
        class: "hit",
        fill: "transparent",
        "data-mark": mark.id,
        "data-point": 0,
      },
      group,
    );
    this.text(mark.at[0], mark.at[1], nameOf(mark), "", 11, 16);
  }

  /**
   * Where a surveyed point should be seen: its ellipse of one σ, drawn at least as large as can be
   * seen.
   */
  expected(point, next) {
    const [cx, cy] = this.table.toScreen(point.at),
      [a, b, turn] = point.ellipse;
    const group = svg("g", {class: `expected ${next ? "next" : ""}`}, this.layer);
    svg(
      "ellipse",
      {
        cx,
        cy,
        rx: Math.max(4, a * this.table.scale),
        ry: Math.max(4, b * this.table.scale),
        transform: `rotate(${turn} ${cx} ${cy})`,
      },
      group,
    );
    svg("path", {d: `M${cx - 3} ${cy}h6M${cx} ${cy - 3}v6`}, group);
    if (next)
      this.text(point.at[0], point.at[1], `${point.name} ±${a.toFixed(1)} px`, "grid", 9, -8);
  }

  /** The frame that is dragged around marks to choose them, between two points of the plate. */
  box(a, b) {
    const [p, q] = [a, b].map(point => this.table.toScreen(point));
    const x = Math.min(p[0], q[0]),
      y = Math.min(p[1], q[1]);
    svg(
      "rect",
      {x, y, width: Math.abs(q[0] - p[0]), height: Math.abs(q[1] - p[1]), class: "choosing"},
      this.layer,
    );
  }
  proposals(segments) {
    const group = svg("g", {class: "proposals"}, this.layer);
    segments.forEach((segment, index) => {
      const [a, b] = segment.points.map(p => this.table.toScreen(p)),
        d = `M${a.join(" ")}L${b.join(" ")}`;
      svg("path", {d, class: "casing"}, group);
      svg("path", {d, class: `edge ${segment.axis || "none"}`}, group);
      if (segment.axis) svg("path", {d, class: "hit", "data-proposal": index}, group);
    });
  }
}
