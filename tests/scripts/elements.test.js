// Elements, notes and curves: the layers of a render and their frames, pins on the plate, and the
// playhead in each curve.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {layTable} from "./laid.js";
import {Element, fresh, page, turn} from "./page.js";

const {followClicks, showPlayhead} = await import("../../web/plates/static/plates/curves.js");

let root, loaded, choose, asked;
const open = path => {
  loaded = (loaded || 0) + 1;
  return import(`../../web/${path}?${loaded}`);
};
const press = (key, target = new Element("body")) => page.tell("keydown", {key, target});
const at = (x, y, more = {}) => ({clientX: 112 + 0.4 * x, clientY: 162 + 0.4 * y, ...more});

/** A list of choices, whose value and index belong together. */
class Select extends Element {
  constructor(values) {
    super("select");
    this.options = values.map(value => ({value}));
    this.selectedIndex = 0;
  }

  get value() {
    return this.options[this.selectedIndex].value;
  }

  set value(wanted) {
    this.selectedIndex = this.options.findIndex(({value}) => value === wanted);
  }
}

async function elements(frames = [], last = null) {
  fresh();
  ({root} = layTable());
  root.found.svg = new Element("svg");
  page.byId["light-table"] = root;
  const layers = new Element("div");
  Object.assign(layers.dataset, {
    folder: "/render/7/",
    frames: JSON.stringify(frames),
    shift: "1000",
  });
  choose = new Select(["beauty", "alpha", "depth"]);
  Object.assign(page.byId, {layers, look: choose, hint: new Element()});
  if (frames.length) {
    page.byId.frame = new Element("input", {value: String(frames[0])});
    page.byId["frame-number"] = new Element("input");
  }
  page.found["[data-save]"] = [new Element("a", {dataset: {save: "/save?what=beauty"}})];
  last ? sessionStorage.setItem("look", last) : sessionStorage.removeItem("look");
  asked = [];
  globalThis.fetch = async url => {
    asked.push(url);
    return {status: 404};
  };
  await open("elements/static/elements/elements.js");
}
const shown = () => (root.found.svg.ahead ?? []).at(-1);

test("the layers of a still are gone through, around the ends, and remembered", async () => {
  await elements();
  assert.equal(shown().src, "/render/7/beauty");
  press(".");
  assert.equal(shown().src, "/render/7/alpha");
  press(",");
  press(",");
  assert.equal(shown().src, "/render/7/depth");
  press(".", new Element("input"));
  assert.equal(shown().src, "/render/7/depth");
  await elements([], sessionStorage.getItem("look"));
  assert.equal(shown().src, "/render/7/depth");
  await elements([], "cryptomatte"); // this render has none
  assert.equal(shown().src, "/render/7/beauty");
});

test("of a sequence the frame is asked for by the number that it was rendered with", async () => {
  await elements([1001, 1002, 1004]);
  assert.deepEqual(asked, ["/render/7/beauty?frame=1"]);
  press("]");
  await turn();
  assert.equal(asked.at(-1), "/render/7/beauty?frame=2");
  assert.equal(page.byId["frame-number"].value, 1002);
  assert.equal(page.found["[data-save]"][0].href, "/save?what=beauty&frame=2");
  press(".");
  await turn();
  assert.equal(asked.at(-1), "/render/7/alpha?frame=2");
});

test("a frame that isn't rendered is told, and nothing else is shown in its place", async () => {
  await elements([1001, 1002, 1004]);
  page.byId.frame.value = "1003";
  page.byId.frame.tell("input");
  await turn();
  assert.equal(page.byId.hint.textContent, "Frame 1003 isn’t rendered.");
  assert.deepEqual(asked, ["/render/7/beauty?frame=1"]);
  press("]");
  assert.equal(page.byId.hint.textContent, "");
});

// Notes -------------------------------------------------------------------------------------------

let form;

async function notes(pins, writable = true) {
  fresh();
  ({root} = layTable());
  form = new Element("form");
  form.elements = {x: {}, y: {}, text: new Element("textarea")};
  Object.assign(page.byId, {"light-table": root, labels: new Element("g")});
  if (writable) page.byId.pin = form;
  page.byId["page-data"] = {textContent: JSON.stringify({pins})};
  await open("notes/static/notes/notes.js");
}
const pins = () =>
  page.byId.labels.children.map(pin => [
    pin.getAttribute("class"),
    pin.children.at(-1).textContent,
  ]);
function click(from, to = from) {
  page.tell("pointerdown", at(...from));
  root.tell("click", at(...to));
}

test("pins stand where they were put, those that are done look so", async () => {
  await notes([
    {at: [1000, 500], text: "1"},
    {at: [100, 100], text: "2", done: true},
  ]);
  assert.deepEqual(pins(), [
    ["note-pin", "1"],
    ["note-pin done", "2"],
  ]);
  const [pin] = page.byId.labels.children;
  assert.match(pin.children[0].getAttribute("d"), /^M412 312l/);
});

test("a click says where the next one goes, a drag or a press off the plate doesn't", async () => {
  await notes([{at: [1000, 500], text: "1"}]);
  click([100, 100], [200, 100]); // it panned
  click([-50, 100]);
  click([500, 1100]);
  assert.equal(pins().length, 1);
  click([640.04, 320]);
  assert.deepEqual([form.elements.x.value, form.elements.y.value], ["640.0", "320.0"]);
  assert.deepEqual(pins()[1], ["note-pin fresh", "new"]);
  assert.equal(page.activeElement, form.elements.text);
  click([10, 10]);
  assert.equal(pins().length, 2); // it is moved
});

test("who may only look puts no pin down", async () => {
  await notes([], false);
  click([640, 320]);
  assert.deepEqual(pins(), []);
});

// Curves ------------------------------------------------------------------------------------------

let curves, values, playhead;

beforeEach(() => {
  fresh();
  values = new Element("span", {dataset: {values: "0.1|0.2|None|0.4"}});
  playhead = new Element("path");
  const curve = new Element("div", {found: {"[data-values]": values, ".playhead": playhead}});
  curves = new Element("div", {dataset: {first: "1001", count: "4"}});
  curves.found[".path-curve"] = [curve];
  page.found[".path-curves"] = [curves];
});

test("the playhead stands in the middle of its frame, with the value there", () => {
  showPlayhead(1002);
  assert.deepEqual([playhead.getAttribute("d"), values.textContent], ["M127.5 0V44", "0.2"]);
  showPlayhead(1003);
  assert.equal(values.textContent, "–"); // none was found
  showPlayhead(1005);
  assert.deepEqual([playhead.getAttribute("d"), values.textContent], ["", "–"]);
  showPlayhead(1000);
  assert.equal(playhead.getAttribute("d"), "");
});

test("a click on a curve goes to the frame under it, a click beside it nowhere", () => {
  const gone = [];
  const report = new Element("div");
  followClicks(report, frame => gone.push(frame));
  const drawn = new Element("svg", {width: 340, height: 44, left: 20});
  drawn.found[".path-curve svg"] = drawn;
  drawn.found[".path-curves"] = curves;
  for (const x of [20, 20 + 170, 20 + 339, 20 + 400, 0])
    report.tell("click", {target: drawn, clientX: x});
  report.tell("click", {target: new Element("p"), clientX: 50});
  assert.deepEqual(gone, [1001, 1003, 1004, 1004, 1001]);
});
