// The pointer on the plate: draws and drags marks, chooses them, places aids and surveyed points.

import {notice} from "../ui/app.js";
import {newestOnly} from "../ui/draw.js";
import {
  inBox,
  kindOf,
  length,
  moved,
  nameOf,
  nearestStretch,
  pointsOf,
  setPoint,
} from "./geometry.js";

const ON_FLOOR = ["figure", "cube", "room"];
const REACH = 11; // screen pixels: a shorter drag is a click
const SAME = 4; // screen pixels within which a second click is on the last point

export class Pen {
  constructor({root, sheet, table, shown, aids, leaves}) {
    Object.assign(this, {root, sheet, table, shown, aids, leaves});
    this.tool = "choose";
    this.drag = null; // what is under the pressed pointer
    this.line = null; // a line drawn by clicks: {mark, before}; its last point follows the pointer
    this.dragRoom = newestOnly(at => this.#dragRoom(at));
  }

  /** Begin to listen. `view` draws what changes, `asking` saves it. */
  connect(view, asking) {
    Object.assign(this, {view, asking});
    const {root, table} = this;
    table.panWithLeft = event =>
      event.button === 0 &&
      this.tool === "choose" &&
      !event.shiftKey &&
      !event.target.closest("[data-mark], [data-proposal]");
    root.addEventListener("pointerdown", event => this.#press(event));
    root.addEventListener("pointermove", event => this.#move(event));
    root.addEventListener("pointerup", () => this.#release());
    root.addEventListener("pointercancel", () => this.#cancel());
    root.addEventListener("pointerleave", () => {
      if (!this.drag) table.loupe.hide();
    });
    for (const button of document.querySelectorAll("[data-tool]")) {
      button.addEventListener("click", () => this.take(button.dataset.tool));
    }
  }

  // Tools -----------------------------------------------------------------------------------------

  /** Take a tool into the hand. */
  take(tool) {
    if (this.shown.locked && tool !== "choose" && !ON_FLOOR.includes(tool)) {
      return notice("This camera or draft is locked. Unlock it to draw.");
    }
    if (this.line) this.endLine();
    if (this.aids.straight && tool !== "choose") this.aids.set("straight", false);
    this.tool = tool;
    document.querySelector(".aids").open = false;
    for (const button of document.querySelectorAll("[data-tool]")) {
      button.setAttribute("aria-pressed", button.dataset.tool === tool);
    }
    this.root.classList.toggle("drawing", tool !== "choose");
    this.view.redraw();
    if (tool === "choose") this.table.loupe.hide();
  }

  choose(id, point = 0, more = false) {
    this.shown.choose(id, more);
    this.shown.point = point;
    this.#chosen();
  }

  /** Choose all marks that are shown, or those given. */
  chooseAll(those = this.#visible()) {
    this.shown.chosen = new Set(those.map(mark => mark.id));
    this.#chosen();
  }

  /** Go on with a surveyed point, the next one if none is named. */
  placeNext(name = this.shown.nextSurveyed()) {
    if (!this.shown.survey.length) {
      return notice("There is no survey yet: take a table on the Survey leaf.");
    }
    if (!name) return notice("Every point of the survey is placed.", "good");
    this.shown.wanted = name;
    this.take("survey");
  }

  #chosen() {
    this.view.redraw();
    this.asking.showMark();
  }

  #visible() {
    return this.shown.marks.filter(mark => !this.leaves.hidden.has(kindOf(mark)));
  }

  // Lines drawn by clicks -------------------------------------------------------------------------

  /** End a line drawn by clicks. */
  endLine() {
    const {mark, before} = this.line,
      points = mark.points.slice(0, -1); // the last one follows the pointer
    this.line = null;
    if (points.length < (mark.kind === "bow" ? 3 : 2)) {
      this.#forget(before);
      return notice(
        mark.kind === "bow"
          ? "A bow needs three points or more: click along the thing that is straight in life."
          : "That edge has no length: press at one end, drag to the other, and let go.",
      );
    }
    mark.points = points;
    return this.asking
      .save(`Drew ${mark.id} ${mark.axis || "bow"}`)
      .then(() => this.asking.showMark());
  }

  /** Take the last point of a line drawn by clicks back; the rest stays. */
  takeBackPoint() {
    const {mark, before} = this.line;
    mark.points.splice(-2, 1);
    if (mark.points.length < 2) {
      this.line = null;
      return this.#forget(before);
    }
    this.view.redraw();
  }

  /** Give up what is drawn or dragged; whether there was anything. */
  giveUp() {
    const begun = this.drag?.before ? this.drag : this.line;
    if (!begun) return false;
    this.drag = this.line = null;
    this.table.loupe.hide();
    this.#forget(begun.before);
    return true;
  }

  #forget(before) {
    this.shown.marks = before;
    this.shown.chosen = new Set();
    this.view.redraw();
  }

  #newLine(at) {
    const bow = this.tool === "bow",
      {shown} = this;
    const mark = {
      id: shown.freshId(bow ? "b" : "e"),
      kind: bow ? "bow" : "edge",
      ...(bow ? {} : {axis: this.tool}),
      points: [at, [...at]],
      sigma_px: 0.5,
    };
    shown.marks.push(mark);
    shown.chosen = new Set([mark.id]);
    return mark;
  }

  /** Whether a press lies on the point that was placed last. */
  #onLastPoint(at) {
    const last = this.line.mark.points.at(-2);
    return Math.hypot(last[0] - at[0], last[1] - at[1]) * this.table.scale < SAME;
  }

  // Pressed ---------------------------------------------------------------------------------------

  #press(event) {
    if (event.button !== 0) return;
    this.root.focus({preventScroll: true});
    if (this.asking.held()) return;
    const at = this.table.toPlate(event);
    const begun = this.tool === "choose" ? this.#grab(event, at) : this.#begin(at);
    if (!begun) return;
    this.drag = begun;
    this.root.setPointerCapture(event.pointerId);
    if (begun.box || begun.room) return;
    this.table.loupe.show(begun.off ? pointsOf(begun.mark)[begun.index] : at, event);
    this.view.redraw();
  }

  /** Choose what is under the pointer; what a drag would move, or null. */
  #grab(event, at) {
    const {shown} = this,
      offered = event.target.closest("[data-proposal]");
    if (offered) {
      this.asking.ask(this.sheet.dataset.take, () => ({index: +offered.dataset.proposal}));
      return null;
    }
    const hit = event.target.closest("[data-mark]");
    if (!hit) return event.shiftKey ? {box: true, from: at, to: at} : null;
    const onPoint = hit.dataset.point !== undefined;
    const mark = shown.find(hit.dataset.mark),
      point = onPoint ? +hit.dataset.point : shown.point;
    if (event.altKey && mark.kind !== "spot") this.#addPoint(mark, at);
    else if (event.shiftKey) this.choose(mark.id, point, true);
    else return this.#hold(mark, point, onPoint, at);
    return null;
  }

  #hold(mark, point, onPoint, at) {
    const {shown} = this,
      before = structuredClone(shown.marks);
    const several = shown.chosen.has(mark.id) && shown.chosen.size > 1;
    if (!several) this.choose(mark.id, point);
    if (shown.locked) return null;
    if (several || !onPoint) {
      const together = several ? shown.those : [mark];
      const label = several ? `Moved ${together.length} marks` : `Moved ${nameOf(mark)}`;
      const whole = together.map(one => structuredClone(pointsOf(one)));
      return {together, whole, from: at, before, label};
    }
    // A point grabbed beside its centre keeps its distance to the pointer: nothing jumps.
    const held = pointsOf(mark)[point],
      off = [held[0] - at[0], held[1] - at[1]];
    return {mark, index: point, off, before, label: `Moved ${nameOf(mark)}`};
  }

  /** What the tool in hand begins at a place; null where nothing is dragged. */
  #begin(at) {
    const {shown, tool} = this,
      before = structuredClone(shown.marks);
    if (ON_FLOOR.includes(tool)) {
      this.#aidAt(at);
      return tool === "room" ? {room: true} : null;
    }
    if (this.line && this.#onLastPoint(at)) {
      this.endLine(); // a double click, or a second one on the last point
      return null;
    }
    if (this.line) {
      const {points} = this.line.mark;
      points.push([...at]);
      points[points.length - 2] = at;
      return {clicking: true};
    }
    if (tool === "survey") return shown.wanted ? {survey: shown.wanted, at} : null;
    if (tool === "origin" || tool === "spot") return this.#beginSpot(at, before);
    const mark = this.#newLine(at);
    shown.point = 1;
    return {mark, index: 1, before, fresh: true, drawing: true, label: `Drew ${mark.id} ${tool}`};
  }

  #beginSpot(at, before) {
    const {shown} = this,
      origin = this.tool === "origin";
    const isOrigin = mark => mark.kind === "spot" && mark.world?.every(value => value === 0);
    let mark = origin ? shown.marks.find(isOrigin) : null;
    if (mark) mark.at = at;
    else {
      const place = origin ? {name: "origin", world: [0, 0, 0]} : {};
      mark = {id: shown.freshId("s"), kind: "spot", at, sigma_px: 0.5, ...place};
      shown.marks.push(mark);
    }
    shown.chosen = new Set([mark.id]);
    shown.point = 0;
    const label = origin ? "Placed the origin" : `Placed ${nameOf(mark)}`;
    return {mark, index: 0, before, fresh: true, label};
  }

  #addPoint(mark, at) {
    if (this.shown.locked) return;
    const index = nearestStretch(mark.points, at) + 1;
    mark.points.splice(index, 0, at);
    this.shown.chosen = new Set([mark.id]);
    this.shown.point = index;
    this.asking.save(`Point put into ${nameOf(mark)}`);
  }

  // Moved and let go ------------------------------------------------------------------------------

  #move(event) {
    if (this.table.panning) return;
    const {drag, line} = this,
      at = this.table.toPlate(event);
    if (drag?.room) return void this.dragRoom(at);
    if (drag?.box) {
      drag.to = at;
      return this.view.box(drag.from, at);
    }
    if (line && !drag) line.mark.points[line.mark.points.length - 1] = at;
    if (!drag || drag.clicking) {
      const aims = this.tool !== "choose" && !ON_FLOOR.includes(this.tool);
      if (aims) this.table.loupe.show(at, event);
      if (line) this.view.redraw();
      return;
    }
    this.#carry(drag, at);
    drag.moved = true;
    this.table.loupe.show(drag.off ? pointsOf(drag.mark)[drag.index] : at, event);
    this.view.redraw();
    const tells = !drag.survey && drag.mark?.kind !== "bow";
    if (tells && (!drag.drawing || this.#onScreen(drag.mark) > REACH)) {
      this.asking.preview(this.shown.marks);
    }
  }

  #carry(drag, at) {
    if (drag.survey) drag.at = at;
    else if (drag.together) {
      const by = [at[0] - drag.from[0], at[1] - drag.from[1]];
      drag.together.forEach((mark, m) => {
        drag.whole[m].forEach((point, index) => setPoint(mark, index, moved(point, by)));
      });
    } else setPoint(drag.mark, drag.index, drag.off ? moved(at, drag.off) : at);
  }

  #onScreen(mark) {
    return length(mark) * this.table.scale;
  }

  #release() {
    const done = this.drag;
    if (!done) return;
    this.drag = null;
    if (done.room || done.clicking) return;
    if (done.box) return this.chooseAll(inBox(this.#visible(), done.from, done.to));
    if (this.tool === "choose") this.table.loupe.hide();
    if (done.survey) {
      const placed = {name: done.survey, at: done.at};
      return void this.asking.ask(this.sheet.dataset.place, () => placed);
    }
    const short = done.drawing && (this.#onScreen(done.mark) < REACH || done.mark.kind === "bow");
    if (short) return this.#goOnByClicks(done);
    if (!done.moved && !done.fresh) return;
    const those = done.together || [done.mark];
    const run = done.fresh ? "" : `drag ${those.map(mark => mark.id).join(" ")}`;
    this.asking.save(done.label, run).then(() => {
      if (done.fresh) this.asking.showMark();
    });
  }

  /** A click instead of a drag: the line is drawn point by point. */
  #goOnByClicks({mark, before}) {
    this.line = {mark, before};
    if (this.#onScreen(mark) >= REACH) mark.points.push([...mark.points.at(-1)]);
    this.view.redraw();
  }

  #cancel() {
    if (this.drag?.before) this.shown.marks = this.drag.before;
    this.drag = null;
    this.view.redraw();
  }

  // Aids on the floor -----------------------------------------------------------------------------

  async #dragRoom(at) {
    const {at: corner} = await this.asking.onFloor(at),
      {wish} = this.aids;
    if (!corner || !wish.room) return;
    wish.room = {...wish.room, to: corner, height: this.aids.height};
    await this.asking.refresh();
  }

  async #aidAt(at) {
    // The tool may be another one by the time the server has answered.
    const {tool} = this,
      answer = await this.asking.onFloor(at),
      {wish} = this.aids;
    if (!answer.at) return notice(answer.problem);
    if (tool === "room") wish.room = {from: answer.at, to: answer.at, height: this.aids.height};
    else wish[tool === "figure" ? "figures" : "cubes"].push(answer.at);
    await this.asking.refresh();
  }
}
