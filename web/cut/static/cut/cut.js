// The cut of a show: a strip to scale, the picture of the frame that is shown, and what is done to
// the clips.

import {drawTurned, Pictures, timecode} from "../plates/frames.js";
import {notice, post, typing, watchJob} from "../ui/app.js";
import {Strip} from "./strip.js";

const field = id => document.getElementById(id),
  page = document.querySelector(".cut-page"),
  AHEAD = 24, // frames that are fetched before they are played
  STEP = 10,
  // Fields of the cut and of a clip, by their ids.
  OF_CUT = {"cut-title": "title", "cut-title-frames": "title_frames"},
  OF_CLIP = {
    "clip-speed": "speed",
    "clip-between": "between",
    "clip-fade-in": "fade_in",
    "clip-fade-out": "fade_out",
    "clip-dissolve": "dissolve",
  };

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
    for (const [id, key] of Object.entries(OF_CUT))
      if (document.activeElement !== field(id)) field(id).value = data[key];
    field("cut-counter").checked = data.counter;
    this.#leftOut();
    this.strip.lay();
    this.show(this.frame);
  }

  /** The clip of the frame that is shown; undefined in an empty cut. */
  get clip() {
    return this.#clipOf(this.frame);
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
  #own(frame, clip = this.clip) {
    const at = frame - clip.begin,
      {sources} = clip;
    if (!sources) return clip.first + at;
    return Math.floor(sources[Math.max(0, Math.min(sources.length - 1, at))]);
  }

  /**
   * Where the picture of a frame of the cut is; null where there is none. `clip`: another one than
   * is there, as in a dissolve.
   */
  url(frame, clip = this.#clipOf(frame)) {
    const what = clip?.camera === "match" ? field("what").value : "drawing";
    if (clip && what !== "plate") {
      const asked = new URLSearchParams({what, revision: clip.revision});
      if (clip.camera !== "match") asked.set("camera", clip.camera);
      return `${clip.picture}${Math.max(0, this.#own(frame, clip))}.jpg?${asked}`;
    }
    if (clip?.film) {
      const [least, most] = clip.reach,
        own = Math.max(least, Math.min(most, this.#own(frame, clip)));
      return `/films/${clip.film}/small/${own - clip.offset}.jpg`;
    }
    return clip?.photograph ? `/plates/${clip.photograph}/proxy.jpg` : null;
  }

  /** The clip that is on top: one that lies over the others comes first. */
  #clipOf(frame) {
    const here = this.data.clips.filter(
      ({begin, length}) => frame >= begin && frame < begin + length,
    );
    return here.findLast(({over}) => over !== null) || here[0];
  }

  /** What is seen on a frame, from below: [clip, weight] each, as the server mixes them too. */
  #layers(frame) {
    const top = this.#clipOf(frame),
      row = this.#rowLayers(frame);
    if (!top || top.over === null) return row;
    const weight = this.#faded(top, frame - top.begin);
    return weight < 1 ? [...row, [top, weight]] : [[top, 1]];
  }

  /** What a clip's fades leave of it on one of its frames. */
  #faded(clip, own) {
    const left = clip.length - own;
    let weight = 1;
    if (own < clip.fade_in) weight = (own + 1) / (clip.fade_in + 1);
    if (left <= clip.fade_out) weight = Math.min(weight, left / (clip.fade_out + 1));
    return weight;
  }

  #rowLayers(frame) {
    const clips = this.data.clips.filter(({over}) => over === null),
      index = clips.findIndex(({begin, length}) => frame >= begin && frame < begin + length);
    if (index < 0) return [];
    const clip = clips[index],
      own = frame - clip.begin,
      left = clip.length - own,
      before = clips[index - 1],
      following = clips[index + 1];
    if (before?.dissolve) {
      const first = Math.floor(before.dissolve / 2);
      if (own < before.dissolve - first)
        return [
          [before, 1],
          [clip, (first + own + 1) / (before.dissolve + 1)],
        ];
    }
    const half = Math.floor(clip.dissolve / 2);
    if (following && clip.dissolve && left <= half)
      return [
        [clip, 1],
        [following, (half - left + 1) / (clip.dissolve + 1)],
      ];
    return [[clip, this.#faded(clip, own)]];
  }

  paint() {
    const canvas = field("picture"),
      ratio = devicePixelRatio || 1;
    canvas.width = Math.round(canvas.clientWidth * ratio);
    canvas.height = Math.round(canvas.clientHeight * ratio);
    const context = canvas.getContext("2d"),
      layers = this.#layers(this.frame);
    if (layers.some(([, weight]) => weight < 1)) {
      context.fillStyle = "#000";
      context.fillRect(0, 0, canvas.width, canvas.height);
    }
    for (const [clip, weight] of layers) {
      context.globalAlpha = weight;
      this.#paintClip(canvas, context, clip);
    }
    context.globalAlpha = 1;
    this.#write(context, canvas, ratio);
  }

  /** The title and the counter over the picture. */
  #write(context, {width, height}, ratio) {
    const {title, title_frames: over, counter} = this.data,
      words = [];
    if (title && this.frame < over) words.push([title, width / 2, height / 2, 34, "center"]);
    if (counter && this.clip) {
      const {start, timecode: counting} = this.data;
      words.push([
        timecode(start + this.frame, counting),
        width - 12 * ratio,
        26 * ratio,
        18,
        "right",
      ]);
    }
    for (const [text, x, y, size, align] of words) {
      context.font = `600 ${size * ratio}px "Atkinson Hyperlegible Next", sans-serif`;
      context.textAlign = align;
      context.lineWidth = 4 * ratio;
      context.strokeStyle = "#000";
      context.fillStyle = "#fff";
      context.strokeText(text, x, y);
      context.fillText(text, x, y);
    }
  }

  #paintClip(canvas, context, clip) {
    const url = this.url(this.frame, clip),
      picture = url && this.pictures.get(url);
    if (url && !picture) this.pictures.fetch(url);
    if (!picture) return;
    // Only small pictures of films lie as the file has them; what the server mixes is turned
    // already.
    const turned = clip.film && url.startsWith("/films/"),
      way = (turned && clip.way) || {flip: false, quarters: 0},
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
    for (const [id, key] of Object.entries(OF_CLIP))
      if (document.activeElement !== field(id)) field(id).value = clip[key];
    field("clip-camera").replaceChildren(
      ...clip.cameras.map(([id, name]) => new Option(name, id, false, id === clip.camera)),
    );
    field("clip-speed-says").textContent = clip.speed_says;
    this.#speedCurve();
    field("clip-retime").hidden = !clip.sources || !clip.film;
    field("clip-retimed").value = clip.id;
    if (document.activeElement !== field("clip-over")) field("clip-over").value = clip.over ?? "";
    field("clip-handles").textContent = clip.handles
      ? `Handles: ${clip.handles[0]} frames before, ${clip.handles[1]} after`
      : "A photograph, or no plate yet: held as long as is wanted";
    field("clip-open").href = clip.url;
  }

  /**
   * The speed over the clip's length, where it changes; with what it is at the frame that is shown.
   */
  #speedCurve() {
    const {speed_curve: curve, begin, length} = this.clip,
      figure = field("clip-curve");
    figure.hidden = !curve.length;
    if (!curve.length) return;
    const percents = curve.map(([, speed]) => 100 * speed),
      most = Math.max(...percents),
      least = Math.min(...percents),
      at = Math.min(Math.max((this.frame - begin) / Math.max(length - 1, 1), 0), 1),
      level = percent => 41 - (38 * (percent - least)) / (most - least || 1),
      points = curve.map(([share], i) => `${340 * share} ${level(percents[i])}`);
    figure.querySelector(".line").setAttribute("d", `M${points.join("L")}`);
    figure.querySelector(".playhead").setAttribute("d", `M${340 * at} 0V44`);
    const now = percents[Math.round(at * (curve.length - 1))];
    figure.querySelector("[data-now]").textContent = `${now.toFixed(0)} % here`;
    const [top, bottom] = figure.querySelectorAll(".ends span");
    [top.textContent, bottom.textContent] = [`${most.toFixed(0)} %`, `${least.toFixed(0)} %`];
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
    const sound = field("sound");
    if (!this.plays) return sound?.pause();
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
    if (sound && from / this.data.rate < (sound.duration || Number.POSITIVE_INFINITY)) {
      sound.currentTime = from / this.data.rate;
      sound.play().catch(() => {}); // a browser may want a press first: the picture plays without
    }
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
    for (const id of ["clip-speed", "clip-between"])
      field(id).addEventListener("change", () =>
        this.change("speed", {
          name: field("clip-speed").value,
          between: field("clip-between").value,
        }).then(() => this.#sheet()),
      );
    const number = id => Math.round(+field(id).value) || 0;
    for (const id of ["clip-fade-in", "clip-fade-out", "clip-dissolve"])
      field(id).addEventListener("change", () =>
        this.change("fade", {
          fade_in: number("clip-fade-in"),
          fade_out: number("clip-fade-out"),
          dissolve: number("clip-dissolve"),
        }).then(() => this.#sheet()),
      );
    field("what").addEventListener("change", () => this.paint());
    field("clip-camera").addEventListener("change", event =>
      this.change("camera", {name: event.target.value}),
    );
    field("clip-over").addEventListener("change", () => {
      const typed = field("clip-over").value.trim();
      this.change("over", {to: typed === "" ? -1 : number("clip-over")}).then(() => this.#sheet());
    });
    for (const id of ["cut-title", "cut-title-frames", "cut-counter"])
      field(id).addEventListener("change", () =>
        this.do("title", {
          name: field("cut-title").value,
          by: number("cut-title-frames"),
          counter: field("cut-counter").checked,
        }),
      );
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
watchJob();
