// The cut of a show: a strip to scale, the picture of the frame that is shown, and what is done to the clips.

import {drawTurned, Pictures, timecode} from "../plates/frames.js";
import {notice, post, typing} from "../ui/app.js";
import {Strip} from "./strip.js";

const field = id => document.getElementById(id),
  page = document.querySelector(".cut-page"),
  AHEAD = 24, // frames that are fetched before they are played
  STEP = 10;

class Cut {
  constructor() {
    this.data = JSON.parse(field("page-data").textContent);
    this.frame = Math.max(0, +location.hash.slice(1) || 0);
    this.pictures = new Pictures(
      url => url,
      () => this.paint(),
    );
    this.strip = new Strip(this, field("strip"), field("rail"));
    new ResizeObserver(() => this.paint()).observe(field("picture"));
    this.#listen();
    this.take(this.data);
  }

  /** Take what the server says of the cut. */
  take(data) {
    this.data = data;
    for (const form of ["undo-form", "redo-form", "take-form"])
      field(form).elements.base.value = data.revision;
    field("undo").disabled = !data.undo;
    field("undo").title = data.undo ? `Undo: ${data.undo} (Ctrl+Z)` : "";
    field("redo").disabled = !data.redo;
    field("redo").title = data.redo ? `Redo: ${data.redo} (Ctrl+Shift+Z)` : "";
    field("start").value = data.start_says;
    field("length-says").textContent = `${data.length} frames, ${data.seconds.toFixed(2)} s`;
    field("cut-says").textContent =
      `${data.clips.length} clips, ${data.length} frames; revision ${data.revision}`;
    this.#leftOut();
    this.strip.lay();
    this.show(this.frame);
  }

  /** The clip of the frame that is shown; undefined in an empty cut. */
  get clip() {
    return this.data.clips.find(
      ({begin, length}) => this.frame >= begin && this.frame < begin + length,
    );
  }

  get index() {
    return this.data.clips.indexOf(this.clip);
  }

  show(frame) {
    this.frame = Math.max(0, Math.min(this.data.length - 1, Math.round(frame) || 0));
    clearTimeout(this.noted);
    this.noted = setTimeout(() => history.replaceState(null, "", `#${this.frame}`), 250);
    const {clip} = this;
    field("frame").value = this.frame;
    const {start, timecode: counting, rate} = this.data;
    field("at").textContent = clip
      ? `${timecode(start + this.frame, counting)}  ${(this.frame / rate).toFixed(2)} s`
      : "";
    field("of-shot").textContent = clip ? `${clip.code}, its frame ${this.#own(this.frame)}` : "";
    this.#sheet();
    this.strip.mark();
    this.paint();
  }

  /** The shot's frame of a frame of the cut. */
  #own(frame) {
    const {clip} = this;
    return clip.first + frame - clip.begin;
  }

  /** Where the picture of a frame of the cut is; null where there is none. */
  url(frame) {
    const clip = this.data.clips.find(
      ({begin, length}) => frame >= begin && frame < begin + length,
    );
    if (clip?.film)
      return `/films/${clip.film}/small/${clip.first + frame - clip.begin - clip.offset}.jpg`;
    return clip?.photograph ? `/plates/${clip.photograph}/proxy.jpg` : null;
  }

  paint() {
    const canvas = field("picture"),
      ratio = devicePixelRatio || 1;
    canvas.width = Math.round(canvas.clientWidth * ratio);
    canvas.height = Math.round(canvas.clientHeight * ratio);
    const url = this.url(this.frame),
      picture = url && this.pictures.get(url),
      context = canvas.getContext("2d");
    if (url && !picture) this.pictures.fetch(url);
    if (!picture) return;
    const way = this.clip.way || {flip: false, quarters: 0},
      sides = way.quarters % 2 ? [picture.height, picture.width] : [picture.width, picture.height],
      scale = Math.min(canvas.width / sides[0], canvas.height / sides[1]),
      [width, height] = sides.map(side => side * scale);
    drawTurned(
      context,
      picture,
      [(canvas.width - width) / 2, (canvas.height - height) / 2, width, height],
      way,
    );
  }

  #sheet() {
    const {clip} = this;
    field("clip-sheet").hidden = !clip;
    field("clip-name").textContent = clip ? clip.code : "none";
    if (!clip) return;
    field("clip-about").textContent = clip.description;
    for (const name of ["first", "last", "length"])
      if (document.activeElement !== field(`clip-${name}`))
        field(`clip-${name}`).value = clip[name];
    field("clip-handles").textContent = clip.handles
      ? `Handles: ${clip.handles[0]} frames before, ${clip.handles[1]} after`
      : "A photograph, or no plate yet: held as long as is wanted";
    field("clip-open").href = clip.url;
  }

  #leftOut() {
    field("left-out").replaceChildren(
      ...this.data.left_out.map(({code, description}) => {
        const line = document.createElement("p"),
          button = document.createElement("button");
        button.className = "button small";
        button.textContent = `Put ${code} in`;
        button.addEventListener("click", () => this.do("add", {name: code}));
        line.append(button, ` ${description}`);
        return line;
      }),
    );
    if (!this.data.left_out.length) field("left-out").textContent = "All shots are in it.";
  }

  /** Ask for a change; one after the other, as each begins from the cut that the last one made. */
  do(verb, more = {}) {
    const before = this.doing || Promise.resolve();
    this.doing = before.then(async () => {
      try {
        this.take(await post(page.dataset.do, {verb, base: this.data.revision, ...more}));
      } catch (error) {
        notice(error.message, "bad", error);
      }
    });
    return this.doing;
  }

  /** Change the clip that is shown. */
  change(verb, more = {}) {
    const {clip} = this;
    return clip ? this.do(verb, {id: clip.id, ...more}) : Promise.resolve();
  }

  split() {
    if (this.clip) this.change("split", {frame: this.#own(this.frame)});
  }

  play() {
    this.plays = !this.plays;
    field("play").setAttribute("aria-pressed", this.plays);
    if (!this.plays) return;
    const from = this.frame >= this.data.length - 1 ? 0 : this.frame,
      began = performance.now(),
      step = now => {
        if (!this.plays) return;
        const frame = from + Math.floor(((now - began) / 1000) * this.data.rate);
        if (frame >= this.data.length) {
          this.show(this.data.length - 1);
          return this.play();
        }
        if (frame !== this.frame) this.show(frame);
        for (let ahead = 1; ahead <= AHEAD; ahead++) {
          const url = this.url(frame + ahead);
          if (url) this.pictures.fetch(url, this.url(frame));
        }
        requestAnimationFrame(step);
      };
    requestAnimationFrame(step);
  }

  #listen() {
    field("play").addEventListener("click", () => this.play());
    field("frame").addEventListener("change", () => this.show(+field("frame").value));
    field("start").addEventListener("change", () => this.do("start", {name: field("start").value}));
    for (const button of document.querySelectorAll("[data-verb]"))
      button.addEventListener("click", () =>
        button.dataset.verb === "split" ? this.split() : this.change(button.dataset.verb),
      );
    for (const name of ["first", "last", "length"])
      field(`clip-${name}`).addEventListener("change", event => {
        const {clip} = this,
          typed = Math.round(+event.target.value);
        if (!clip || Number.isNaN(typed)) return this.#sheet();
        const by = name === "length" ? typed : typed - clip[name];
        this.change(name, {by}).then(() => this.#sheet());
      });
    document.addEventListener("keydown", event => this.#pressed(event));
  }

  #pressed(event) {
    const key = event.key.toLowerCase();
    if ((event.ctrlKey || event.metaKey) && key === "z" && !typing(event)) {
      event.preventDefault();
      const form = field(event.shiftKey ? "redo-form" : "undo-form");
      if (!form.querySelector("button").disabled) form.requestSubmit();
      return;
    }
    if (typing(event) || event.ctrlKey || event.metaKey) return;
    const act = event.altKey ? this.#withAlt(event.code) : this.#plain(event);
    if (!act) return;
    event.preventDefault();
    act();
  }

  #withAlt(code) {
    const {index} = this;
    return {
      ArrowLeft: () => this.change("move", {to: Math.max(0, index - 1)}),
      ArrowRight: () => this.change("move", {to: index + 1}),
      Comma: () => this.change("slip", {by: -1}),
      Period: () => this.change("slip", {by: 1}),
    }[code];
  }

  #plain({code, key, shiftKey, target}) {
    const side = shiftKey ? "first" : "last",
      frames = shiftKey ? STEP : 1;
    return (
      {
        Space: target.tagName === "BUTTON" ? null : () => this.play(),
        ArrowLeft: () => this.show(this.frame - frames),
        ArrowRight: () => this.show(this.frame + frames),
        ArrowUp: () => this.#clipAt(this.index - 1),
        ArrowDown: () => this.#clipAt(this.index + 1),
        Home: () => this.show(0),
        End: () => this.show(this.data.length - 1),
        Comma: () => this.change(side, {by: -1}),
        Period: () => this.change(side, {by: 1}),
        KeyS: () => this.split(),
        KeyD: () => this.change("double"),
        Delete: () => this.change("remove"),
        Backspace: () => this.change("remove"),
      }[code] || {"+": () => this.strip.zoom(1.4), "-": () => this.strip.zoom(1 / 1.4)}[key]
    );
  }

  #clipAt(index) {
    const clip = this.data.clips[index];
    if (clip) this.show(clip.begin);
  }
}

new Cut();
