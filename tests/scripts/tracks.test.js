// The tracks over a filmed plate: chosen with pointer, box and sliders, put down, dragged and
// nudged, and what is asked of the server for them.

import assert from "node:assert/strict";
import {beforeEach, mock, test} from "node:test";

import {Element, fresh, page, turn} from "./page.js";
import {pencil} from "./pencil.js";

const {TrackLayer} = await import("../../web/match/static/match/tracks.js");

// t1 goes right over the pictures 0 to 4, t2 stands still on 2 to 4, t3 lies beside it on 4 alone.
const ROWS = [
  [0, 0, 100, 50, 0.2],
  [0, 1, 110, 50, 0.2],
  [0, 2, 120, 50, 0.2],
  [0, 3, 130, 50, 0.2],
  [0, 4, 140, 50, 0.2],
  [1, 2, 300, 200, 0.9],
  [1, 3, 300, 200, 0.9],
  [1, 4, 300, 200, 0.9],
  [2, 4, 304, 200, -1],
];
const WORDS = {
  ids: ["t1", "t2", "t3"],
  about: {t1: {source: "placed", reach: 14, offset: [1.5, 0]}, t2: {}, t3: {}},
  leverage: [0.5, 0.1, 0],
  keep_out: [],
  residual: {frames: [1000], values: [0.3]},
};

let layer, table, sheet, root, asked, gone, curve, open;

function packed(rows, placed) {
  const count = rows.length;
  const bytes = new ArrayBuffer(4 + 21 * count);
  new Int32Array(bytes, 0, 1)[0] = count;
  new Int32Array(bytes, 4, count).set(rows.map(row => row[0]));
  new Int32Array(bytes, 4 + 4 * count, count).set(rows.map(row => row[1]));
  new Float32Array(bytes, 4 + 8 * count, 2 * count).set(rows.flatMap(row => [row[2], row[3]]));
  new Float32Array(bytes, 4 + 16 * count, count).set(rows.map(row => row[4]));
  new Uint8Array(bytes, 4 + 20 * count, count).set(placed);
  return bytes;
}

/** The server's tracks; `placed`: which rows the hand put down. */
function served(rows = ROWS, words = WORDS, placed = [1, 0, 0, 1]) {
  globalThis.fetch = async url =>
    url === "/arrays"
      ? {arrayBuffer: async () => packed(rows, placed)}
      : {json: async () => structuredClone(words)};
}

function field(id, value, more = {}) {
  page.byId[id] = new Element("input", {value: String(value), ...more});
  return page.byId[id];
}

beforeEach(async () => {
  mock.timers.reset();
  fresh();
  for (const [id, value] of [
    ["track-length", "2.5 m"],
    ["track-plus-minus", ""],
    ["track-readout", ""],
    ["track-shutter", ""],
    ["track-window", "12"],
  ])
    field(id, value);
  page.byId["tracks-chosen"] = new Element();
  page.byId["track-told"] = new Element();
  [asked, gone, curve, open] = [[], [], null, true];
  root = new Element("div", {width: 800, height: 450});
  root.found.svg = new Element("svg");
  const buttons = ["follow", "join", "distance", "origin", "height"].map(
    track => new Element("button", {dataset: {track}}),
  );
  sheet = new Element("div", {
    dataset: {arrays: "/arrays", told: "/told", changeTracks: "/tracks", keepOut: "/keep-out"},
  });
  sheet.found["[data-track]"] = buttons;
  served();
  table = {
    root,
    scale: 1,
    panning: null,
    loupe: {show() {}, hide() {}},
    onView() {},
    toScreen: ([x, y]) => [x, y],
    toPlate: ({clientX, clientY}) => [clientX, clientY],
  };
  sessionStorage.removeItem(`chosen-tracks:${location.pathname}`);
  await load();
});

/** The page's scripts begin. */
async function load() {
  layer = new TrackLayer(table, sheet, {
    open: () => open,
    send: async (url, body) => {
      asked.push([url, body()]);
      return null;
    },
    go: number => gone.push(number),
    tiles: () => "/tiles/0/0.png",
    residuals: told => {
      curve = told;
    },
  });
  await turn();
  layer.show(4, 1004);
}

const at = (x, y, more = {}) => ({
  clientX: x,
  clientY: y,
  button: 0,
  pointerId: 1,
  target: root,
  ...more,
});
function press(x, y, more) {
  root.tell("pointerdown", at(x, y, more));
}
function drag(from, to, more) {
  press(...from, more);
  root.tell("pointermove", at(...to, more));
  root.tell("pointerup", at(...to, more));
}
function key(name, more = {}) {
  page.tell("keydown", {key: name, target: root, ...more});
}
const chosen = () => [...layer.chosen].sort();
const button = name => sheet.found["[data-track]"].find(one => one.dataset.track === name);

test("what was chosen stays so when the page is loaded anew, but for what is gone", async () => {
  layer.choose(["t1", "t3"], false);
  served(ROWS.slice(0, 8), {...WORDS, ids: ["t1", "t2"], leverage: [0.5, 0.1]});
  await load();
  assert.deepEqual(chosen(), ["t1"]);
});

test("what comes from the server is read as it was packed", () => {
  assert.equal(layer.rowOf("t1"), 4);
  assert.equal(layer.rowOf("t2", 1), undefined);
  assert.deepEqual([layer.xy[2 * 6], layer.xy[2 * 6 + 1]], [300, 200]);
  assert.ok(Math.abs(layer.residual[5] - 0.9) < 1e-6);
  assert.deepEqual(layer.keysOf("t1"), [0, 3]); // where the hand put it
  assert.deepEqual(layer.keysOf("t2"), [2]); // of a found one where it begins
  assert.equal(curve.says(0.345), "residual, up to 0.34 px");
});

test("a press takes the nearer of two tracks, and none that is too far", () => {
  press(303.5, 201);
  root.tell("pointerup", at(303.5, 201));
  assert.deepEqual(chosen(), ["t3"]);
  assert.equal(layer.near(200, 200), null);
  assert.equal(layer.takes(at(200, 200)), false);
  assert.equal(layer.takes(at(300, 200, {button: 1})), false); // the middle one pans
  open = false;
  assert.equal(layer.takes(at(300, 200)), false);
});

test("Ctrl chooses beside, and takes out again", () => {
  press(140, 50);
  root.tell("pointerup", at(140, 50));
  press(300, 200, {ctrlKey: true});
  assert.deepEqual(chosen(), ["t1", "t2"]);
  assert.equal(layer.only, null);
  press(300, 200, {ctrlKey: true});
  assert.deepEqual(chosen(), ["t1"]);
});

test("a box with Shift takes what lies in it, from any corner; a click with Shift adds", () => {
  drag([320, 220], [290, 190], {shiftKey: true});
  assert.deepEqual(chosen(), ["t2", "t3"]);
  press(140, 50, {shiftKey: true});
  root.tell("pointerup", at(140, 50, {shiftKey: true}));
  assert.deepEqual(chosen(), ["t1", "t2", "t3"]);
  assert.deepEqual(asked, []);
});

test("each verb can be pressed with as many tracks as it needs", () => {
  layer.choose(["t1"], false);
  assert.deepEqual(
    ["follow", "join", "distance", "origin", "height"].map(name => button(name).disabled),
    [false, true, true, false, false],
  );
  layer.choose(["t1", "t2"], false);
  assert.deepEqual([button("join").disabled, button("origin").disabled], [false, true]);
  layer.choose([], false);
  assert.deepEqual([button("follow").disabled, button("height").disabled], [true, false]);
});

test("a verb is asked with what is chosen, the frame and what is typed", async () => {
  layer.choose(["t2", "t3"], false);
  key("j");
  await turn();
  const [url, body] = asked[0];
  assert.equal(url, "/tracks");
  assert.deepEqual(
    [body.verb, body.ids, body.frame, body.length, body.shutter, body.reach],
    ["join", ["t2", "t3"], 1004, "2.5 m", "global", 12],
  );
});

test("the keys go to the tracks only while their leaf is open and nothing is typed", async () => {
  layer.choose(["t1"], false);
  key("d", {target: new Element("input")});
  open = false;
  key("d");
  await turn();
  assert.deepEqual(asked, []);
  open = true;
  key("d");
  await turn();
  assert.equal(asked[0][1].verb, "follow");
});

test("[ and ] go to the frames on which the one track was placed", () => {
  layer.choose(["t1"], false);
  key("[");
  assert.deepEqual(gone, [3]);
  layer.show(3, 1003);
  key("[");
  assert.deepEqual(gone, [3, 0]);
  key("]"); // none after it
  assert.deepEqual(gone, [3, 0]);
  layer.choose(["t2"], true);
  key("[");
  assert.deepEqual(gone, [3, 0]); // of two there is no next
});

test("a point is dragged with its distance to the pointer, once that stirs", async () => {
  layer.choose(["t1"], false);
  press(143, 51);
  root.tell("pointermove", at(144, 51)); // a tremble
  root.tell("pointerup", at(144, 51));
  await turn();
  assert.deepEqual(asked, []);
  drag([143, 51], [153, 61]);
  await turn();
  const [, body] = asked[0];
  assert.deepEqual([body.verb, body.ids, body.at], ["correct", ["t1"], [150, 60]]);
});

test("with Alt the point leaves its pattern; Escape lets go without asking", async () => {
  layer.choose(["t1"], false);
  drag([140, 50], [140, 70], {altKey: true});
  await turn();
  assert.deepEqual([asked[0][1].verb, asked[0][1].at], ["offset", [140, 70]]);
  press(140, 50);
  root.tell("pointermove", at(160, 50));
  key("Escape");
  root.tell("pointerup", at(160, 50));
  await turn();
  assert.equal(asked.length, 1);
});

test("with the tool in hand a press beside all tracks puts one down", async () => {
  key("a");
  assert.ok(root.classes.has("drawing"));
  press(500, 300);
  await turn();
  assert.deepEqual([asked[0][1].verb, asked[0][1].at], ["place", [500, 300]]);
  press(306, 205); // near enough to choose without the tool, not with it
  await turn();
  assert.deepEqual(asked[1][1].at, [306, 205]);
  key("Escape");
  assert.ok(!root.classes.has("drawing"));
});

test("a run of nudges is one correction, by tenths, with Shift by whole pixels", async () => {
  mock.timers.enable({apis: ["setTimeout"]});
  layer.choose(["t1"], false);
  for (let times = 0; times < 3; times += 1) key("ArrowRight", {ctrlKey: true});
  key("ArrowUp", {ctrlKey: true, shiftKey: true});
  assert.deepEqual(asked, []);
  mock.timers.tick(500);
  assert.equal(asked.length, 1);
  const {verb, ids, at: place, frame} = asked[0][1];
  assert.deepEqual([verb, ids, frame], ["correct", ["t1"], 1004]);
  assert.ok(Math.abs(place[0] - 140.3) < 1e-4 && Math.abs(place[1] - 49) < 1e-4);
});

test("nudges of another track, or on another frame, begin where that one lies", async () => {
  mock.timers.enable({apis: ["setTimeout"]});
  layer.choose(["t1"], false);
  key("ArrowRight", {ctrlKey: true});
  layer.choose(["t2"], false);
  key("ArrowLeft", {ctrlKey: true, shiftKey: true});
  assert.deepEqual(asked[0][1].ids, ["t1"]); // not forgotten
  layer.show(3, 1003);
  key("ArrowLeft", {ctrlKey: true, shiftKey: true});
  mock.timers.tick(500);
  const told = asked.map(([, {ids, at: place, frame}]) => [ids[0], Math.round(place[0]), frame]);
  assert.deepEqual(told, [
    ["t1", 140, 1004],
    ["t2", 299, 1004],
    ["t2", 299, 1003],
  ]);
});

test("nudges that still wait are saved when the page is left", async () => {
  mock.timers.enable({apis: ["setTimeout"]});
  layer.choose(["t1"], false);
  key("ArrowDown", {ctrlKey: true});
  window.tell("pagehide");
  assert.equal(asked.length, 1);
});

test("the sliders choose what fits badly, is short or unused, but never what a hand placed", () => {
  const over = field("track-over", "2", {max: "2"});
  const under = field("track-under", "0", {max: "50"});
  const unused = field("track-unused", "", {checked: false});
  page.byId["track-worst-says"] = new Element();
  const slide = () =>
    sheet.tell("input", {target: new Element("input", {found: {"#track-worst": sheet}})});
  over.value = "0.5";
  slide();
  assert.deepEqual(chosen(), ["t2"]);
  assert.match(page.byId["track-worst-says"].textContent, /^1 of 3 tracks: over 0.50 px/);
  [over.value, under.value] = ["2", "6"];
  slide();
  assert.deepEqual(chosen(), ["t2", "t3"]); // t1 is short as well, and placed
  [under.value, unused.checked] = ["0", true];
  slide();
  assert.deepEqual(chosen(), ["t3"]);
});

test("tracks that are gone are chosen no more; those of an answer are", async () => {
  layer.choose(["t2", "t3"], false);
  served(ROWS.slice(0, 8), {...WORDS, ids: ["t1", "t2"], leverage: [0.5, 0.1]});
  await layer.fetch();
  assert.deepEqual(chosen(), ["t2"]);
  layer.send = async () => ({chosen: ["t1"]});
  await layer.ask("follow");
  assert.deepEqual(chosen(), ["t1"]);
});

test("what is told of the one track: its places by hand, its offset", () => {
  layer.choose(["t1"], false);
  assert.equal(
    page.byId["track-told"].textContent,
    "placed by hand on 2 frames; 1.5, 0.0 px beside its pattern",
  );
  assert.equal(page.byId["track-window"].value, 14);
  layer.choose(["t2"], false);
  assert.equal(page.byId["track-told"].textContent, "found by itself");
  layer.choose(["t1"], true);
  assert.equal(page.byId["track-told"].textContent, "");
  assert.equal(page.byId["tracks-chosen"].textContent, "t2, t1");
});

test("with another leaf open the tools are laid aside", () => {
  key("a");
  open = false;
  layer.settle();
  assert.ok(!root.classes.has("drawing"));
});

test("what is proposed is chosen, or ended where it jumps, by its buttons", async () => {
  const click = (selector, dataset) =>
    sheet.tell("click", {target: new Element("i", {found: {[selector]: {dataset}}})});
  click("[data-choose]", {choose: "t1 t3"});
  assert.deepEqual(chosen(), ["t1", "t3"]);
  click("[data-ends]", {ends: "t1 t2", frames: "1003 1004"});
  await turn();
  const [url, body] = asked.at(-1);
  assert.equal(url, "/tracks");
  assert.deepEqual([body.verb, body.ids, body.frames], ["end_each", ["t1", "t2"], [1003, 1004]]);
  click("[data-track]", {track: "follow"});
  await turn();
  assert.equal(asked.at(-1)[1].verb, "follow");
});

test("each track is drawn as what it is, with its tail: found, switched off, or surveyed", () => {
  const drawnAs = about => {
    const c = pencil();
    layer.about = about;
    layer.canvas.getContext = () => c;
    layer.chosen = new Set();
    layer.draw();
    return c;
  };
  const found = drawnAs({});
  assert.equal(found.of("arc").length, 3);
  // t1 has gone from 100 to 140: its tail goes back along that.
  assert.deepEqual(
    found
      .of("lineTo")
      .slice(0, 4)
      .map(([x]) => x),
    [130, 120, 110, 100],
  );
  const off = drawnAs({t1: {off: true}, t2: {off: true}, t3: {off: true}});
  assert.equal(off.of("arc").length, 0); // a cross in place of the ring
  assert.ok(off.drawn.some(([, name, value]) => name === "strokeStyle" && value === "#9aa3a7"));
  const known = drawnAs({t1: {world: [0, 0, 0]}});
  assert.deepEqual(known.of("rect"), [[136, 46, 8, 8]]);
  open = false; // on another leaf none are drawn
  assert.equal(drawnAs({}).of("arc").length, 0);
});
