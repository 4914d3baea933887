// The Expose step: maps over the plate, boxes and points drawn on it, the live drawing of blur
// spots.

import {startStrip} from "../plates/strip.js";
import {notice, post, typing} from "../ui/app.js";
import {svg} from "../ui/draw.js";
import {LightTable} from "../ui/table.js";

const field = id => document.getElementById(id),
  base = () => +field("revision").textContent;

/** Which map lies over the plate; kept while one goes from leaf to leaf and back. */
class Maps {
  constructor(table, page) {
    Object.assign(this, {table, page, select: field("map"), url: null, elsewhere: false});
    this.select.addEventListener("change", () => this.show(this.select.value));
    const kept = sessionStorage.getItem(page.key);
    if (kept && page.maps[kept]) this.show(kept);
  }

  get names() {
    return ["", ...Object.keys(this.page.maps)];
  }

  next() {
    this.show(this.names[(this.names.indexOf(this.shown || "") + 1) % this.names.length]);
  }

  async show(name) {
    this.shown = name;
    this.select.value = name;
    sessionStorage.setItem(this.page.key, name);
    for (const legend of document.querySelectorAll("[data-of]"))
      legend.hidden = !name || !legend.dataset.of.split(" ").includes(name);
    if (!name) return this.#lay(null);
    document.body.setAttribute("aria-busy", "true");
    field("hint").textContent = "Working…";
    try {
      const answer = await fetch(this.page.maps[name], {headers: {Accept: "application/json"}});
      if (!answer.ok) throw new Error((await answer.json()).problem);
      const url = URL.createObjectURL(await answer.blob());
      if (this.shown === name) this.#lay(url);
    } catch (error) {
      if (this.shown === name) this.show("");
      notice(error.message, "bad", error);
    } finally {
      document.body.removeAttribute("aria-busy");
    }
  }

  #lay(url) {
    this.url = url;
    if (url) {
      this.image ||= this.table.lay(url);
      this.image.src = url;
    }
    this.#hide();
  }

  /**
   * Maps are of the frame that is worked on: on another one that is looked at they are put away.
   */
  at(frame) {
    this.elsewhere = frame !== this.page.frame;
    this.#hide();
  }

  #hide() {
    if (this.image) this.image.hidden = !this.url || this.elsewhere;
    field("hint").textContent =
      this.url && this.elsewhere ? `What lies over it is of frame ${this.page.frame}` : "";
  }
}

/** A tool of the leaf: a box that is dragged, or a point that is clicked, and sent. */
class Tools {
  constructor(table, page, maps) {
    Object.assign(this, {table, page, maps, on: null, from: null, to: null, line: null});
    this.layer = field("marks");
    for (const button of document.querySelectorAll("[data-tool]"))
      button.addEventListener("click", () => this.take(this.button === button ? null : button));
    table.root.addEventListener("pointerdown", event => this.#press(event));
    table.root.addEventListener("pointermove", event => this.#move(event));
    for (const name of ["pointerup", "pointercancel"])
      table.root.addEventListener(name, event => this.#let(event));
    table.onView(() => this.draw());
  }

  take(button) {
    this.button?.setAttribute("aria-pressed", "false");
    this.button = button;
    this.on = button ? this.page.tools[button.dataset.tool] : null;
    button?.setAttribute("aria-pressed", "true");
    this.table.root.style.cursor = this.on ? "crosshair" : "";
    if (this.on?.map) this.maps.show(this.on.map);
    this.from = null;
    this.draw();
  }

  #press(event) {
    if (!this.on || event.button !== 0) return;
    event.preventDefault();
    const at = this.table.toPlate(event);
    if (this.on.kind === "point") return this.#send({at});
    this.from = this.to = at;
    this.table.root.setPointerCapture(event.pointerId);
  }

  #move(event) {
    if (!this.from) return;
    this.to = this.table.toPlate(event);
    this.draw();
  }

  #let(event) {
    if (!this.from) return;
    const box = [...this.from, ...this.table.toPlate(event)];
    this.from = null;
    this.draw();
    if (event.type === "pointerup") this.#send({box});
  }

  async #send(body) {
    const {on, button} = this,
      more = Object.fromEntries((on.fields || []).map(name => [name, field(name).value]));
    if (button.dataset.id) more.id = button.dataset.id;
    try {
      const answer = await post(on.to, {...body, ...more, base: base()});
      if (!on.tells) return location.reload();
      field("streak-says").textContent = answer.says;
      this.line = answer.line;
      this.draw();
    } catch (error) {
      notice(error.message, "bad", error);
    }
  }

  draw() {
    this.layer.replaceChildren();
    for (const {box, says} of this.page.boxes) this.#box(box, says);
    if (this.from) this.#box([...this.from, ...this.to], "");
    if (this.line) {
      const [[x1, y1], [x2, y2]] = this.line.map(at => this.table.toScreen(at));
      for (const kind of ["miss-case", "miss"])
        svg("line", {x1, y1, x2, y2, class: kind}, this.layer);
    }
  }

  #box([x0, y0, x1, y1], says) {
    const [left, top] = this.table.toScreen([Math.min(x0, x1), Math.min(y0, y1)]),
      [right, bottom] = this.table.toScreen([Math.max(x0, x1), Math.max(y0, y1)]),
      sides = {x: left, y: top, width: right - left, height: bottom - top};
    for (const kind of ["box-case", "box"]) svg("rect", {...sides, class: kind}, this.layer);
    if (says) svg("text", {x: left, y: top - 5, class: "box-says"}, this.layer).textContent = says;
  }
}

/** The drawing of blur spots follows what is typed. */
function followSpots() {
  const image = field("spots");
  if (!image) return;
  const [url] = image.src.split("?");
  let timer = 0;
  document.addEventListener("input", event => {
    if (event.target.dataset.pupil === undefined) return;
    clearTimeout(timer);
    timer = setTimeout(() => {
      const asked = new URLSearchParams();
      for (const input of document.querySelectorAll("[data-pupil]"))
        asked.set(input.name, input.value);
      image.src = `${url}?${asked}`;
    }, 120);
  });
}

/** A leaf that is loaded anew, after what was done on it, stands where it stood. */
function keepPlace() {
  const report = field("report"),
    key = `place:${location.pathname}`,
    kept = sessionStorage.getItem(key);
  if (kept) report.scrollTop = +kept;
  addEventListener("pagehide", () => sessionStorage.setItem(key, report.scrollTop));
}

function start() {
  followSpots();
  keepPlace();
  if (!field("light-table")) return;
  const table = new LightTable(),
    page = JSON.parse(field("page-data").textContent),
    maps = new Maps(table, page),
    tools = new Tools(table, page, maps);
  table.panWithLeft = event => event.button === 0 && !tools.on;
  startStrip(table, {keeps: ["m", "p"], shows: ({frames}) => maps.at(frames.frame)});
  document.addEventListener("keydown", event => {
    if (typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
    const key = event.key.toLowerCase(),
      all = [...document.querySelectorAll(".table-bar [data-tool]")];
    if (key === "m") maps.next();
    else if (key === "p") tools.take(all[all.indexOf(tools.button) + 1] || null);
    else if (event.key === "Escape") tools.take(null);
  });
}

start();
