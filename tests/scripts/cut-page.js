// The page of a cut, without a browser: its elements, and what it draws of which picture by how
// much.

import {Element, fresh, page} from "./page.js";

const IDS = `cut-says undo redo play frame at what of-shot report clip-name clip-sheet clip-about
  clip-first clip-last clip-length clip-handles clip-open clip-camera clip-over clip-speed
  clip-between clip-speed-says clip-retime clip-retimed clip-fade-in clip-fade-out clip-dissolve
  start length-says cut-title cut-title-frames cut-counter left-out`.split(/\s+/);
const FORMS = ["undo-form", "redo-form", "take-form"];

let opened = 0;

/** A clip as the server tells of it. */
export function clip(id, begin, length, more = {}) {
  return {
    id,
    begin,
    length,
    code: id.toUpperCase(),
    description: "",
    first: 1001,
    last: 1000 + length,
    over: null,
    fade_in: 0,
    fade_out: 0,
    dissolve: 0,
    speed: "100 %",
    between: "repeat",
    speed_says: "",
    speed_curve: [],
    sources: null,
    camera: "match",
    cameras: [["match", "Matched"]],
    handles: [5, 5],
    url: `/${id}`,
    film: id,
    reach: [1001, 1000 + length],
    offset: 1000,
    revision: 3,
    picture: `/${id}/picture/`,
    photograph: null,
    way: {flip: false, quarters: 0},
    ...more,
  };
}

/** What the server tells of a cut. */
export function told(clips, more = {}) {
  const row = clips.filter(({over}) => over === null);
  const length = row.reduce((sum, one) => sum + one.length, 0);
  return {
    clips,
    length,
    seconds: length / 24,
    rate: 24,
    start: 0,
    start_says: "00:00:00:00",
    timecode: {count: 24, left_out: 0},
    revision: 8,
    undo: "",
    redo: "",
    title: "",
    title_frames: 0,
    counter: false,
    left_out: [],
    ...more,
  };
}

/**
 * Open the page of a cut. Returns `drawn`, which is emptied by whoever looks: [picture's address,
 * weight] each, and texts.
 */
export async function openCut(data) {
  fresh();
  const drawn = [];
  const context = {
    globalAlpha: 1,
    drawImage: image => drawn.push([image.url, context.globalAlpha]),
    fillText: text => drawn.push(text),
  };
  for (const name of ["save", "restore", "translate", "rotate", "scale", "fillRect", "strokeText"])
    context[name] = () => {};
  for (const id of IDS) page.byId[id] = new Element("input", {id, value: ""});
  for (const id of FORMS) {
    const button = new Element("button", {disabled: false});
    page.byId[id] = new Element("form", {elements: {base: {}}, sent: 0, found: {button}});
    page.byId[id].requestSubmit = () => {
      page.byId[id].sent += 1;
    };
  }
  page.byId.what.value = "plate";
  page.byId.picture = new Element("canvas", {width: 640, height: 360, getContext: () => context});
  page.byId.strip = new Element("svg", {width: 1000, height: 80});
  page.byId.rail = new Element("div", {width: 1000, height: 80, scrollLeft: 0});
  const curve = new Element("figure");
  for (const part of [".line", ".playhead", "[data-now]"]) curve.found[part] = new Element();
  curve.found[".ends span"] = [new Element(), new Element()];
  page.byId["clip-curve"] = curve;
  page.found[".cut-page"] = new Element("div", {dataset: {do: "/do"}});
  page.found["[data-verb]"] = ["split", "double", "remove"].map(
    verb => new Element("button", {dataset: {verb}}),
  );
  page.byId["page-data"] = {textContent: JSON.stringify(data)};
  globalThis.Option = class extends Element {
    constructor(text, value, _, selected) {
      super("option", {textContent: text, value, selected});
    }
  };
  globalThis.createImageBitmap = async blob => ({...blob, width: 640, height: 360, close() {}});
  globalThis.fetch = async url => ({status: 200, blob: async () => ({url})});
  opened += 1;
  await import(`../../web/cut/static/cut/cut.js?${opened}`);
  return drawn;
}
