// Laying a move into the set: sightings on the plate, and the whole move dragged by hand.

import {startStrip} from "../plates/strip.js";
import {notice, post, typing} from "../ui/app.js";
import {newestOnly, svg} from "../ui/draw.js";
import {LightTable} from "../ui/table.js";
import {Over} from "./over.js";

const base = () => +document.getElementById("revision").textContent,
  field = id => document.getElementById(id);

async function save(url, body) {
  try {
    await post(url, {...body, base: base()});
    location.reload();
  } catch (error) {
    notice(error.message, "bad", error);
  }
}

/** The place that is chosen, where the next click on the plate says that it is. */
class Sighting {
  constructor(table, page, over) {
    Object.assign(this, {table, page, over, waits: false});
    this.button = field("sight-spot");
    this.button?.addEventListener("click", () => this.wait(!this.waits));
    field("sight-axis")?.addEventListener("click", () => this.send(null));
  }

  wait(on) {
    this.waits = on;
    this.button.setAttribute("aria-pressed", on);
    this.table.root.style.cursor = on ? "crosshair" : "";
  }

  /** Whether a press on the table is a sighting. */
  take(event) {
    if (!this.waits) return false;
    this.wait(false);
    this.send(this.table.toPlate(event));
    return true;
  }

  send(at) {
    const place = field("sight-place").value;
    if (!place) return notice("Choose a point of the set first.");
    const of = at ? "" : field("sight-of")?.value || "";
    save(this.page.sight, {place, at, of, frame: this.over.frame});
  }
}

/** A drag over the plate that moves the whole move: slide, with Shift turn, with Alt raise. */
class Hand {
  constructor(table, page, over) {
    Object.assign(this, {table, page, over, on: false, stands: page.stands, drag: null});
    this.button = field("by-hand");
    this.button?.addEventListener("click", () => this.switch());
    this.ask = newestOnly(async body => {
      try {
        const answer = await post(page.hand, body);
        this.stands = answer.stands;
        for (const [name, value] of Object.entries(answer.typed))
          field(`id_stand_${name}`).value = value;
        over.seen = answer.seen;
        over.draw();
      } catch (error) {
        notice(error.message, "bad", error);
      }
      if (this.ended && !this.ask.waits()) this.#let();
    });
    table.root.addEventListener("pointermove", event => this.#move(event));
    for (const name of ["pointerup", "pointercancel"])
      table.root.addEventListener(name, () => this.#end());
  }

  switch() {
    this.on = !this.on;
    this.button.setAttribute("aria-pressed", this.on);
  }

  /** Whether a press on the table begins a drag. */
  take(event) {
    if (!this.on) return false;
    const way = event.shiftKey ? "turn" : event.altKey ? "raise" : "slide";
    this.drag = {way, start: this.table.toPlate(event), stands: this.stands};
    this.table.root.setPointerCapture(event.pointerId);
    return true;
  }

  #move(event) {
    if (!this.drag) return;
    this.moved = true;
    this.ask({...this.drag, end: this.table.toPlate(event), frame: this.over.frame});
  }

  #end() {
    if (!this.drag) return;
    this.drag = null;
    if (!this.moved) return;
    this.moved = false;
    this.ended = true;
    // Where the last question is still under way, its answer saves.
    if (this.ask.idle()) this.#let();
  }

  #let() {
    this.ended = false;
    save(this.page.stand, {stands: this.stands});
  }
}

function start() {
  const table = new LightTable(),
    page = JSON.parse(field("page-data").textContent),
    over = new Over(table, page),
    sighting = new Sighting(table, page, over),
    hand = new Hand(table, page, over);
  over.on.arrows = false;
  over.marks = layer => drawReferences(layer, table, over);
  table.panWithLeft = event => event.button === 0 && !sighting.waits && !hand.on;
  table.root.addEventListener("pointerdown", event => {
    if (event.button === 0 && (sighting.take(event) || hand.take(event))) event.preventDefault();
  });
  table.onView(() => over.draw());
  document.addEventListener("keydown", event => {
    if (typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
    const key = event.key.toLowerCase();
    if (key === "p") sighting.wait(!sighting.waits);
    else if (key === "x") hand.switch();
    else if (key === "o") over.switch("ours");
    else if (event.key === "Escape") sighting.wait(false);
  });
  for (const button of document.querySelectorAll("[data-layer]"))
    button.addEventListener("click", () => over.switch(button.dataset.layer));
  const strip = startStrip(table, {
    keeps: ["p", "x", "o"],
    shows: ({frames}) => over.show(frames.frame),
  });
  if (!strip) over.show(page.frame);
}

/** Where the points of the references are seen by the move, and where they were sighted. */
function drawReferences(layer, table, over) {
  for (const {name, seen, sighted} of over.seen.references || []) {
    if (seen) {
      const [x, y] = table.toScreen(seen);
      for (const kind of ["miss-case", "miss"])
        svg("circle", {cx: x, cy: y, r: 5, class: `${kind} sighted`}, layer);
      svg("title", {}, layer.lastChild).textContent = name;
      if (sighted) {
        const [x2, y2] = table.toScreen(sighted);
        for (const kind of ["miss-case", "miss"])
          svg("line", {x1: x, y1: y, x2, y2, class: kind}, layer);
      }
    }
  }
}

if (field("page-data")) start();
