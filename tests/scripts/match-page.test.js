// What the Match page shows over the plate: marks and hints, aids for the eye, and the guides of
// another frame.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {Element, fresh, later, page, serve, turn} from "./page.js";

const {Aids} = await import("../../web/match/static/match/aids.js");
const {PathGuides} = await import("../../web/match/static/match/guides.js");
const {Shown} = await import("../../web/match/static/match/shown.js");
const {View} = await import("../../web/match/static/match/view.js");

const table = () => ({
  root: new Element("div"),
  over: new Element("g", {style: {setProperty() {}}}),
  image: new Element("img"),
  canvas: new Element("canvas"),
  scale: 2,
  toScreen: ([x, y]) => [2 * x, 2 * y],
});

const EDGE = {
  id: "e1",
  kind: "edge",
  axis: "up",
  points: [
    [10, 10],
    [10, 50],
  ],
};
const BOW = {
  id: "b1",
  kind: "bow",
  points: [
    [0, 0],
    [5, 1],
    [9, 1],
    [12, 0],
  ],
};
const SPOT = {id: "s1", kind: "spot", at: [30, 40], name: "Door"};

// What is drawn -----------------------------------------------------------------------------------

let view, shown, drawn;

function draw(marks, more = {}) {
  fresh();
  for (const id of ["marks", "labels", "hint"]) page.byId[id] = new Element();
  page.found["#evidence [data-id]"] = page.found["[data-survey]"] = [];
  const overlay = {paths: [], labels: [], says: ""};
  const empty = {facts: [], residuals: {}, revision: 1, locked: false, survey: []};
  shown = new Shown({...empty, overlay, marks, ...more});
  const parts = {aids: {guides: true, straight: false}, leaves: {hidden: new Set(), open: "fit"}};
  drawn = {...parts, tools: {tool: "choose"}, proposing: {segments: null}};
  view = new View({table: table(), shown, ...drawn});
  view.redraw();
}
const inLayer = kind => {
  const all = [];
  const walk = element => {
    if (element.getAttribute?.("class") === kind || element.tagName === kind) all.push(element);
    element.children.forEach(walk);
  };
  walk(page.byId.marks);
  return all;
};
const labels = () => page.byId.labels.children.map(label => label.textContent);

test("marks are drawn by their kind, with their letter and residual", () => {
  draw([EDGE, BOW, SPOT], {residuals: {e1: 0.347, s1: 0.2}});
  assert.equal(inLayer("edge up")[0].getAttribute("d"), "M20 20L20 100");
  assert.deepEqual(labels(), ["Y 0.3", "⌒ ", "Door"]);
  const ends = inLayer("CIRCLE").filter(one => one.dataset.mark === "b1");
  assert.deepEqual(
    ends.map(one => [one.dataset.point, one.getAttribute("r")]),
    ["0", "1", "2", "3"].map(point => [point, "4"]),
  );
});

test("a chosen point is larger, a mark that is off tells no residual", () => {
  draw([{...EDGE, off: true}], {residuals: {e1: 0.3}});
  assert.deepEqual(labels(), ["Y "]);
  assert.equal(inLayer("is-off-mark").length, 1);
  shown.choose("e1");
  shown.point = 1;
  view.redraw();
  assert.deepEqual(
    inLayer("CIRCLE").map(one => one.getAttribute("r")),
    ["5", "7"],
  );
});

test("kinds that are hidden, the straightened picture and other frames show no marks", () => {
  draw([EDGE, SPOT]);
  drawn.leaves.hidden.add("up");
  view.redraw();
  assert.deepEqual(labels(), ["Door"]);
  drawn.aids.straight = true;
  view.redraw();
  assert.deepEqual(labels(), []);
  drawn.aids.straight = false;
  shown.elsewhere = {
    paths: [],
    labels: [{x: 5, y: 5, text: "horizon", class: "grid"}],
    says: "7 m",
  };
  view.redraw();
  assert.deepEqual(labels(), ["horizon"]);
  assert.ok(view.table.root.classes.has("elsewhere"));
  assert.match(page.byId.hint.textContent, /7 m$/);
});

test("the hint tells the tool, how many are chosen, and what the guides say", () => {
  draw([EDGE, SPOT], {overlay: {paths: [], labels: [], says: "1 m squares"}});
  shown.choose("e1");
  shown.choose("s1", true);
  view.redraw();
  const {hint} = page.byId;
  assert.match(hint.textContent, /drag the table to pan · 2 marks chosen · 1 m squares$/);
  drawn.aids.guides = false;
  drawn.tools.tool = "survey";
  shown.wanted = "P7";
  view.redraw();
  assert.equal(hint.textContent, "click where P7 is seen · 2 marks chosen");
});

test("surveyed points are expected in their ellipse, never too small to be seen", () => {
  const survey = [
    {name: "P1", placed: false, at: [10, 10], ellipse: [20, 0.5, 30]},
    {name: "P2", placed: true, at: [20, 20], ellipse: null},
  ];
  draw([], {survey});
  assert.equal(inLayer("ELLIPSE").length, 0); // on their leaf, or with their tool
  drawn.leaves.open = "survey";
  shown.wanted = "P1";
  view.redraw();
  const [ellipse] = inLayer("ELLIPSE");
  assert.deepEqual(
    ["rx", "ry", "transform"].map(name => ellipse.getAttribute(name)),
    ["40", "4", "rotate(30 20 20)"],
  );
  assert.deepEqual(labels(), ["P1 ±20.0 px"]);
});

test("proposals of no axis can't be taken; a box is drawn from any corner", () => {
  draw([EDGE]);
  drawn.proposing.segments = [
    {axis: "up", points: EDGE.points},
    {axis: null, points: BOW.points.slice(0, 2)},
  ];
  view.box([30, 5], [10, 25]);
  const offered = inLayer("hit").filter(path => path.dataset.proposal !== undefined);
  assert.deepEqual(
    offered.map(path => path.dataset.proposal),
    ["0"],
  );
  const [box] = inLayer("choosing");
  assert.deepEqual(
    ["x", "y", "width", "height"].map(name => box.getAttribute(name)),
    ["20", "10", "40", "40"],
  );
});

test("another draft lies beside, dashed, but not over the straightened picture", () => {
  draw([], {overlay: {paths: [{d: "M0 0", class: "axis"}], labels: [], says: ""}});
  shown.beside = {overlay: {paths: [{d: "M1 1", class: "grid"}]}};
  const paths = () => view.table.over.children.map(path => path.getAttribute("class"));
  view.paint();
  assert.deepEqual(paths(), ["casing", "axis", "grid beside"]);
  drawn.aids.straight = true;
  view.paint();
  assert.deepEqual(paths(), ["casing", "axis"]);
});

// Aids for the eye --------------------------------------------------------------------------------

function aids() {
  fresh();
  const stored = {};
  globalThis.localStorage = {
    getItem: key => stored[key] ?? null,
    setItem: (key, value) => (stored[key] = value),
  };
  const box = name => {
    const own = new Element("input", {type: "checkbox", checked: name === "guides"});
    own.dataset.aid = name;
    page.found[`[data-aid=${name}]`] = own;
    return own;
  };
  page.found["[data-aid]"] = ["guides", "straight", "walls", "map"].map(box);
  page.found["[data-aid=walls], [data-aid=map]"] = page.found["[data-aid]"].slice(2);
  page.found["[data-act=clear-aids]"] = new Element("button");
  page.byId["guide-colour"] = new Element("input", {value: "#ffffff"});
  page.byId["guide-width"] = new Element("input", {value: "1"});
  page.byId.ghost = new Element("input", {value: "1"});
  page.byId["room-height"] = new Element("input", {value: "2.5 m"});
  page.byId.sheet = new Element("div", {dataset: {straight: "/straight.jpg"}});
  const own = table();
  own.image.found["[data-proxy]"] = new Element("div", {dataset: {proxy: "/proxy.jpg"}});
  const changes = [];
  const made = new Aids(own, () => changes.push(1));
  return {made, own, changes, stored};
}

test("an aid is wished for by its box or its key, and the page is told", () => {
  const {made, changes} = aids();
  const [guides, , walls] = page.found["[data-aid]"];
  walls.checked = true;
  walls.tell("change");
  assert.equal(made.wish.walls, true);
  made.toggle("guides");
  assert.deepEqual([made.guides, guides.checked], [false, false]);
  made.wish.cubes.push([1, 2]);
  page.found["[data-act=clear-aids]"].tell("click");
  assert.deepEqual(
    [made.wish, walls.checked],
    [{walls: false, map: false, figures: [], cubes: [], room: null}, false],
  );
  assert.equal(changes.length, 3);
});

test("the straightened picture takes the plate's place, and gives it back", () => {
  const {made, own} = aids();
  made.set("straight", true);
  assert.match(own.image.src, /^\/straight\.jpg\?at=\d+$/);
  assert.equal(own.canvas.style.visibility, "hidden");
  made.set("straight", false);
  assert.deepEqual([own.image.src, own.canvas.style.visibility], ["/proxy.jpg", ""]);
});

test("a room's height is typed in any unit, with a comma too", () => {
  const {made} = aids();
  for (const [text, metres] of [
    ["2,6", 2.6],
    ["240 cm", 2.4],
    ["8 ft", 2.4384],
    ["100in", 2.54],
    ["1800mm", 1.8],
    ["tall", 2.5],
  ]) {
    page.byId["room-height"].value = text;
    assert.ok(Math.abs(made.height - metres) < 1e-9, text);
  }
});

test("looks are kept in this browser; the plate fades with all that it is made of", () => {
  const {stored, own} = aids();
  page.byId["guide-colour"].value = "#ffaa00";
  page.byId["guide-colour"].tell("input");
  assert.deepEqual(JSON.parse(Object.values(stored)[0]), {colour: "#ffaa00", width: "1"});
  page.byId.ghost.value = "0.4";
  page.byId.ghost.tell("input");
  assert.deepEqual([own.image.style.opacity, own.canvas.style.opacity], ["0.4", "0.4"]);
});

// Guides of another frame -------------------------------------------------------------------------

let guides, laid, on;

beforeEach(() => {
  fresh();
  laid = [];
  on = {elsewhere: null, solvedPath: true};
  const aid = {wish: {walls: false}};
  guides = new PathGuides("/guides", on, aid, () => laid.push(on.elsewhere?.says ?? on.elsewhere));
  guides.on = aid;
});
const look = (frame, more = {}) =>
  guides.show({away: frame !== 10, frames: {frame, playing: false, ...more}});

test("another frame's guides are its own: none until they come, none of one that was left", async () => {
  const slow = later();
  serve((_, {frame}) => (frame === 12 ? slow.promise : {says: `of ${frame}`}));
  look(12);
  look(13);
  await turn();
  assert.deepEqual(laid, ["", "", "of 13"]);
  slow.answer({says: "of 12"});
  await turn();
  assert.equal(laid.at(-1), "of 13");
  look(10);
  assert.equal(laid.at(-1), null); // the page's own
});

test("guides come with a first path, and go with it", async () => {
  serve((_, {frame}) => ({says: `of ${frame}`}));
  on.solvedPath = false;
  look(12);
  await turn();
  assert.deepEqual(laid, []);
  on.solvedPath = true;
  guides.renew({away: true, frames: {frame: 12, playing: false}});
  await turn();
  assert.deepEqual(laid, ["", "of 12"]);
  guides.renew({away: true, frames: {frame: 12, playing: false}}); // solved again
  await turn();
  assert.deepEqual(laid, ["", "of 12", "of 12"]);
  on.solvedPath = false;
  look(12);
  assert.equal(laid.at(-1), null);
});

test("while it plays nothing is asked for", async () => {
  const asked = [];
  serve((_, {frame}) => {
    asked.push(frame);
    return {says: ""};
  });
  for (const frame of [12, 13, 14]) look(frame, {playing: true});
  await turn();
  assert.deepEqual([asked, laid], [[], [""]]);
  look(14);
  await turn();
  assert.deepEqual(asked, [14]);
});

test("an answer for what is wished no more isn't shown", async () => {
  const slow = later();
  const answers = [slow.promise, {says: "with walls"}];
  serve(() => answers.shift());
  look(12);
  guides.on.wish.walls = true;
  guides.refresh();
  await turn();
  slow.answer({says: "without"});
  await turn();
  assert.equal(laid.at(-1), "with walls");
});
