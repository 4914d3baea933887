// A light table as the pages have it: 800 × 600 px of screen and a margin, a plate of 2000 × 1000.

import {Element, page} from "./page.js";

/** The pictures that scripts have asked for, in order. */
export const loaded = [];
globalThis.Image = class extends Element {
  constructor() {
    super("img");
    loaded.push(this);
  }

  come(width) {
    Object.assign(this, {complete: true, naturalWidth: width});
    this.tell("load");
  }
};
globalThis.HTMLCanvasElement = globalThis.HTMLImageElement = class {};

/** Something to draw on that remembers which pictures were drawn where. */
export function context() {
  const drawn = [];
  return {
    drawn,
    drawImage: (image, ...numbers) => drawn.push([image.src, ...numbers]),
    clearRect() {},
    fillRect() {},
    save() {},
    restore() {},
    beginPath() {},
    moveTo() {},
    lineTo() {},
    stroke() {},
  };
}

/** The table's element, and the context of its real pixels. */
export function layTable(dataset = {}) {
  loaded.length = 0;
  sessionStorage.removeItem("view:proxy");
  const painted = context();
  const root = new Element("div", {width: 824, height: 624, left: 100, top: 50});
  Object.assign(root.dataset, {width: "2000", height: "1000", proxy: "proxy", ...dataset});
  const canvas = Object.assign(new Element("canvas"), {getContext: () => painted});
  const plate = Object.assign(new Element("img"), {naturalWidth: 1000});
  root.found = {
    "img.plate": plate,
    "canvas.tiles": canvas,
    "#over": new Element("g", {found: {path: []}}),
  };
  root.parentElement = root;
  page.byId.loupe = Object.assign(new Element("canvas"), {getContext: context});
  return {root, painted};
}
