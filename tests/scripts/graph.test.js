// The graph of a move's channel: keys dragged in time and value, and their handles.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {Element} from "./page.js";

const {Graph} = await import("../../web/moves/static/moves/graph.js");

// 800 × 400 px: the curve's own part is 724 × 366, from (62, 12).
const [LEFT, BOTTOM, WIDE, HIGH] = [62, 378, 724, 366];

let app, root, graph;

beforeEach(() => {
  root = new Element("svg", {width: 800, height: 400});
  app = {
    channel: "x",
    reading: null,
    title: "X",
    frame: 1010,
    authored: {
      first: 1001,
      last: 1101,
      by: "time",
      curves: {
        x: [
          [1001, 0, "free", 0, 0],
          [1051, 5, "free", 0.1, 0.1],
          [1101, 10, "free", 0, 0],
        ],
      },
    },
    made: {curves: {x: [0, 5, 10]}, readings: {}, exceeded: {}},
    data: {channels: {x: {unit: "m", usual: 0}}, readings: {}},
    changes: 0,
    saved: [],
    shown: [],
    changed() {
      app.changes += 1;
    },
    chose() {},
    save(says) {
      app.saved.push(says);
    },
    show(frame) {
      app.shown.push(frame);
    },
    put(...key) {
      app.saved.push(key);
    },
  };
  graph = new Graph(app, root);
  graph.draw();
});

/** A pointer at a frame and a value. */
function at(frame, value, more = {}) {
  const [low, high] = graph.range;
  return {
    clientX: LEFT + ((frame - 1001) / 100) * WIDE,
    clientY: BOTTOM - ((value - low) / (high - low)) * HIGH,
    pointerId: 1,
    target: root,
    ...more,
  };
}
const key = (index, side) => ({target: {dataset: {key: String(index), side}}});

function drag(from, to, more = {}) {
  root.tell("pointerdown", {...from, ...more});
  root.tell("pointermove", {...to, ...more});
  root.tell("pointerup");
}
const keys = () => app.authored.curves.x.map(([frame, value]) => [frame, +value.toFixed(6)]);

test("the values fill the height, with room above and below", () => {
  assert.deepEqual(graph.range, [-1.2, 11.2]);
  app.made.curves.x = [3, 3, 3]; // one that hardly changes isn't blown up
  app.authored.curves.x = [];
  graph.draw();
  const [low, high] = graph.range;
  assert.ok(Math.abs(high - low - 0.62) < 1e-9 && Math.abs((low + high) / 2 - 3) < 1e-9);
});

test("a key goes to whole frames, and where the pointer is", () => {
  drag(at(1051, 5, key(1)), at(1060.4, 7));
  assert.deepEqual(keys()[1], [1060, 7]);
  assert.deepEqual(app.saved, ["X dragged"]);
});

test("with Shift a key is added to those chosen, and all keep their values", () => {
  root.tell("pointerdown", at(1051, 5, key(1)));
  root.tell("pointerup");
  drag(at(1101, 10, key(2)), at(1091, 3), {shiftKey: true});
  assert.deepEqual(keys(), [
    [1001, 0],
    [1041, 5],
    [1091, 10],
  ]);
});

test("a key dragged past another changes places, and stays chosen", () => {
  drag(at(1001, 0, key(0)), at(1071, 0));
  assert.deepEqual(keys(), [
    [1051, 5],
    [1071, 0],
    [1101, 10],
  ]);
  assert.deepEqual([...graph.chosen], [1]);
});

test("one that lands on another takes its place", () => {
  drag(at(1001, 0, key(0)), at(1051, 1));
  assert.deepEqual(keys(), [
    [1051, 1],
    [1101, 10],
  ]);
});

test("a handle turns both sides, with Alt its own only, and never to the other side", () => {
  const handle = at(1060, 6, key(1, "1"));
  drag(handle, at(1061, 7));
  assert.deepEqual(
    app.authored.curves.x[1].slice(3).map(s => +s.toFixed(6)),
    [0.2, 0.2],
  );
  drag(handle, at(1061, 10), {altKey: true});
  assert.deepEqual(
    app.authored.curves.x[1].slice(3).map(s => +s.toFixed(6)),
    [0.2, 0.5],
  );
  drag(handle, at(1040, 10));
  assert.deepEqual(
    app.authored.curves.x[1].slice(3).map(s => +s.toFixed(6)),
    [0.2, 0.5],
  );
});

test("a press beside the keys shows that frame, and lets go of the chosen ones", () => {
  graph.chooseAll();
  assert.equal(graph.chosen.size, 3);
  drag(at(1020.2, 4), at(1025.6, 4));
  assert.deepEqual(app.shown, [1020, 1026]);
  assert.deepEqual([...graph.chosen], []);
  assert.deepEqual(app.saved, []);
});

test("a box chooses what lies in it, beside what was chosen", () => {
  root.tell("pointerdown", at(1101, 10, key(2)));
  root.tell("pointerup");
  drag(at(1060, 7), at(990, -1), {shiftKey: true});
  assert.deepEqual([...graph.chosen].sort(), [0, 1, 2]);
  assert.deepEqual(keys()[0], [1001, 0]);
});

test("a double click puts a key there", () => {
  root.tell("dblclick", at(1030.3, 2.5));
  const [channel, frame, value] = app.saved[0];
  assert.deepEqual([channel, frame, +value.toFixed(6)], ["x", 1030, 2.5]);
});

test("a speed goes over seconds, whose keys need no whole numbers", () => {
  app.channel = "speed";
  app.data.channels.speed = {unit: "m/s", usual: 1};
  app.authored.curves.speed = [[2, 1, "smooth", 0, 0]];
  Object.assign(app.made, {speed_over: [0, 5, 10]});
  app.made.curves.speed = [1, 1, 1];
  graph.draw();
  assert.deepEqual(graph.across, [0, 10]);
  const place = seconds => ({clientX: LEFT + (seconds / 10) * WIDE, clientY: 200, pointerId: 1});
  drag({...place(2), ...key(0)}, place(3.25));
  assert.ok(Math.abs(app.authored.curves.speed[0][0] - 3.25) < 1e-9);
});
