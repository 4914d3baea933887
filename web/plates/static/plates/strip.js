// The frame strip under the table: thumbnails, a ruler, the playhead, in and out. What is shown
// lies over the plate until it is worked on.

import {loadedAnew, notice, settled, typing} from "../ui/app.js";
import {save} from "../ui/saving.js";
import {drawTurned, Frames} from "./frames.js";
import {StripDrawing} from "./strip-drawing.js";

const GHOST = 0.3; // how strongly the frames before and after show through
// While another frame is looked at, only these keys do what they do else: nothing is drawn on a
// picture that isn't worked on.
const HARMLESS = ["f", "1", "l", "?", "+", "-", " "];

/**
 * The strip of a page whose plate is filmed; to be called after the page's own keys are set up,
 * which come first.
 * `draws`: the page draws on the plate with the left button, which rests while another frame is
 * looked at; so do
 * its keys, but for those that it `keeps`.
 * `lay`: puts the canvas with the frame that is looked at where the plate is, if that isn't the
 * table's own pixels.
 * `shows(strip)`: called whenever another frame is shown, or its picture has come.
 */
export function startStrip(table, {draws = false, keeps = [], lay = null, shows = null} = {}) {
  const data = document.getElementById("strip-data");
  return data && new Strip(table, JSON.parse(data.textContent), {draws, keeps, lay, shows});
}

class Strip {
  constructor(table, data, {draws, keeps, lay, shows}) {
    this.table = table;
    this.draws = draws;
    this.harmless = new Set([...HARMLESS, ...keeps]);
    this.shows = shows;
    this.canvas = document.getElementById("strip-frames");
    this.laid = document.createElement("canvas");
    this.laid.dataset.frames = "";
    this.plain = !lay; // the table shows the plate's own pixels
    if (lay) lay(this.laid);
    else table.layElement(this.laid, true);
    [this.laid.width, this.laid.height] = data.size.map(side =>
      Math.round(side * Math.min(1, 1280 / data.size[0])),
    );
    this.says = document.getElementById("strip-says");
    this.field = document.getElementById("strip-frame");
    this.form = document.getElementById("work-on");
    this.ghosted = false;
    this.unit = sessionStorage.getItem("ruler") || "frames";
    if (this.unit === "time code" && !data.timecode) this.unit = "frames";
    this.frames = new Frames(data, () => this.paint());
    this.drawing = new StripDrawing(this, this.canvas, this.frames);
    this.#stayThere(`looked-at:${location.pathname}`);
    this.#listen();
    new ResizeObserver(() => this.paint()).observe(this.canvas);
    this.paint();
    if (data.progress) this.#follow(data.progress);
  }

  /** A page that is loaded anew, as by undo, shows the frame that was looked at in it. */
  #stayThere(key) {
    const {frames} = this,
      kept = loadedAnew() && JSON.parse(sessionStorage.getItem(key) || "null");
    if (kept && kept.shown === frames.shown) frames.show(kept.at);
    window.addEventListener("pagehide", () =>
      sessionStorage.setItem(key, JSON.stringify({at: frames.at, shown: frames.shown})),
    );
  }

  paint() {
    const {frames} = this,
      own = !this.away;
    this.laid.style.visibility = own && !this.ghosted ? "hidden" : "visible";
    if (this.plain) this.#takeTiles();
    this.table.root.classList.toggle("rests", !own && this.draws);
    if (!own || this.ghosted) this.#lay();
    this.table.relaid();
    if (document.activeElement !== this.field) this.field.value = frames.frame;
    document.getElementById("moment").textContent = this.drawing.moment(frames.at - frames.first);
    const play = document.getElementById("play");
    play.textContent = frames.playing ? "Pause" : "Play";
    play.setAttribute("aria-pressed", frames.playing);
    this.canvas.setAttribute("aria-valuenow", frames.frame);
    this.form.hidden = frames.at === frames.shown || frames.gone.has(frames.at);
    this.form.elements.frame.value = frames.frame;
    this.says.textContent = this.#told();
    this.drawing.draw();
    this.shows?.(this);
  }

  /**
   * Real pixels are those of the frame that is shown; there are none while it plays, or while
   * others show through.
   */
  #takeTiles() {
    const {frames, table} = this,
      resting = !frames.playing && !frames.gone.has(frames.at);
    table.root.classList.toggle("no-pixels", !resting || this.ghosted);
    if (resting) table.takeTiles(this.away ? frames.tiles : null, this.laid.width);
  }

  /**
   * The picture of the frame that is shown, or its thumbnail until it comes; where there is none, a
   * hatched ground: never another picture.
   */
  #lay() {
    const {frames, laid} = this,
      c = laid.getContext("2d"),
      gone = frames.gone.has(frames.at),
      picture = !gone && (frames.picture || (!frames.playing && this.drawing.thumb(frames.at)));
    if (picture) {
      c.globalAlpha = 1;
      drawTurned(c, picture, [0, 0, laid.width, laid.height], frames.way);
      if (this.ghosted && !frames.playing) this.#ghosts(c);
      return;
    }
    if (frames.playing && !gone) return; // dropped, and counted
    c.fillStyle = "#101416";
    c.fillRect(0, 0, laid.width, laid.height);
    c.strokeStyle = "#494a4b";
    for (let x = -laid.height; x < laid.width; x += 24) {
      c.beginPath();
      c.moveTo(x, laid.height);
      c.lineTo(x + laid.height, 0);
      c.stroke();
    }
  }

  /** The frames before and after, through the one that is shown. */
  #ghosts(c) {
    const {frames, laid} = this;
    // Each weighs the same in the end: the first is laid a little stronger, as the second covers a
    // part of it.
    for (const [neighbour, weight] of [
      [frames.at - 1, GHOST / (1 - GHOST)],
      [frames.at + 1, GHOST],
    ]) {
      const picture = frames.neighbour(neighbour);
      if (!picture) continue;
      c.globalAlpha = weight;
      drawTurned(c, picture, [0, 0, laid.width, laid.height], frames.way);
    }
    c.globalAlpha = 1;
  }

  #told() {
    const {frames} = this;
    if (!frames.playing && frames.gone.has(frames.at)) return "This picture is missing.";
    if (!frames.playing && frames.failed && !this.making) return "This picture can’t be shown.";
    if (frames.playing || frames.played) {
      const dropped = frames.dropped === 1 ? "1 frame dropped" : `${frames.dropped} frames dropped`;
      return `${+frames.rate.toFixed(3)} fps, ${dropped}`;
    }
    if (this.away && this.draws) return "Looked at only; to draw on it, work on it.";
    return this.making || "";
  }

  /**
   * Lay a curve over the pictures: a value for each picture from `first` on, null where there is
   * none; null takes it away.
   */
  lay(curve) {
    this.curve = curve;
    this.paint();
  }

  /** While small pictures are made: how far that is, and those that have come. */
  async #follow(url) {
    let answer;
    try {
      answer = await (await fetch(url)).json();
    } catch {
      return void setTimeout(() => this.#follow(url), 3000); // the server may be started anew
    }
    const underWay = answer.state === "running" || answer.state === "waiting";
    this.making = underWay ? `Small pictures: ${Math.round(100 * answer.progress)} %` : "";
    if (answer.state === "failed") this.making = answer.says;
    this.drawing.forgetFailed();
    this.frames.again();
    this.paint();
    if (underWay) setTimeout(() => this.#follow(url), 700);
  }

  #listen() {
    const {canvas, frames} = this;
    const at = event => {
      const box = canvas.getBoundingClientRect();
      frames.pause();
      frames.show(
        frames.first + Math.floor(((event.clientX - box.left) / box.width) * frames.count),
      );
    };
    canvas.addEventListener("pointerdown", event => {
      canvas.setPointerCapture(event.pointerId);
      at(event);
    });
    canvas.addEventListener("pointermove", event => {
      if (event.buttons & 1) at(event);
    });
    document.getElementById("play").addEventListener("click", () => frames.toggle());
    for (const [id, does] of [
      ["mark-in", () => this.#mark("in")],
      ["mark-out", () => this.#mark("out")],
      ["ghosts", () => this.#toggleGhosts()],
      ["moment", () => this.#nextUnit()],
    ])
      document.getElementById(id).addEventListener("click", does);
    // With the strip in focus its keys are its own, whatever else the page does with them.
    canvas.addEventListener("keydown", event => {
      if (this.#key(event)) event.stopPropagation();
    });
    this.form.addEventListener("submit", async event => {
      event.preventDefault();
      await settled(); // what was drawn on the old frame belongs to it
      this.form.elements.base.value = document.getElementById("revision").textContent;
      this.form.elements.query.value = location.search;
      this.form.submit();
    });
    this.field.addEventListener("keydown", event => {
      if (event.key !== "Enter") return;
      const number = Number.parseInt(this.field.value, 10) - frames.offset;
      if (Number.isFinite(number)) frames.show(number);
      this.field.blur();
      this.paint();
    });
    this.field.addEventListener("blur", () => this.paint());
    // The page's own keys come first, such as nudges; but not while another frame is looked at.
    document.addEventListener("keydown", event => {
      if (event.defaultPrevented || (this.draws && this.away)) return;
      this.#key(event);
      this.#workOn(event);
    });
    document.addEventListener(
      "keydown",
      event => {
        if (!this.draws || !this.away) return;
        if (typing(event) || event.ctrlKey || event.altKey || event.metaKey) return;
        this.#key(event);
        this.#workOn(event);
        if (!this.harmless.has(event.key.toLowerCase())) event.stopImmediatePropagation();
      },
      true,
    );
    // Space plays when it is let go: held, it pans the table.
    document.addEventListener(
      "keydown",
      event => {
        if (event.key !== " " || event.repeat || typing(event)) return;
        this.tapped = !event.target.closest("button, a, summary"); // there it presses
      },
      true,
    );
    document.addEventListener("keyup", event => {
      if (event.key === " " && this.tapped && !typing(event)) frames.toggle();
      this.tapped = false;
    });
    // At the document, as the table keeps a press that pans to itself.
    document.addEventListener(
      "pointerdown",
      () => {
        this.tapped = false;
      },
      true,
    );
    this.table.root.addEventListener(
      "pointerdown",
      event => {
        if (!this.away || event.button !== 0) return;
        frames.pause();
        if (this.draws) event.stopImmediatePropagation();
      },
      true,
    );
  }

  /** Enter works on the frame that is looked at; on a button or a field it is theirs. */
  #workOn(event) {
    if (event.key !== "Enter" || this.form.hidden || typing(event)) return;
    if (event.ctrlKey || event.altKey || event.metaKey) return;
    if (!event.target.closest("button, a, summary, select")) this.form.requestSubmit();
  }

  /** Whether another frame is looked at than the one that is worked on. */
  get away() {
    return this.frames.playing || this.frames.at !== this.frames.shown;
  }

  #key(event) {
    if (typing(event) || event.ctrlKey || event.altKey || event.metaKey) return;
    const {frames} = this,
      far = event.shiftKey ? 10 : 1;
    const does = {
      ArrowLeft: () => frames.step(-far),
      ArrowRight: () => frames.step(far),
      Home: () => frames.step(-frames.count),
      End: () => frames.step(frames.count),
      "(": () => this.#mark("in"),
      ")": () => this.#mark("out"),
      n: () => this.#toggleGhosts(),
      t: () => this.#nextUnit(),
    }[event.key];
    if (!does) return false;
    event.preventDefault();
    does();
    return true;
  }

  #nextUnit() {
    const units = ["frames", "seconds", ...(this.frames.timecode ? ["time code"] : [])];
    this.unit = units[(units.indexOf(this.unit) + 1) % units.length];
    sessionStorage.setItem("ruler", this.unit);
    this.paint();
  }

  #toggleGhosts() {
    this.ghosted = !this.ghosted;
    document.getElementById("ghosts").setAttribute("aria-pressed", this.ghosted);
    this.frames.show(this.frames.at);
  }

  /**
   * Mark the frame that is shown as the first or the last of the range; a second time takes the
   * mark away.
   */
  #mark(end) {
    const {frames} = this,
      before = frames.range,
      ends = {in: frames.from, out: frames.to},
      there = end === "in" ? frames.range?.[0] : frames.range?.[1],
      unmarked = {in: frames.first, out: frames.last};
    ends[end] = there === frames.frame ? unmarked[end] : frames.at;
    // A range that would be turned round begins, or ends, where the film does.
    if (ends.in > ends.out)
      ends[end === "in" ? "out" : "in"] = unmarked[end === "in" ? "out" : "in"];
    const whole = ends.in === frames.first && ends.out === frames.last;
    frames.range = whole ? null : [ends.in + frames.offset, ends.out + frames.offset];
    this.paint();
    this.#saveRange(before);
  }

  /** Mark a range of frames, the first and the last. */
  markRange(range) {
    const before = this.frames.range;
    this.frames.range = range;
    this.paint();
    return this.#saveRange(before);
  }

  async #saveRange(before) {
    const {range} = this.frames;
    try {
      await save(this.frames.saves, () => ({range}));
    } catch (error) {
      if (this.frames.range === range) this.frames.range = before;
      this.paint();
      notice(error.message, "bad", error);
    }
  }
}
