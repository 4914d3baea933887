// Keep-out areas: their corners between the frames they were drawn on, and what a press does.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {Element} from "./page.js";
import {pencil} from "./pencil.js";

const {KeepOut} = await import("../../web/match/static/match/keep-out.js");

const SQUARE = [
  [10, 10],
  [50, 10],
  [50, 50],
  [10, 50],
];
const shifted = by => SQUARE.map(([x, y]) => [x + by, y]);

let areas, layer, sent;

beforeEach(() => {
  sent = [];
  const root = new Element();
  layer = {
    at: 4,
    frame: 1004,
    sheet: new Element("div", {dataset: {keepOut: "/keep-out"}}),
    table: {
      root,
      scale: 2,
      panning: null,
      toScreen: ([x, y]) => [2 * x, 2 * y],
      toPlate: ({clientX, clientY}) => [clientX / 2, clientY / 2],
    },
    hand: {take() {}},
    place: ({clientX, clientY}) => [clientX, clientY],
    send: async (url, body) => sent.push([url, body()]),
    fetch() {},
    draw() {},
  };
  areas = new KeepOut(layer);
  areas.areas = [{id: "k1", keys: {2: SQUARE, 6: shifted(40)}}];
});

const event = (x, y, more = {}) => ({clientX: 2 * x, clientY: 2 * y, pointerId: 1, ...more});
function drag(from, to) {
  areas.press(event(...from));
  areas.move(event(...to));
  areas.release();
}

test("between two frames the corners go straight, beyond them they rest", () => {
  const [area] = areas.areas;
  assert.deepEqual(areas.at(area), shifted(20));
  layer.at = 3;
  assert.deepEqual(areas.at(area), shifted(10));
  layer.at = 0;
  assert.deepEqual(areas.at(area), SQUARE);
  layer.at = 99;
  assert.deepEqual(areas.at(area), shifted(40));
  layer.at = 6;
  assert.deepEqual(areas.at(area), shifted(40));
});

test("frames are in the order of their numbers, not of their letters", () => {
  const area = {id: "k2", keys: {10: shifted(100), 9: SQUARE}};
  layer.at = 9;
  assert.deepEqual(areas.at(area), SQUARE);
});

test("a corner is dragged alone, the middle takes all along", () => {
  drag([30, 10], [33, 14]);
  const [corner, ...rest] = shifted(20);
  assert.deepEqual(sent.pop(), [
    "/keep-out",
    {verb: "shape", frame: 1004, id: "k1", corners: [[corner[0] + 3, corner[1] + 4], ...rest]},
  ]);
  drag([50, 30], [55, 30]);
  assert.deepEqual(sent.pop()[1].corners, shifted(25));
});

test("a side that is dragged gets one more corner, with its share of the way", () => {
  drag([40, 10], [40, 3]);
  const [, {verb, index, share, corners}] = sent.pop();
  assert.deepEqual([verb, index, share], ["add_corner", 0, 0.25]);
  assert.deepEqual(corners[1], [40, 3]);
  assert.equal(corners.length, 5);
});

test("a press that isn't moved changes nothing, nor does one far away", () => {
  areas.press(event(30, 10));
  areas.release();
  assert.equal(areas.takes(event(200, 200)), false);
  assert.deepEqual(sent, []);
});

test("Alt takes a corner away, and no side or middle", () => {
  areas.press(event(30, 10, {altKey: true}));
  assert.deepEqual(sent.pop()[1], {verb: "take_corner", frame: 1004, id: "k1", index: 0});
  areas.press(event(50, 30, {altKey: true}));
  areas.press(event(40, 10, {altKey: true}));
  assert.deepEqual(sent, []);
});

test("an area is drawn corner by corner, and closed at its first one or by Enter", () => {
  const key = name => areas.key({key: name});
  key("k");
  for (const at of [
    [100, 100],
    [160, 100],
    [160, 140],
    [100, 140],
  ])
    areas.press(event(...at));
  key("Backspace");
  areas.press(event(100.5, 100.5));
  assert.deepEqual(sent.pop()[1].corners, [
    [100, 100],
    [160, 100],
    [160, 140],
  ]);
  key("k");
  areas.press(event(100, 100));
  key("Escape");
  assert.equal(areas.drawing, null);
  assert.deepEqual(sent, []);
});

test("keys with Ctrl or Alt belong to others, Escape lets a held corner go back", () => {
  assert.equal(areas.key({key: "k", ctrlKey: true}), false);
  assert.equal(areas.key({key: "Escape"}), false);
  areas.press(event(30, 10));
  areas.move(event(90, 90));
  assert.equal(areas.key({key: "Escape"}), true);
  assert.equal(areas.release(), false);
  assert.deepEqual(sent, []);
});

test("areas are drawn with their names, filled corners only on frames they were drawn on", () => {
  const filled = number => {
    layer.at = number;
    const c = pencil();
    areas.draw(c);
    assert.deepEqual(c.texts(), ["k1 keep out"]);
    const style = c.drawn.findIndex(([call]) => call === "fillRect");
    return c.drawn.slice(0, style).findLast(([, name]) => name === "fillStyle")[2];
  };
  assert.equal(filled(2), "#ffffff");
  assert.equal(filled(4), "#101416");
});

test("one that is held is drawn where it is held, one that is begun ends at the pointer", () => {
  const outline = () => {
    const c = pencil();
    areas.draw(c);
    return c.of("clip").map(([path]) => path.points);
  };
  const screen = corners => corners.map(([x, y]) => [2 * x, 2 * y]);
  assert.deepEqual(outline(), [screen(shifted(20))]);
  areas.press(event(50, 30)); // its middle
  areas.move(event(60, 35));
  assert.deepEqual(outline(), [screen(shifted(30).map(([x, y]) => [x, y + 5]))]);
  areas.key({key: "Escape"});
  areas.key({key: "k"});
  areas.press(event(100, 100));
  assert.equal(areas.move(event(130, 110)), true);
  const [, begun] = outline();
  assert.deepEqual(
    begun,
    screen([
      [100, 100],
      [130, 110],
    ]),
  );
});

test("the leaf's buttons begin an area, give it up, and act on one by its name", () => {
  const toggle = new Element("button");
  layer.sheet.found["[data-hand=keep-out]"] = toggle;
  const press = found => layer.sheet.tell("click", {target: new Element("i", {found})});
  press({"[data-hand=keep-out]": toggle});
  assert.deepEqual(areas.drawing, []);
  assert.equal(toggle.getAttribute("aria-pressed"), "true");
  assert.ok(layer.table.root.classes.has("drawing"));
  press({"[data-hand=keep-out]": toggle});
  assert.equal(areas.drawing, null);
  assert.equal(toggle.getAttribute("aria-pressed"), "false");
  press({"[data-area]": {dataset: {area: "remove", id: "k1"}}});
  press({"[data-area]": {dataset: {area: "clear"}}});
  assert.deepEqual(
    sent.map(([, body]) => body),
    [
      {verb: "remove", frame: 1004, id: "k1"},
      {verb: "clear", frame: 1004, id: ""},
    ],
  );
});

test("while the table pans nothing is drawn and nothing is dragged", () => {
  areas.press(event(30, 10));
  layer.table.panning = [0, 0];
  assert.equal(areas.move(event(90, 90)), false);
  layer.table.panning = null;
  areas.release();
  assert.deepEqual(sent, []);
});
