// The tracks of a filmed plate: drawn over the frame that is looked at, chosen with the pointer,
// and the verbs on them.

import {TrackHand} from "./track-hand.js";
import {KeepOut} from "./keep-out.js";
import {Patches} from "./patches.js";
import {TrackList} from "./track-list.js";
import {showPlayhead} from "../plates/curves.js";
import {typing} from "../ui/app.js";

const TAIL = 12; // frames
const NEAR = 10; // px on the screen, for a click
const WORST = 1.5; // px of residual at which the colour ends

// Which tracks of the shot are chosen, also when undo or another window loads the page anew.
const KEPT = `chosen-tracks:${location.pathname}`;

export class TrackLayer {
  /**
   * `open()`: whether the leaf with the tracks is open; `send(url, body)`: an edit like those of
   * marks, which
   * gives the answer; `go(number)`: show another picture; `tiles(number)`: where a picture's real
   * pixels are;
   * `residuals(curve)`: show the path's residual per picture.
   */
  constructor(table, sheet, {open, send, go, tiles, residuals}) {
    Object.assign(this, {table, sheet, open, send, go, residuals});
    this.canvas = document.createElement("canvas");
    this.canvas.className = "track-layer";
    table.root.querySelector("svg").before(this.canvas);
    this.chosen = new Set();
    this.before = JSON.parse(sessionStorage.getItem(KEPT) || "[]"); // chosen when it was left
    this.at = null; // the picture that is shown
    this.byPicture = new Map();
    table.onView(() => this.draw());
    this.hand = new TrackHand(this);
    this.keepOut = new KeepOut(this);
    this.patches = new Patches(this, tiles);
    this.list = new TrackList(this);
    this.#listen();
    this.fetch();
  }

  /** Fetch the tracks as they are now. */
  async fetch() {
    const {arrays, told} = this.sheet.dataset;
    if (!arrays) return;
    const [packed, words] = await Promise.all([
      fetch(arrays).then(answer => answer.arrayBuffer()),
      fetch(told).then(answer => answer.json()),
    ]);
    const count = new Int32Array(packed, 0, 1)[0];
    this.track = new Int32Array(packed, 4, count);
    this.picture = new Int32Array(packed, 4 + 4 * count, count);
    this.xy = new Float32Array(packed, 4 + 8 * count, 2 * count);
    this.residual = new Float32Array(packed, 4 + 16 * count, count);
    this.placed = new Uint8Array(packed, 4 + 20 * count, count);
    this.ids = words.ids;
    this.about = words.about;
    this.leverage = words.leverage;
    this.keepOut.areas = words.keep_out;
    this.residuals(
      words.residual && {
        ...words.residual,
        says: most => `residual, up to ${most.toFixed(2)} px`,
      },
    );
    this.byPicture = new Map();
    for (let row = 0; row < count; row += 1) {
      const number = this.picture[row];
      if (!this.byPicture.has(number)) this.byPicture.set(number, []);
      this.byPicture.get(number).push(row);
    }
    this.list.fill();
    const there = new Set(this.ids);
    this.chosen = new Set([...this.before.splice(0), ...this.chosen].filter(id => there.has(id)));
    // What the sliders chose was chosen of other tracks.
    if (this.#asksForWorst()) this.#chooseWorst();
    this.settle();
    this.draw();
  }

  /** Whether the sliders ask for some tracks. */
  #asksForWorst() {
    const [over, under, unused] = ["track-over", "track-under", "track-unused"].map(id =>
      document.getElementById(id),
    );
    return over && (+over.value < +over.max || +under.value > 0 || unused.checked);
  }

  /** Show the tracks of a picture; `frame` is what the shot calls it. */
  show(number, frame) {
    if (number === this.at && frame === this.frame) return;
    this.at = number;
    this.frame = frame;
    this.draw();
    showPlayhead(this.frame);
    this.patches.show();
  }

  /**
   * The row of a track on a picture, the one that is shown if none is named; undefined where it
   * isn't seen.
   */
  rowOf(id, number = this.at) {
    return (this.byPicture.get(number) || []).find(row => this.ids[this.track[row]] === id);
  }

  /** The pictures on which a track was placed by hand, in order; of a found one the first. */
  keysOf(id) {
    const index = this.ids.indexOf(id),
      rows = [];
    for (let row = 0; row < this.track.length; row += 1)
      if (this.track[row] === index) rows.push(row);
    const placed = rows.filter(row => this.placed[row]);
    return (placed.length ? placed : rows.slice(0, 1)).map(row => this.picture[row]);
  }

  /** The only track that is chosen, or null. */
  get only() {
    return this.chosen.size === 1 ? [...this.chosen][0] : null;
  }

  draw() {
    const {canvas, table} = this,
      ratio = devicePixelRatio || 1,
      [width, height] = [table.root.clientWidth, table.root.clientHeight];
    if (!width) return;
    const [w, h] = [Math.round(width * ratio), Math.round(height * ratio)];
    if (canvas.width !== w || canvas.height !== h) [canvas.width, canvas.height] = [w, h];
    const c = canvas.getContext("2d");
    c.setTransform(ratio, 0, 0, ratio, 0, 0);
    c.clearRect(0, 0, width, height);
    if (!this.open() || this.at === null) return;
    for (const row of this.byPicture.get(this.at) || []) this.#drawOne(c, row);
    this.keepOut.draw(c);
    this.hand.draw(c);
    if (this.box) {
      c.strokeStyle = "#fff";
      c.setLineDash([4, 3]);
      c.strokeRect(...this.box);
      c.setLineDash([]);
    }
  }

  /** A point with its tail; a square where its place is known, a cross where it is switched off. */
  #drawOne(c, row) {
    const id = this.ids[this.track[row]],
      told = this.about[id] || {},
      [x, y] = this.#onScreen(row),
      chosen = this.chosen.has(id);
    c.lineWidth = chosen ? 3 : 1.5;
    c.strokeStyle = told.off ? "#9aa3a7" : this.#colour(row);
    c.beginPath();
    for (let back = 0; back <= TAIL && row - back >= 0; back += 1) {
      if (this.track[row - back] !== this.track[row]) break;
      if (this.at - this.picture[row - back] > TAIL) break;
      const [px, py] = this.#onScreen(row - back);
      back ? c.lineTo(px, py) : c.moveTo(px, py);
    }
    c.stroke();
    c.beginPath();
    if (told.off) {
      c.moveTo(x - 4, y - 4);
      c.lineTo(x + 4, y + 4);
      c.moveTo(x + 4, y - 4);
      c.lineTo(x - 4, y + 4);
    } else if (told.world) c.rect(x - 4, y - 4, 8, 8);
    else c.arc(x, y, chosen ? 5 : 3, 0, 7);
    c.stroke();
    if (this.placed[row]) {
      // Where the hand put it: a short line below, like a pin.
      c.beginPath();
      c.moveTo(x, y + 5);
      c.lineTo(x, y + 12);
      c.stroke();
    }
    if (!chosen) return;
    c.font = "12px Atkinson Hyperlegible Mono, monospace";
    c.strokeStyle = "#101416";
    c.lineWidth = 3;
    c.strokeText(id, x + 8, y - 6);
    c.fillStyle = "#fff";
    c.fillText(id, x + 8, y - 6);
  }

  /** Quiet to red by the residual; hollow grey where the track isn't part of the path. */
  #colour(row) {
    const residual = this.residual[row];
    if (residual < -1.5) return "#d8e6ea";
    if (residual < 0) return "#8a949a";
    const share = Math.min(1, residual / WORST),
      mix = (from, to) => Math.round(from + (to - from) * share);
    return `rgb(${mix(216, 242)}, ${mix(230, 84)}, ${mix(234, 91)})`;
  }

  #onScreen(row) {
    return this.table.toScreen([this.xy[2 * row], this.xy[2 * row + 1]]);
  }

  /** The id of the track at a place on the screen, if there is one near. */
  near(x, y, reach = NEAR) {
    let best = null,
      nearest = reach;
    for (const row of this.byPicture.get(this.at) || []) {
      const [px, py] = this.#onScreen(row),
        away = Math.hypot(px - x, py - y);
      if (away < nearest) [best, nearest] = [this.ids[this.track[row]], away];
    }
    return best;
  }

  /** Whether a press is on a track, or begins a box: then it neither pans nor draws. */
  takes(event) {
    if (!this.open() || this.at === null || event.button !== 0) return false;
    if (this.hand.placing || this.keepOut.takes(event)) return true;
    return event.shiftKey || this.near(...this.place(event)) !== null;
  }

  /** Where on the table an event is, px of the screen. */
  place(event) {
    const box = this.table.root.getBoundingClientRect();
    return [event.clientX - box.left, event.clientY - box.top];
  }

  #listen() {
    const {root} = this.table;
    // Before the marks' own pointer: with the leaf open, the pointer chooses tracks.
    root.addEventListener(
      "pointerdown",
      event => {
        if (!this.takes(event)) return;
        const [x, y] = this.place(event),
          id = this.near(x, y, this.hand.placing ? NEAR / 3 : NEAR);
        event.stopImmediatePropagation();
        event.preventDefault();
        this.table.root.focus({preventScroll: true});
        if (this.keepOut.takes(event)) return this.keepOut.press(event);
        if (event.shiftKey) this.start = [x, y];
        else if (id === null) this.hand.putDown(event);
        else {
          if (event.ctrlKey || id !== this.only) this.choose([id], event.ctrlKey);
          if (id === this.only && !event.ctrlKey) this.hand.grab(id, event);
        }
      },
      true,
    );
    root.addEventListener(
      "pointermove",
      event => {
        if (this.keepOut.move(event) || this.hand.move(event)) event.stopImmediatePropagation();
        if (!this.start) return;
        const [x, y] = this.place(event);
        this.box = [...this.start, x - this.start[0], y - this.start[1]];
        this.draw();
        event.stopImmediatePropagation();
      },
      true,
    );
    root.addEventListener(
      "pointerup",
      event => {
        if (this.keepOut.release() || this.hand.release()) event.stopImmediatePropagation();
        if (!this.start) return;
        const box = this.box;
        this.start = this.box = null;
        if (box) this.choose(this.#within(box), event.ctrlKey);
        else {
          const id = this.near(...this.place(event));
          if (id) this.choose([id], true);
        }
        event.stopImmediatePropagation();
      },
      true,
    );
    this.sheet.addEventListener("input", event => {
      if (event.target.closest("#track-worst")) this.#chooseWorst();
    });
    this.sheet.addEventListener("click", event => {
      const verb = event.target.closest("[data-track]"),
        choose = event.target.closest("[data-choose]"),
        ends = event.target.closest("[data-ends]");
      if (choose) this.choose(choose.dataset.choose.split(" "), false);
      if (ends) {
        const ids = ends.dataset.ends.split(" "),
          frames = ends.dataset.frames.split(" ").map(Number);
        this.ask("end_each", {ids, frames});
      }
      if (verb) this.ask(verb.dataset.track);
    });
    // Before the keys of marks and of the strip.
    document.addEventListener(
      "keydown",
      event => {
        if (typing(event) || !this.open() || !this.#key(event)) return;
        event.preventDefault();
        event.stopImmediatePropagation();
      },
      true,
    );
  }

  /** Whether a key was one of the tracks'. */
  #key(event) {
    if (this.keepOut.key(event) || this.hand.key(event)) return true;
    if ((event.ctrlKey || event.metaKey) && event.key === "Enter") {
      this.sheet.querySelector("[data-solve]")?.click(); // not there while it is solved
      return true;
    }
    if (event.ctrlKey || event.metaKey || event.altKey || !this.chosen.size) return false;
    const key = event.key.toLowerCase(),
      verb = {d: "follow", j: "join", e: "end", q: "begin", delete: "remove"}[key];
    if (verb) this.ask(verb);
    else if (key === "escape") this.choose([], false);
    else if ((key === "[" || key === "]") && this.only) this.#toKey(key === "]" ? 1 : -1);
    else return false;
    return true;
  }

  /** Show the next picture, or the one before, on which the chosen track was placed. */
  #toKey(way) {
    const keys = this.keysOf(this.only),
      next = way > 0 ? keys.find(n => n > this.at) : keys.findLast(n => n < this.at);
    if (next !== undefined) this.go(next);
  }

  #within([x, y, w, h]) {
    const inside = (value, from, size) =>
      value >= Math.min(from, from + size) && value <= Math.max(from, from + size);
    return (this.byPicture.get(this.at) || [])
      .filter(row => {
        const [px, py] = this.#onScreen(row);
        return inside(px, x, w) && inside(py, y, h);
      })
      .map(row => this.ids[this.track[row]]);
  }

  /** Choose tracks, beside those that are chosen if `more`. */
  choose(ids, more) {
    if (!more) this.chosen.clear();
    for (const id of ids) {
      if (more && this.chosen.has(id) && ids.length === 1) this.chosen.delete(id);
      else this.chosen.add(id);
    }
    this.settle();
    this.draw();
  }

  /**
   * Choose what the sliders say: tracks that fit badly, that are short, or of which nothing is
   * used.
   */
  #chooseWorst() {
    const [over, under, unused] = ["track-over", "track-under", "track-unused"].map(id =>
      document.getElementById(id),
    );
    const most = +over.value < +over.max ? +over.value : Number.POSITIVE_INFINITY,
      ids = this.list.all
        .filter(({id, residual, length}) => {
          if (this.about[id]?.off || this.about[id]?.source === "placed") return false;
          const misses = residual > most || length < +under.value;
          return misses || (unused.checked && residual === -1);
        })
        .map(one => one.id);
    this.choose(ids, false);
    const limits = [
      Number.isFinite(most) ? `over ${most.toFixed(2)} px` : "",
      +under.value ? `shorter than ${under.value} frames` : "",
      unused.checked ? "unused" : "",
    ].filter(Boolean);
    document.getElementById("track-worst-says").textContent = limits.length
      ? `${ids.length} of ${this.ids.length} tracks: ${limits.join(", or ")}. Spots that you placed stay.`
      : "None chosen.";
  }

  /** Put the leaf into the state that this remembers. */
  settle() {
    sessionStorage.setItem(KEPT, JSON.stringify([...this.chosen]));
    const says = document.getElementById("tracks-chosen"),
      count = this.chosen.size;
    if (says)
      says.textContent = count > 3 ? `${count} tracks` : [...this.chosen].join(", ") || "none";
    for (const button of this.sheet.querySelectorAll("[data-track]")) {
      const needs = {
        height: 0,
        readout: 0,
        zoom: 0,
        stand: 0,
        bend: 0,
        constant: 0,
        focal: 0,
        file_focals: 0,
        distance: 2,
        direction: 2,
        join: 2,
        origin: 1,
        take_back: 1,
      }[button.dataset.track];
      button.disabled = needs === 0 ? false : needs ? count !== needs : !count;
    }
    if (!this.open()) this.layAside();
    this.hand.settle();
    this.keepOut.settle();
    this.patches.show();
    this.list.settle();
    showPlayhead(this.frame);
  }

  /** Lay the tools of this leaf aside: another one is open. */
  layAside() {
    if (this.hand.placing) this.hand.take(false);
    if (this.keepOut.drawing) this.keepOut.take(false);
  }

  /** Ask the server for a verb on the chosen tracks; `more` of its body. */
  async ask(verb, more = {}) {
    const field = id => document.getElementById(id)?.value || "",
      body = {
        verb,
        ids: [...this.chosen],
        frame: this.frame ?? 0,
        length: field("track-length"),
        axis: field("track-axis") || "across",
        plus_minus: field("track-plus-minus"),
        readout: field("track-readout"),
        shutter: field("track-shutter") || "global",
        reach: +field("track-window") || 0,
        ...more,
      };
    const answer = await this.send(this.sheet.dataset.changeTracks, () => body);
    await this.fetch();
    if (answer?.chosen) this.choose(answer.chosen, false);
  }
}
