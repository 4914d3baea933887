// What the Match page shows: the marks as they are here, and what the server says of them. Draws
// nothing.

import {freshId} from "./geometry.js";

export class Shown {
  /** `data`: the page's data as the server sends it with each answer. */
  constructor(data) {
    this.chosen = new Set(); // ids
    this.point = 0; // the chosen one of a line's points
    this.wanted = null; // the name of the surveyed point to be placed next
    this.beside = null; // another draft that is laid beside
    this.elsewhere = null; // the overlay of another frame that is looked at
    this.take(data);
  }

  /**
   * Take the server's answer. What `saved` says differs where newer marks are still on their way.
   */
  take(answer) {
    this.marks = answer.marks;
    this.facts = answer.facts;
    this.overlay = answer.overlay;
    this.residuals = answer.residuals;
    this.revision = answer.revision;
    this.locked = answer.locked;
    this.survey = answer.survey;
    this.solvedPath = answer.solved_path;
    // Marks and facts that the server has.
    this.known = new Set([...(answer.saved || answer.marks), ...answer.facts].map(item => item.id));
    const there = new Set([...this.marks, ...this.facts].map(item => item.id));
    this.chosen = new Set([...this.chosen].filter(id => there.has(id)));
    if (this.wanted && this.survey.find(one => one.name === this.wanted)?.placed) {
      this.wanted = this.nextSurveyed();
    }
  }

  /** What is drawn over the frame that is shown. */
  get drawn() {
    return this.elsewhere ?? this.overlay;
  }

  find(id) {
    return this.marks.find(mark => mark.id === id);
  }

  /** The one mark that is chosen; null where none or several are. */
  get only() {
    return this.chosen.size === 1 ? (this.find([...this.chosen][0]) ?? null) : null;
  }

  get those() {
    return this.marks.filter(mark => this.chosen.has(mark.id));
  }

  freshId(letter) {
    return freshId(letter, [...this.marks, ...this.facts]);
  }

  /** The surveyed point to place next: one that is expected in the picture before the others. */
  nextSurveyed() {
    const open = this.survey.filter(one => !one.placed);
    return (open.find(one => one.ellipse) || open[0])?.name || null;
  }

  /** Choose one mark, or add it to those chosen and take it out again. */
  choose(id, more = false) {
    if (!more) {
      if (!this.chosen.has(id) || this.chosen.size > 1) this.chosen = new Set([id]);
    } else if (!this.chosen.delete(id)) {
      this.chosen.add(id);
    }
  }

  /** Choose the mark before (−1) or after (1) the chosen one, around the end; its id. */
  step(by) {
    const at = this.marks.findIndex(mark => this.chosen.has(mark.id));
    const next = this.marks[(at + by + this.marks.length) % this.marks.length];
    this.chosen = new Set([next.id]);
    return next.id;
  }
}
