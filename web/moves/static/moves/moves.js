// The page of moves: the set over the plate as a move's camera sees it and as the shot's own does.

import {followClicks, showPlayhead} from "../plates/curves.js";
import {startStrip} from "../plates/strip.js";
import {notice, typing} from "../ui/app.js";
import {LightTable, newestOnly, svg} from "../ui/table.js";

const KEYS = {o: "ours", m: "arrows"};

/** What is drawn over the plate, and asked for anew on every frame. */
class Over {
  constructor(table, page) {
    this.table = table;
    this.page = page;
    this.layer = document.getElementById("marks");
    this.on = {ours: true, arrows: true};
    this.seen = null;
    this.frame = null;
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
    document.getElementById("set-frame").value = frame;
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
    const transform = this.table.over.getAttribute("transform"),
      group = svg("g", {transform, class: "over"}, this.layer);
    if (this.seen.floor) svg("path", {d: this.seen.floor, class: "floor"}, group);
    for (const d of this.seen.theirs) this.#wire(d, group, {});
    if (this.on.ours)
      for (const d of this.seen.ours) this.#wire(d, group, {"stroke-dasharray": "7 5"});
    if (this.on.arrows) this.#arrows();
  }

  #wire(d, group, more) {
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

function start() {
  const table = new LightTable(),
    data = document.getElementById("page-data");
  table.panWithLeft = event => event.button === 0;
  if (!data) return startStrip(table);
  const page = JSON.parse(data.textContent),
    over = new Over(table, page);
  table.onView(() => over.draw());
  document.addEventListener("keydown", event => {
    const name = KEYS[event.key.toLowerCase()];
    if (!name || typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
    over.switch(name);
  });
  for (const button of document.querySelectorAll("[data-layer]"))
    button.addEventListener("click", () => over.switch(button.dataset.layer));
  const strip = startStrip(table, {
    keeps: Object.keys(KEYS),
    shows: ({frames}) => {
      showPlayhead(frames.frame);
      over.show(frames.frame);
    },
  });
  if (!strip) over.show(page.frame);
  const report = document.getElementById("report"),
    go = frame => strip?.frames.show(frame - strip.frames.offset);
  followClicks(report, go);
  report.addEventListener("click", event => {
    const button = event.target.closest("[data-frame]");
    if (button) go(+button.dataset.frame);
  });
}

if (document.getElementById("light-table")) start();
