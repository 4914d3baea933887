// Tracks by hand: put down on a frame, corrected by dragging, set beside their pattern, nudged.

import {notice} from "../ui/app.js";

const STIR = 3; // px on the screen before a press becomes a drag
const WAYS = {ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1]};
const PAUSE = 500; // ms after which a run of nudges is one correction

export class TrackHand {
  constructor(layer) {
    this.layer = layer;
    this.placing = false;
    this.held = null; // {id, from, at, off, verb}: a point that is dragged; `at` in px of the plate
    this.nudged = null; // {id, at, timer}
    layer.sheet.addEventListener("click", event => {
      if (event.target.closest("[data-hand=place]")) this.take(!this.placing);
    });
    layer.sheet.addEventListener("change", event => {
      if (event.target.id === "track-window" && layer.chosen.size) layer.ask("window");
    });
    document.addEventListener("flush", () => this.#saveNudges());
    window.addEventListener("pagehide", () => this.#saveNudges());
  }

  /** Take the tool that puts tracks down into the hand, or lay it aside. */
  take(placing) {
    if (placing) this.layer.keepOut.take(false);
    this.placing = placing;
    this.layer.table.root.classList.toggle("drawing", placing);
    if (!placing) this.layer.table.loupe.hide();
    this.settle();
  }

  /** Put the buttons into the state that this remembers. */
  settle() {
    const button = this.layer.sheet.querySelector("[data-hand=place]"),
      window_ = document.getElementById("track-window"),
      {only, about} = this.layer;
    button?.setAttribute("aria-pressed", this.placing);
    if (window_) {
      window_.disabled = !this.layer.chosen.size;
      if (only) window_.value = about[only]?.reach || 10;
    }
    const says = document.getElementById("track-told");
    if (says) says.textContent = only ? this.#told(only) : "";
  }

  #told(id) {
    const {layer} = this,
      told = layer.about[id] || {},
      keys = layer.keysOf(id),
      parts = [];
    if (told.source === "placed")
      parts.push(`placed by hand on ${keys.length === 1 ? "1 frame" : `${keys.length} frames`}`);
    else parts.push(told.source === "imported" ? "from a table" : "found by itself");
    if (told.apart > 0.05) parts.push(`between them its two ways differ by up to ${told.apart} px`);
    if (told.offset)
      parts.push(`${told.offset.map(v => v.toFixed(1)).join(", ")} px beside its pattern`);
    if (told.stale) parts.push("changed since it was followed: D follows it anew");
    if (told.off) parts.push("switched off");
    return parts.join("; ");
  }

  /** A new track where the pointer is. */
  putDown(event) {
    const at = this.layer.table.toPlate(event);
    this.layer.ask("place", {at});
  }

  /** Begin to drag a track's point; with Alt the point leaves its pattern. */
  grab(id, event) {
    const {layer} = this,
      row = layer.rowOf(id);
    if (row === undefined) return;
    const at = [layer.xy[2 * row], layer.xy[2 * row + 1]],
      pointer = layer.table.toPlate(event);
    this.held = {
      id,
      pressed: [event.clientX, event.clientY],
      off: [at[0] - pointer[0], at[1] - pointer[1]],
      from: at,
      at: null,
      verb: event.altKey ? "offset" : "correct",
    };
    layer.table.root.setPointerCapture(event.pointerId);
  }

  /** Whether a move was one of a held point. */
  move(event) {
    const {held, layer} = this;
    if (!held) {
      if (this.placing && layer.open()) layer.table.loupe.show(layer.table.toPlate(event), event);
      return false;
    }
    const away = Math.hypot(event.clientX - held.pressed[0], event.clientY - held.pressed[1]);
    if (!held.at && away < STIR) return true;
    const pointer = layer.table.toPlate(event);
    held.at = [pointer[0] + held.off[0], pointer[1] + held.off[1]];
    layer.table.loupe.show(held.at, event);
    layer.draw();
    return true;
  }

  /** Whether a point was let go. */
  release() {
    const {held, layer} = this;
    if (!held) return false;
    this.held = null;
    layer.table.loupe.hide();
    if (held.at) layer.ask(held.verb, {ids: [held.id], at: held.at});
    layer.draw();
    return true;
  }

  /** What is held or nudged, where it would be. */
  draw(c) {
    const moved = this.held?.at ? this.held : this.nudged;
    if (!moved) return;
    const [x, y] = this.layer.table.toScreen(moved.at),
      [fx, fy] = this.layer.table.toScreen(moved.from);
    c.strokeStyle = "#fff";
    c.lineWidth = 1.5;
    c.beginPath();
    c.arc(x, y, 6, 0, 7);
    c.moveTo(fx, fy);
    c.lineTo(x, y);
    c.stroke();
  }

  /** Whether a key was one of the hand's. */
  key(event) {
    const {layer} = this;
    if ((event.ctrlKey || event.metaKey) && WAYS[event.key] && layer.only) {
      this.#nudge(WAYS[event.key], event.shiftKey ? 1 : 0.1);
      return true;
    }
    if (event.ctrlKey || event.metaKey || event.altKey) return false;
    const key = event.key.toLowerCase();
    if (key === "escape" && this.held) {
      this.held = null;
      layer.table.loupe.hide();
      layer.draw();
    } else if (key === "escape" && this.placing) this.take(false);
    else if (key === "a") this.take(true);
    else return false;
    return true;
  }

  #nudge(way, step) {
    const {layer} = this,
      id = layer.only,
      row = layer.rowOf(id);
    if (row === undefined) return notice(`${id} isn’t seen on this frame.`);
    // A run of nudges is of one track on one frame; another one's is saved at once.
    const goesOn = this.nudged?.id === id && this.nudged.frame === layer.frame;
    if (goesOn) clearTimeout(this.nudged.timer);
    else this.#saveNudges();
    const from = [layer.xy[2 * row], layer.xy[2 * row + 1]],
      at = goesOn ? this.nudged.at : from;
    this.nudged = {
      id,
      from,
      at: [at[0] + way[0] * step, at[1] + way[1] * step],
      frame: layer.frame,
      timer: setTimeout(() => this.#saveNudges(), PAUSE),
    };
    layer.draw();
  }

  async #saveNudges() {
    const {nudged} = this;
    if (!nudged) return;
    clearTimeout(nudged.timer);
    await this.layer.ask("correct", {ids: [nudged.id], at: nudged.at, frame: nudged.frame});
    if (this.nudged === nudged) this.nudged = null;
    this.layer.draw();
  }
}
