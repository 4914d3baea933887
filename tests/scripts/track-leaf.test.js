// What the leaf of the tracks tells: the list in its orders, and the chosen track's pattern beside
// what is seen on this frame.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {loaded} from "./laid.js";
import {Element, fresh, page} from "./page.js";
import {pencil} from "./pencil.js";

const {Patches} = await import("../../web/match/static/match/patches.js");
const {TrackList} = await import("../../web/match/static/match/track-list.js");

/** A row of the list as the browser makes it of its HTML. */
function row() {
  const [name, residual, length, last] = Array.from({length: 4}, () => new Element("td"));
  const [bar, share] = [new Element("rect"), new Element("span")];
  name.append(new Element("button"));
  const tr = new Element("tr", {name, residual, length, bar, share});
  tr.found = {
    td: [name, residual, length, last],
    rect: bar,
    "td:last-child span:last-child": share,
  };
  return tr;
}

// The list ----------------------------------------------------------------------------------------

let layer, list, body, chosen;

beforeEach(() => {
  fresh();
  chosen = [];
  page.createElement = name => (name === "tr" ? row() : new Element(name));
  layer = {
    sheet: new Element(),
    ids: ["a", "b", "c"],
    // Of each observation its track and that track's residual.
    track: [0, 0, 0, 1, 2, 2],
    residual: [0.2, 0.2, 0.2, 0.9, -1, -1],
    leverage: [0.1, 0.4, 0],
    chosen: new Set(["b"]),
    about: {c: {off: true}},
    choose: (ids, beside) => chosen.push([ids, Boolean(beside)]),
  };
  body = new Element("tbody");
  page.byId["track-list"] = new Element("details", {
    found: {"#track-sort": new Element("select"), tbody: body},
  });
  list = new TrackList(layer);
  list.fill();
});

const names = () => body.children.map(({name}) => name.firstChild.textContent);
function sort(value) {
  layer.sheet.tell("change", {target: {id: "track-sort", value}});
}

test("tracks are listed by what the path leans on, by residual, by length and by name", () => {
  list.settle();
  assert.deepEqual(names(), ["b", "a", "c"]);
  sort("residual");
  assert.deepEqual(names(), ["b", "a", "c"]);
  sort("length"); // the shortest is looked at first
  assert.deepEqual(names(), ["b", "c", "a"]);
  sort("name");
  assert.deepEqual(names(), ["a", "b", "c"]);
  assert.equal(page.byId["track-list"].found["#track-sort"].value, "name");
});

test("each row tells its figures, whether it is off, and no figure that isn't known", () => {
  list.settle();
  const told = body.children.map(({residual, length, share, bar}) => [
    residual.textContent,
    length.textContent,
    share.textContent,
    bar.getAttribute("width"),
  ]);
  assert.deepEqual(told, [
    ["0.900", 1, "40.0 %", "100%"],
    ["0.200", 3, "10.0 %", "25%"],
    ["off", 2, "–", "0%"],
  ]);
  assert.equal(body.children[0].name.firstChild.getAttribute("aria-pressed"), "true");
  assert.equal(body.children[1].name.firstChild.getAttribute("aria-pressed"), "false");
});

test("of many only the first are listed", () => {
  layer.ids = Array.from({length: 40}, (_, number) => `t${number}`);
  layer.leverage = layer.ids.map((_, number) => number / 1000);
  list.fill();
  list.settle();
  assert.deepEqual([names().length, names()[0]], [15, "t39"]);
});

test("a click chooses, with Ctrl or Shift beside what is chosen", () => {
  const target = new Element("i", {found: {"[data-track-row]": {dataset: {trackRow: "a"}}}});
  layer.sheet.tell("click", {target});
  layer.sheet.tell("click", {target, ctrlKey: true});
  layer.sheet.tell("click", {target, shiftKey: true});
  layer.sheet.tell("click", {target: new Element()});
  assert.deepEqual(chosen, [
    [["a"], false],
    [["a"], true],
    [["a"], true],
  ]);
});

test("the list stays open when the leaf is fetched anew, and is quiet where there is none", () => {
  layer.sheet.tell("toggle", {target: {id: "track-list", open: true}});
  layer.sheet.tell("toggle", {target: {id: "another", open: false}});
  const anew = new Element("details", {found: page.byId["track-list"].found});
  page.byId["track-list"] = anew;
  list.settle();
  assert.equal(anew.open, true);
  page.byId = {};
  list.settle();
});

// The pattern and what is seen --------------------------------------------------------------------

const SIDE = 168; // 42 px of the picture, four times as large

let patches, figures, canvases, box;

function track({only = "a", at = 6, xy = [300, 100, 310, 104], rows = {3: 0, 6: 1}} = {}) {
  loaded.length = 0;
  canvases = [pencil(), pencil()];
  figures = [new Element("figcaption"), new Element("figcaption")];
  box = new Element("div");
  box.found = {
    canvas: canvases.map(c => ({width: SIDE, getContext: () => c})),
    figcaption: figures,
  };
  page.byId["track-patches"] = box;
  const shown = {only, at, frame: 1000 + at, xy, about: {a: {reach: 6, offset: [2, -1]}}};
  const found = {rowOf: (_, number = at) => rows[number], keysOf: () => [3, 9]};
  patches = new Patches({...shown, ...found}, number => `/tiles/${number}/0/0.png`);
  patches.show();
}

test("the pattern is that of the last place by hand, beside this frame's", () => {
  track();
  assert.deepEqual(
    figures.map(one => one.textContent),
    ["Placed on 1003", "Here, on 1006"],
  );
  // 300 ± 21 px across and 100 ± 21 down touch the second tile of the first row alone.
  assert.deepEqual(
    loaded.map(image => image.src),
    ["/tiles/3/1/0.png", "/tiles/6/1/0.png"],
  );
  assert.deepEqual(canvases[1].of("drawImage"), []); // it hasn't come yet
  loaded[1].come(256);
  const [[image, left, top, wide]] = canvases[1].of("drawImage");
  assert.deepEqual([image.src, wide], ["/tiles/6/1/0.png", 1024]);
  // Its corner at (256, 0) px, of a cut whose corner is (310 − 21, 104 − 21).
  assert.deepEqual([left, top], [4 * (256 - 289), 4 * (0 - 83)]);
  assert.equal(canvases[1].imageSmoothingEnabled, false);
});

test("the window is drawn about the pattern, the cross on what is meant", () => {
  track();
  const [[x, y, wide, high]] = canvases[1].of("strokeRect");
  assert.deepEqual([wide, high], [52, 52]); // 13 px
  assert.deepEqual([x + wide / 2, y + high / 2], [84 - 8, 84 + 4]); // 2 px right, 1 up of it
  assert.deepEqual(canvases[1].of("moveTo")[0], [88, 84]);
});

test("at a tile's border both are asked for, and none beside the picture", () => {
  track({xy: [10, 10, 256, 256]});
  assert.deepEqual(loaded.map(image => image.src.slice(7)).sort(), [
    "3/0/0.png",
    "6/0/0.png",
    "6/0/1.png",
    "6/1/0.png",
    "6/1/1.png",
  ]);
  patches.show();
  assert.equal(loaded.length, 5); // each once
});

test("before the first place by hand its pattern is that one; what isn't seen is said", () => {
  track({at: 1, rows: {3: 0}});
  assert.deepEqual(
    figures.map(one => one.textContent),
    ["Placed on 1003", "Not seen on 1001"],
  );
  assert.deepEqual(canvases[1].of("drawImage"), []);
  assert.deepEqual(canvases[1].of("strokeRect"), []);
});

test("with none or several chosen there is nothing to show", () => {
  track({only: null});
  assert.equal(box.hidden, true);
  assert.deepEqual(loaded, []);
  page.byId = {};
  patches.show();
});
