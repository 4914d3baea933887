// Draws what the Match page shows, and tells the artist what the chosen tool does.

import {drawPaths, svg} from "../ui/draw.js";
import {Drawing} from "./drawing.js";
import {kindOf} from "./geometry.js";

const HINTS = {
  choose: "drag a point to move it, drag the table to pan",
  across: "drag along an edge that runs across, or click its points",
  up: "drag along an edge that runs up, or click its points",
  along: "drag along an edge that runs along, or click its points",
  bow: "click along something straight, Enter ends it",
  origin: "click where 0, 0, 0 is",
  spot: "click on a point",
  survey: "click where the surveyed point is seen",
  figure: "click on the floor",
  cube: "click on the floor",
  room: "drag from one corner of the floor to the far one",
};

export class View {
  /**
   * `tools`: its `tool` is the key of HINTS that is in hand. `proposing`: its `segments` are those
   * offered, or null.
   */
  constructor({table, shown, aids, leaves, tools, proposing}) {
    Object.assign(this, {table, shown, aids, leaves, tools, proposing});
    this.drawing = new Drawing(table);
  }

  /** Everything, with the paths that the server computed. */
  paint() {
    drawPaths(this.table, this.shown.drawn.paths);
    if (this.shown.beside && !this.aids.straight) {
      for (const path of this.shown.beside.overlay.paths) {
        svg("path", {d: path.d, class: `${path.class} beside`}, this.table.over);
      }
    }
    this.redraw();
  }

  /** Marks, labels and what is chosen. */
  redraw() {
    const {drawing, aids, shown} = this;
    drawing.clear();
    // On another frame are no marks, and the labels are its own.
    this.table.root.classList.toggle("elsewhere", shown.elsewhere !== null);
    this.table.over.style.display = aids.guides ? "" : "none";
    if (aids.guides) this.#labels();
    this.#hint();
    if (!aids.straight && shown.elsewhere === null) this.#marks();
    for (const row of document.querySelectorAll("#evidence [data-id]")) {
      row.classList.toggle("chosen", shown.chosen.has(row.dataset.id));
    }
    for (const button of document.querySelectorAll("[data-survey]")) {
      button.setAttribute("aria-pressed", button.dataset.survey === shown.wanted);
    }
  }

  /** The frame of a box that is dragged. */
  box(from, to) {
    this.redraw();
    this.drawing.box(from, to);
  }

  #labels() {
    for (const label of this.shown.drawn.labels) {
      const trust = label.class.startsWith("trust"),
        below = label.class.endsWith("below");
      const dy = trust ? (below ? 13 : -1) : -5;
      this.drawing.text(label.x, label.y, label.text, label.class, trust ? 0 : 7, dy);
    }
  }

  #marks() {
    const {drawing, shown, leaves} = this;
    if (this.proposing.segments) drawing.proposals(this.proposing.segments);
    for (const mark of shown.marks) {
      if (leaves.hidden.has(kindOf(mark))) continue;
      const residual = shown.residuals[mark.id];
      drawing.mark(mark, {chosen: shown.chosen.has(mark.id), point: shown.point, residual});
    }
    if (this.tools.tool !== "survey" && leaves.open !== "survey") return;
    for (const one of shown.survey) {
      if (one.ellipse) drawing.expected(one, one.name === shown.wanted);
    }
  }

  #hint() {
    const {shown, tools} = this,
      {tool} = tools;
    const told =
      tool === "survey" && shown.wanted ? `click where ${shown.wanted} is seen` : HINTS[tool];
    const several = shown.chosen.size > 1 && `${shown.chosen.size} marks chosen`;
    const says = this.aids.guides && shown.drawn.says;
    document.getElementById("hint").textContent = [told, several, says].filter(Boolean).join(" · ");
  }
}
