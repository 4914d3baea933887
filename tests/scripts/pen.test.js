// The pointer on the plate of Match: lines by a drag or by clicks, spots, marks that are moved,
// chosen, and the keys beside it.

import assert from "node:assert/strict";
import {beforeEach, mock, test} from "node:test";

import {Element, fresh, notices, page, turn} from "./page.js";

const {Pen} = await import("../../web/match/static/match/pen.js");
const {Keys} = await import("../../web/match/static/match/keys.js");
const {Shown} = await import("../../web/match/static/match/shown.js");

const edge = (id, ...points) => ({id, kind: "edge", axis: "up", points});

let pen, shown, root, saved, asked, previews, aids, sheet, others;

function begin(marks, more = {}) {
  fresh();
  page.found[".aids"] = new Element("details");
  [saved, asked, previews] = [[], [], 0];
  root = new Element("div", {width: 800, height: 600});
  sheet = new Element("div", {dataset: {take: "/take", place: "/place"}});
  const empty = {facts: [], overlay: {}, residuals: {}, revision: 1, locked: false, survey: []};
  shown = new Shown({...empty, marks, ...more});
  const table = {root, scale: 1, panning: null, loupe: {show() {}, hide() {}}};
  table.toPlate = ({clientX, clientY}) => [clientX, clientY];
  aids = {straight: false, wish: {figures: [], cubes: [], room: null}, height: 2.4};
  aids.set = (name, on) => {
    aids[name] = on;
  };
  pen = new Pen({root, sheet, table, shown, aids, leaves: {hidden: new Set(["bow"])}});
  const view = {redraw() {}, box() {}};
  const asking = {
    held: () => false,
    showMark() {},
    preview: () => {
      previews += 1;
    },
    save: async (...label) => {
      saved.push([...label, structuredClone(shown.marks)]);
    },
    ask: async (url, body) => asked.push([url, body()]),
    onFloor: async at => ({at: [at[0] / 100, at[1] / 100]}),
    refresh: async () => {},
  };
  pen.connect(view, asking);
  others = [];
  const more_keys = {c: () => others.push("c")};
  new Keys({root, shown, view, asking, pen, others: more_keys});
}

beforeEach(() => {
  mock.timers.reset();
  begin([edge("e1", [100, 100], [100, 300]), edge("e2", [200, 100], [300, 100])]);
});

/** What is under the pointer: a mark, and one of its points. */
const on = (mark, point) => {
  const dataset = {mark};
  if (point !== undefined) dataset.point = String(point);
  const hit = new Element("path", {dataset});
  hit.found["[data-mark]"] = hit.found["[data-mark], [data-proposal]"] = hit;
  return {target: hit};
};
const at = (x, y, more = {}) => ({
  clientX: x,
  clientY: y,
  button: 0,
  pointerId: 1,
  target: root,
  ...more,
});
function drag(from, to, more) {
  root.tell("pointerdown", at(...from, more));
  root.tell("pointermove", at(...to, more));
  root.tell("pointerup", at(...to, more));
}
function click(x, y, more) {
  root.tell("pointerdown", at(x, y, more));
  root.tell("pointerup", at(x, y, more));
}
const key = (name, more = {}) => page.tell("keydown", {key: name, target: root, ...more});
const points = id => shown.find(id)?.points;
const labels = () => saved.map(([label]) => label);

test("a drag along an edge draws it, and its consequences are seen on the way", async () => {
  pen.take("along");
  drag([400, 400], [500, 450]);
  await turn();
  assert.deepEqual(shown.find("e3"), {
    id: "e3",
    kind: "edge",
    axis: "along",
    points: [
      [400, 400],
      [500, 450],
    ],
    sigma_px: shown.find("e3").sigma_px,
  });
  assert.deepEqual(labels(), ["Drew e3 along"]);
  assert.equal(previews, 1);
});

test("clicks draw a line point by point; Enter ends it, and the next one isn't kept", async () => {
  pen.take("across");
  click(400, 400);
  assert.deepEqual(saved, []);
  root.tell("pointermove", at(450, 402));
  click(500, 405);
  root.tell("pointermove", at(600, 410));
  click(600, 410);
  root.tell("pointermove", at(700, 500));
  key("Enter");
  await turn();
  assert.deepEqual(points("e3"), [
    [400, 400],
    [500, 405],
    [600, 410],
  ]);
});

test("a second click on the last point ends the line too", async () => {
  pen.take("up");
  click(400, 400);
  click(400, 500);
  click(401, 500);
  await turn();
  assert.equal(pen.line, null);
  assert.deepEqual(points("e3"), [
    [400, 400],
    [400, 500],
  ]);
});

test("Backspace takes the last point back, at last the line; Escape gives it up at once", () => {
  pen.take("bow");
  click(400, 400);
  click(450, 420);
  key("Backspace");
  assert.equal(pen.line.mark.points.length, 2); // the first, and the one that follows
  key("Backspace");
  assert.equal(pen.line, null);
  assert.deepEqual(
    shown.marks.map(mark => mark.id),
    ["e1", "e2"],
  );
  click(400, 400);
  click(450, 420);
  key("Escape");
  assert.equal(shown.marks.length, 2);
  assert.equal(pen.tool, "bow"); // the tool stays until Escape comes once more
  key("Escape");
  assert.equal(pen.tool, "choose");
});

test("a bow of two points is refused, with what to do", () => {
  pen.take("bow");
  click(400, 400);
  click(450, 420);
  key("Enter");
  assert.equal(shown.marks.length, 2);
  assert.deepEqual(saved, []);
  assert.match(notices().at(-1), /three points or more/);
});

test("another tool ends the line in hand", async () => {
  pen.take("across");
  click(400, 400);
  click(500, 400);
  key("y");
  await turn();
  assert.deepEqual(labels(), ["Drew e3 across"]);
  assert.equal(pen.tool, "up");
});

test("a point grabbed beside its middle doesn't jump", async () => {
  drag([103, 98], [113, 118], on("e1", 0));
  await turn();
  assert.deepEqual(points("e1")[0], [110, 120]);
  assert.deepEqual(saved[0].slice(0, 2), ["Moved e1", "drag e1"]);
});

test("a click on a point chooses it and saves nothing", async () => {
  click(100, 300, on("e1", 1));
  await turn();
  assert.deepEqual([[...shown.chosen], shown.point], [["e1"], 1]);
  assert.deepEqual(saved, []);
});

test("a line is dragged whole; of several that are chosen all go along", async () => {
  drag([100, 200], [110, 205], on("e1"));
  assert.deepEqual(points("e1"), [
    [110, 105],
    [110, 305],
  ]);
  pen.chooseAll();
  drag([250, 100], [250, 90], on("e2", 1));
  await turn();
  assert.deepEqual(points("e1")[0], [110, 95]);
  assert.deepEqual(points("e2"), [
    [200, 90],
    [300, 90],
  ]);
  assert.deepEqual(saved[1].slice(0, 2), ["Moved 2 marks", "drag e1 e2"]);
});

test("Alt puts a point into the stretch under the pointer", async () => {
  click(250, 104, {...on("e2"), altKey: true});
  await turn();
  assert.deepEqual(points("e2"), [
    [200, 100],
    [250, 104],
    [300, 100],
  ]);
  assert.deepEqual(labels(), ["Point put into e2"]);
});

test("a box with Shift takes what is shown, not what is hidden", () => {
  shown.marks.push({id: "b1", kind: "bow", points: [[150, 150]]});
  drag([50, 50], [400, 400], {shiftKey: true});
  assert.deepEqual([...shown.chosen].sort(), ["e1", "e2"]);
});

test("an interrupted drag leaves everything as it was", () => {
  root.tell("pointerdown", at(100, 100, on("e1", 0)));
  root.tell("pointermove", at(150, 150, on("e1", 0)));
  assert.deepEqual(points("e1")[0], [150, 150]);
  root.tell("pointercancel");
  assert.deepEqual(points("e1")[0], [100, 100]);
  root.tell("pointerup", at(150, 150));
  assert.deepEqual(saved, []);
});

test("the origin is one spot: placed again, it moves", async () => {
  pen.take("origin");
  click(400, 500);
  click(420, 520);
  await turn();
  const spots = shown.marks.filter(mark => mark.kind === "spot");
  assert.equal(spots.length, 1);
  assert.deepEqual([spots[0].at, spots[0].world, spots[0].name], [[420, 520], [0, 0, 0], "origin"]);
  assert.deepEqual(labels(), ["Placed the origin", "Placed the origin"]);
  pen.take("spot");
  click(10, 10);
  assert.equal(shown.marks.filter(mark => mark.kind === "spot").length, 2);
});

test("surveyed points are placed one after the other", async () => {
  const survey = ["P1", "P2"].map(name => ({name, placed: false, ellipse: null}));
  begin([], {survey});
  pen.placeNext();
  assert.deepEqual([pen.tool, shown.wanted], ["survey", "P1"]);
  drag([300, 300], [310, 305]);
  await turn();
  assert.deepEqual(asked, [["/place", {name: "P1", at: [310, 305]}]]);
  begin([]);
  pen.placeNext();
  assert.match(notices().at(-1), /no survey yet/);
});

test("a locked camera is looked at, not drawn on", async () => {
  begin([edge("e1", [100, 100], [100, 300])], {locked: true});
  pen.take("across");
  assert.equal(pen.tool, "choose");
  assert.match(notices().at(-1), /locked/);
  drag([100, 100], [150, 150], on("e1", 0));
  key("Delete");
  key("ArrowLeft");
  click(100, 200, {...on("e1"), altKey: true});
  await turn();
  assert.deepEqual(saved, []);
  assert.deepEqual(points("e1"), [
    [100, 100],
    [100, 300],
  ]);
  pen.take("cube"); // an aid for the eye changes nothing
  assert.equal(pen.tool, "cube");
});

test("aids are put on the floor where the server finds it", async () => {
  pen.take("figure");
  click(300, 200);
  pen.take("room");
  root.tell("pointerdown", at(100, 100));
  await turn();
  root.tell("pointermove", at(400, 500));
  await turn();
  root.tell("pointerup", at(400, 500));
  assert.deepEqual(aids.wish.figures, [[3, 2]]);
  assert.deepEqual(aids.wish.room, {from: [1, 1], to: [4, 5], height: 2.4});
  assert.deepEqual(saved, []);
});

test("to draw, the straightened picture gives way to the plate", () => {
  aids.straight = true;
  pen.take("choose");
  assert.equal(aids.straight, true);
  pen.take("spot");
  assert.equal(aids.straight, false);
});

test("what is offered is taken by a click", async () => {
  const offer = new Element("path", {dataset: {proposal: "3"}});
  offer.found["[data-proposal]"] = offer;
  click(10, 10, {target: offer});
  await turn();
  assert.deepEqual(asked, [["/take", {index: 3}]]);
});

// Keys --------------------------------------------------------------------------------------------

test("a run of nudges is one edit of the chosen point, by pixels and tenths", async () => {
  mock.timers.enable({apis: ["setTimeout"]});
  pen.choose("e1", 1);
  key("ArrowRight");
  key("ArrowRight", {shiftKey: true});
  key("ArrowUp");
  assert.deepEqual(saved, []);
  mock.timers.tick(250);
  assert.deepEqual(points("e1"), [
    [100, 100],
    [101.1, 299],
  ]);
  assert.deepEqual(saved[0].slice(0, 2), ["Nudged e1", "nudge e1"]);
  assert.equal(saved.length, 1);
});

test("several marks are nudged whole, and saved before the page goes", () => {
  mock.timers.enable({apis: ["setTimeout"]});
  pen.chooseAll();
  key("ArrowDown");
  window.tell("pagehide");
  assert.deepEqual(points("e1"), [
    [100, 101],
    [100, 301],
  ]);
  assert.deepEqual(points("e2")[0], [200, 101]);
  assert.deepEqual(labels(), ["Nudged 2 marks"]);
});

test("Delete removes what is chosen, and says what", async () => {
  pen.choose("e1");
  key("Delete");
  await turn();
  assert.deepEqual(
    shown.marks.map(mark => mark.id),
    ["e2"],
  );
  key("Delete"); // nothing is chosen now
  await turn();
  assert.deepEqual(labels(), ["Removed e1"]);
});

test("Tab goes from point to point, while the plate has the keys", () => {
  pen.choose("e1", 0);
  key("Tab");
  assert.equal(shown.point, 0);
  page.activeElement = root;
  key("Tab");
  assert.equal(shown.point, 1);
  key("Tab");
  assert.equal(shown.point, 0);
});

test("letters take tools, Ctrl + A takes all, and what is typed is left alone", () => {
  key("b");
  assert.equal(pen.tool, "bow");
  key("a", {ctrlKey: true});
  assert.equal(shown.chosen.size, 0); // only where one chooses
  key("Escape");
  key("a", {ctrlKey: true});
  assert.equal(shown.chosen.size, 2);
  key("x", {altKey: true});
  assert.equal(pen.tool, "choose");
  key("c");
  assert.deepEqual(others, ["c"]);
  key("x", {target: new Element("input", {type: "text"})});
  assert.equal(pen.tool, "choose");
});

test("brackets step through the marks", () => {
  key("]");
  assert.deepEqual([...shown.chosen], ["e1"]);
  key("[");
  assert.deepEqual([...shown.chosen], ["e2"]);
});
