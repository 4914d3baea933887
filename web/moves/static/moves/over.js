// The set over the plate as a move's camera sees it, and as the shot's own does.

import {notice} from "../ui/app.js";
import {newestOnly, svg} from "../ui/draw.js";

/** What is drawn over the plate, and asked for anew on every frame. */
export class Over {
  constructor(table, page) {
    this.table = table;
    this.page = page;
    this.layer = document.getElementById("marks");
    this.on = {ours: true, arrows: true};
    this.seen = null;
    this.frame = null;
    this.marks = null; // more to draw: called with the layer
    this.ask = newestOnly(async frame => {
      const answer = await fetch(`${page.seen}?frame=${frame}`, {
        headers: {Accept: "application/json"},
      });
      const seen = await answer.json();
      if (!answer.ok) return notice(seen.problem || "That can't be shown.");
      this.seen = seen;
      this.draw();
    });
  }

  show(frame) {
    if (frame === this.frame) return;
    this.frame = frame;
    for (const field of document.querySelectorAll("[data-shown-frame]")) field.value = frame;
    this.ask(frame);
  }

  switch(name) {
    this.on[name] = !this.on[name];
    document.querySelector(`[data-layer="${name}"]`).setAttribute("aria-pressed", this.on[name]);
    this.draw();
  }

  draw() {
    this.layer.replaceChildren();
    if (!this.seen) return;
    const transform = this.table.over.getAttribute("transform") || "",
      group = svg("g", {transform, class: "over"}, this.layer);
    if (this.seen.floor) svg("path", {d: this.table.d(this.seen.floor), class: "floor"}, group);
    for (const d of this.seen.theirs) this.#wire(d, group, {});
    if (this.on.ours)
      for (const d of this.seen.ours) this.#wire(d, group, {"stroke-dasharray": "7 5"});
    if (this.on.arrows) this.#arrows();
    this.marks?.(this.layer);
  }

  #wire(flat, group, more) {
    const d = this.table.d(flat);
    svg("path", {d, class: "wire-case"}, group);
    svg("path", {d, class: "wire", ...more}, group);
  }

  #arrows() {
    for (const [x, y, dx, dy] of this.seen.arrows) {
      const [x1, y1] = this.table.toScreen([x, y]),
        [x2, y2] = this.table.toScreen([x + dx, y + dy]);
      for (const kind of ["miss-case", "miss"]) {
        svg("line", {x1, y1, x2, y2, class: kind}, this.layer);
        svg("circle", {cx: x2, cy: y2, r: kind === "miss" ? 2 : 3, class: kind}, this.layer);
      }
    }
  }
}
