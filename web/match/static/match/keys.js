// The Match page's keys: tools, choosing, nudging, removing.

import {edit, notice, typing} from "../ui/app.js";
import {moved, nameOf, pointsOf, setPoint} from "./geometry.js";

const TOOLS = {
  x: "across",
  y: "up",
  z: "along",
  b: "bow",
  o: "origin",
  s: "spot",
  escape: "choose",
};
const WAYS = {arrowleft: [-1, 0], arrowright: [1, 0], arrowup: [0, -1], arrowdown: [0, 1]};
const LOCKED = "This camera or draft is locked. Unlock it to change its marks.";
const PAUSE = 250; // ms after which a run of nudges is saved

export class Keys {
  /** `others`: what further keys do, by key. */
  constructor({root, shown, view, asking, pen, others}) {
    Object.assign(this, {root, shown, view, asking, pen, others});
    this.nudging = null;
    document.addEventListener("keydown", event => this.#key(event));
    const flush = () => {
      if (this.nudging) this.#saveNudges();
    };
    window.addEventListener("pagehide", flush);
    document.addEventListener("flush", flush);
  }

  #key(event) {
    if (typing(event) || event.altKey) return;
    const key = event.key.toLowerCase(),
      {pen} = this;
    if (event.ctrlKey || event.metaKey) {
      if (key !== "a" || pen.tool !== "choose") return;
      event.preventDefault();
      return pen.chooseAll();
    }
    if (pen.line && (key === "backspace" || key === "enter")) {
      event.preventDefault();
      return key === "enter" ? pen.endLine() : pen.takeBackPoint();
    }
    if (key === "escape" && pen.giveUp()) return;
    if (TOOLS[key]) return pen.take(TOOLS[key]);
    if (this.others[key]) return this.others[key]();
    if (key === "[" || key === "]") return this.#step(key === "]" ? 1 : -1);
    if (this.shown.those.length) this.#ofChosen(event, key);
  }

  #step(by) {
    if (this.shown.marks.length) this.pen.choose(this.shown.step(by));
  }

  #ofChosen(event, key) {
    const {shown} = this,
      {only} = shown,
      removes = ["delete", "backspace"].includes(key);
    if (key === "tab" && document.activeElement === this.root && only && only.kind !== "spot") {
      event.preventDefault();
      shown.point = (shown.point + 1) % only.points.length;
      return this.view.redraw();
    }
    if (shown.locked && (removes || WAYS[key])) {
      event.preventDefault();
      return notice(LOCKED);
    }
    if (removes) return this.#remove();
    if (!WAYS[key]) return;
    event.preventDefault();
    this.#nudge(WAYS[key], event.shiftKey ? 0.1 : 1);
  }

  #remove() {
    if (this.asking.held()) return;
    const {shown, asking} = this,
      those = shown.those;
    shown.marks = shown.marks.filter(mark => !shown.chosen.has(mark.id));
    shown.chosen = new Set();
    const what = those.length > 1 ? `${those.length} marks` : nameOf(those[0]);
    return asking.save(`Removed ${what}`).then(() => asking.showMark());
  }

  /** By one pixel or a tenth: the chosen point of one mark, or several marks whole. */
  #nudge(way, step) {
    if (this.asking.held()) return;
    const {shown} = this,
      {only} = shown,
      by = way.map(value => value * step);
    if (only) {
      const points = pointsOf(only);
      setPoint(only, shown.point, moved(points[shown.point] || points[0], by));
    } else {
      for (const mark of shown.those) {
        pointsOf(mark).forEach((point, index) => setPoint(mark, index, moved(point, by)));
      }
    }
    this.view.redraw();
    if (!this.nudging) {
      edit(
        new Promise(done => {
          this.nudgesSaved = done;
        }),
      );
    }
    clearTimeout(this.nudging); // a run of nudges is one edit
    this.nudging = setTimeout(() => this.#saveNudges(), PAUSE);
  }

  #saveNudges() {
    clearTimeout(this.nudging);
    this.nudging = null;
    const {those} = this.shown;
    const what = those.length === 1 ? nameOf(those[0]) : `${those.length} marks`;
    return this.asking
      .save(`Nudged ${what}`, `nudge ${those.map(mark => mark.id).join(" ")}`)
      .then(this.nudgesSaved);
  }
}
