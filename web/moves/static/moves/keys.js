// Drawing a move: what is chosen, what is sent to be tried and saved, and the readings.

import {notice, post, typing} from "../ui/app.js";
import {newestOnly} from "../ui/draw.js";
import {save} from "../ui/saving.js";
import {Graph} from "./graph.js";
import {Route} from "./route.js";
import {Through} from "./through.js";

const field = id => document.getElementById(id);

class Drawing {
  constructor() {
    this.data = JSON.parse(field("page-data").textContent);
    Object.assign(this, {
      authored: this.data.authored,
      aircraft: this.data.aircraft,
      made: this.data.made,
    });
    const [, frame, channel] = /^#(-?\d+)-([\w:]+)$/.exec(location.hash) || [];
    this.channel =
      this.data.channels[channel] || this.data.readings[channel?.slice(5)] ? channel : "x";
    this.frame = this.#within(frame === undefined ? this.authored.first : +frame);
    this.graph = new Graph(this, field("graph"));
    this.route = new Route(this, field("route"));
    this.through = new Through(this, field("through"));
    this.ask = newestOnly(async body => {
      try {
        this.take(await post(this.data.try, body));
      } catch (error) {
        notice(error.message, "bad", error);
      }
    });
    this.#listen();
    this.#fields();
    this.show(this.frame);
  }

  get index() {
    return Math.max(0, Math.min(this.made.eyes.length - 1, this.frame - this.made.first));
  }

  /** The name of the reading that is shown instead of a channel; null where a channel is. */
  get reading() {
    return this.channel.startsWith("read:") ? this.channel.slice(5) : null;
  }

  get title() {
    return (this.data.channels[this.channel] || this.data.readings[this.reading]).title;
  }

  get flySpeed() {
    return Math.max(0.01, +field("fly-speed").value || 1);
  }

  /** What is looked at. */
  get target() {
    return this.authored.looks_at;
  }

  /** How long a curve of speeds is drawn: seconds of the move, or metres of its route. */
  get whole() {
    if (this.authored.by !== "distance")
      return (this.authored.last - this.authored.first) / this.data.rate;
    let long = 0;
    this.made.eyes.forEach((eye, i) => {
      if (i) long += Math.hypot(...eye.map((value, axis) => value - this.made.eyes[i - 1][axis]));
    });
    return long;
  }

  get body() {
    return {authored: this.authored, aircraft: this.aircraft};
  }

  #within(frame) {
    return Math.max(this.authored.first, Math.min(this.authored.last, frame));
  }

  /** Take what the keys make. */
  take(made) {
    this.made = made;
    this.frame = this.#within(this.frame);
    this.draw();
  }

  draw() {
    this.graph.draw();
    this.route.draw();
    this.through.follow();
    this.told(this.frame);
    field("remarks").replaceChildren(
      ...this.made.remarks.slice(0, 12).map(({frame, says}) => {
        const button = document.createElement("button");
        button.type = "button";
        button.className = "link-like";
        button.textContent = says;
        button.title = `Go to frame ${frame}`;
        button.addEventListener("click", () => this.show(frame));
        const line = document.createElement("p");
        line.className = "remark doubt";
        line.append(button);
        return line;
      }),
    );
  }

  /** The frame and its readings, in figures. */
  told(frame) {
    field("frame").value = frame;
    field("slider").min = this.authored.first;
    field("slider").max = this.authored.last;
    field("slider").value = frame;
    for (const [name, {unit}] of Object.entries(this.data.readings)) {
      const value = this.made.readings[name]?.[this.index],
        said =
          value === undefined ? "–" : `${value.toFixed(2)}${unit[0] === "°" ? "" : " "}${unit}`,
        what = name === "near" ? this.made.nearest[this.index] : "";
      field(`read-${name}`).textContent = value !== undefined && what ? `${said}, ${what}` : said;
    }
    const key = this.#chosenKey();
    for (const id of ["key-frame", "key-value", "key-kind"]) field(id).disabled = !key;
    if (!key) field("key-frame").value = field("key-value").value = "";
    if (key && document.activeElement?.closest("#key-fields") === null) {
      field("key-frame").value = +key[0].toFixed(3);
      field("key-value").value = +key[1].toFixed(4);
      field("key-kind").value = key[2];
    }
  }

  show(frame) {
    this.frame = this.#within(frame);
    // Noted for when the page is loaded anew; not at every step of a drag or of playing.
    clearTimeout(this.noted);
    this.noted = setTimeout(() => {
      history.replaceState(null, "", `#${this.frame}-${this.channel}`);
    }, 250);
    this.through.loose = false;
    this.draw();
  }

  /** Something is being dragged: show what it makes. */
  changed() {
    this.graph.draw();
    this.ask(structuredClone(this.body));
  }

  /** Keep what is drawn. */
  save(label, more = {}) {
    this.ask.clear();
    return this.#kept(this.data.save, () => ({...this.body, label, ...more}));
  }

  async #kept(url, body) {
    this.waiting = (this.waiting || 0) + 1;
    try {
      const answer = await save(url, body);
      if (this.waiting > 1) return; // what was changed meanwhile isn't in this answer
      this.authored = answer.authored;
      this.through.loose = false;
      this.take(answer.made);
      this.#fields();
    } catch (error) {
      notice(error.message, "bad", error);
    } finally {
      this.waiting -= 1;
    }
  }

  /** Set the value that a channel has on a frame; without saving. */
  set(channel, frame, value) {
    this.authored.curves[channel] ||= [];
    const keys = this.authored.curves[channel],
      there = keys.find(key => key[0] === frame);
    if (there) there[1] = value;
    else {
      keys.push([frame, value, "smooth"]);
      keys.sort((a, b) => a[0] - b[0]);
    }
  }

  put(channel, frame, value) {
    if (this.reading) return;
    this.set(channel, frame, value);
    this.graph.chosen = new Set([this.authored.curves[channel].findIndex(key => key[0] === frame)]);
    this.save(`key of ${this.title.toLowerCase()}`);
  }

  chose() {
    this.told(this.frame);
  }

  #chosenKey() {
    const [first] = this.graph.chosen;
    return first === undefined ? null : this.graph.keys[first];
  }

  /** Keys with where the camera is, on the frame that is shown. */
  keyHere() {
    this.save(`key on frame ${this.frame}`, {key_here: this.through.pose(), frame: this.frame});
  }

  remove() {
    const {chosen, keys} = this.graph;
    if (!chosen.size) return;
    const left = keys.filter((_, i) => !chosen.has(i));
    if (left.length) this.authored.curves[this.channel] = left;
    else delete this.authored.curves[this.channel];
    chosen.clear();
    this.save(`removed keys of ${this.title.toLowerCase()}`);
  }

  record() {
    const button = field("record");
    if (this.through.recording) return this.through.recording();
    this.plays = false;
    button.setAttribute("aria-pressed", "true");
    this.through.record((frame, seconds, poses) => {
      button.setAttribute("aria-pressed", "false");
      if (seconds.at(-1) * this.data.rate < 1) return this.through.back();
      const px = +field("tolerance").value || 0.5;
      this.#kept(this.data.record, () => ({...this.body, frame, seconds, poses, px}));
    });
  }

  play() {
    this.plays = !this.plays;
    field("play").setAttribute("aria-pressed", this.plays);
    if (!this.plays) return;
    const first = this.frame >= this.authored.last ? this.authored.first : this.frame,
      begun = performance.now(),
      step = now => {
        if (!this.plays) return;
        const frame = first + Math.floor(((now - begun) / 1000) * this.data.rate);
        this.show(frame);
        if (frame >= this.authored.last) return this.play();
        requestAnimationFrame(step);
      };
    requestAnimationFrame(step);
  }

  /** Scale the chosen channel's keys, or those of all, between two frames in time. */
  retime() {
    const [first, last, toLast] = ["time-first", "time-last", "time-to"].map(
      id => +field(id).value,
    );
    if (!(last > first && toLast > first))
      return notice("Type a first frame, a later last one, and where that goes.");
    const factor = (toLast - first) / (last - first);
    for (const [name, keys] of Object.entries(this.authored.curves)) {
      if (name === "speed" || (!field("time-all").checked && name !== this.channel)) continue;
      for (const key of keys) {
        if (key[0] > last) key[0] += toLast - last;
        else if (key[0] > first) key[0] = Math.round(first + (key[0] - first) * factor);
        if (key.length > 3 && key[0] >= first && key[0] <= toLast) {
          key[3] /= factor;
          key[4] /= factor;
        }
      }
    }
    this.authored.last = Math.max(this.authored.last + toLast - last, this.authored.first);
    this.save("scaled in time");
  }

  /** The fields of the report as the move has them. */
  #fields() {
    field("channel").value = this.channel;
    field("by").value = this.authored.by;
    field("range-first").value = this.authored.first;
    field("range-last").value = this.authored.last;
    field("follows").checked = this.authored.follows;
    const [name] =
      Object.entries(this.data.places).find(
        ([, at]) => this.target && at.every((value, i) => Math.abs(value - this.target[i]) < 1e-3),
      ) || [];
    field("looks-at").value = name || (this.target ? "here" : "");
    field("here-choice").hidden = !this.target || Boolean(name);
    for (const input of document.querySelectorAll("[data-aircraft]")) {
      input.value = this.aircraft?.[input.dataset.aircraft] ?? "";
      input.disabled = !this.aircraft;
    }
    field("flies-ahead").disabled = !this.aircraft;
    field("flies-ahead").value = this.aircraft?.looks || "ahead";
  }

  #listen() {
    const on = (id, event, act) => field(id).addEventListener(event, act);
    on("play", "click", () => this.play());
    on("record", "click", () => this.record());
    on("key-here", "click", () => this.keyHere());
    on("slider", "input", () => this.show(+field("slider").value));
    on("frame", "change", () => this.show(Math.round(+field("frame").value || 0)));
    on("channel", "change", () => {
      this.channel = field("channel").value;
      this.graph.chosen.clear();
      this.show(this.frame);
    });
    for (const button of document.querySelectorAll("[data-route]"))
      button.addEventListener("click", () => {
        for (const other of document.querySelectorAll("[data-route]"))
          other.setAttribute("aria-pressed", other === button);
        this.route.look(button.dataset.route);
      });
    on("key-fields", "change", event => this.#typedKey(event.target));
    on("remove-keys", "click", () => this.remove());
    on("retime", "click", () => this.retime());
    on("by", "change", () => {
      this.authored.by = field("by").value;
      if (this.authored.by !== "keys" && !this.authored.curves.speed)
        this.authored.curves.speed = [
          [0, Math.max(0.1, this.whole ? this.#meanSpeed() : 1), "smooth"],
        ];
      this.save("timing");
    });
    for (const id of ["range-first", "range-last"])
      on(id, "change", () => {
        this.authored[id.slice(6)] = Math.round(+field(id).value);
        this.save("range");
      });
    on("looks-at", "change", () => {
      const name = field("looks-at").value;
      if (name === "here") return;
      this.authored.looks_at = name ? this.data.places[name] : null;
      if (!name) this.authored.follows = false;
      this.save(name ? `looks at ${name}` : "looks as its keys say");
    });
    on("follows", "change", () => {
      this.authored.follows = field("follows").checked;
      this.save("distance kept");
    });
    on("preset", "change", () => {
      const name = field("preset").value;
      if (name === "own") return;
      this.aircraft = name ? {...this.data.presets[name]} : null;
      this.save(name ? `flown by ${field("preset").selectedOptions[0].textContent}` : "not flown");
    });
    for (const input of document.querySelectorAll("[data-aircraft]"))
      input.addEventListener("change", () => {
        const empty = input.value.trim() === "";
        this.aircraft[input.dataset.aircraft] =
          empty && input.dataset.aircraft === "bank_per_g" ? null : +input.value;
        field("preset").value = "own";
        this.save("aircraft");
      });
    on("flying-lens", "click", () => this.save("lens of a flying camera", {flying_lens: true}));
    on("flies-ahead", "change", () => {
      this.aircraft.looks = field("flies-ahead").value;
      this.save("where the camera looks");
    });
    document.addEventListener("keydown", event => this.#pressed(event));
  }

  #meanSpeed() {
    const {speed} = this.made.readings;
    return speed.reduce((sum, one) => sum + one, 0) / speed.length;
  }

  #typedKey(input) {
    const key = this.#chosenKey();
    if (!key) return;
    if (input.id === "key-kind")
      for (const index of this.graph.chosen) {
        const one = this.graph.keys[index],
          slopes = this.made.slopes[this.channel]?.[index] || [0, 0];
        one.length = 2;
        one.push(input.value);
        if (input.value === "free") one.push(...slopes);
      }
    else if (input.id === "key-value") key[1] = +input.value;
    else if (input.id === "key-frame") {
      key[0] = +input.value;
      this.graph.keys.sort((a, b) => a[0] - b[0]);
      this.graph.chosen = new Set([this.graph.keys.indexOf(key)]);
    }
    this.save(`key of ${this.title.toLowerCase()}`);
  }

  #pressed(event) {
    if (typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
    const act = {
      k: () => this.keyHere(),
      b: () => this.through.plate.switch(),
      a: () => this.graph.chooseAll(),
      r: () => this.record(),
      " ": () => event.target.tagName === "BUTTON" || this.play(),
      ",": () => this.show(this.frame - 1),
      ".": () => this.show(this.frame + 1),
      home: () => this.show(this.authored.first),
      end: () => this.show(this.authored.last),
      escape: () => this.through.back(),
      delete: () => this.remove(),
      backspace: () => this.remove(),
    }[event.key.toLowerCase()];
    if (!act) return;
    if (event.key === " " && event.target.tagName !== "BUTTON") event.preventDefault();
    act();
  }
}

new Drawing();
