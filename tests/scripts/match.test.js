// The Match page's scripts that draw nothing: small geometry, and what is chosen when the server
// answers.

import assert from "node:assert/strict";
import {test} from "node:test";

import * as geometry from "../../web/match/static/match/geometry.js";
import {Shown} from "../../web/match/static/match/shown.js";

const edge = (id, ...points) => ({id, kind: "edge", axis: "up", points});
const spot = (id, at) => ({id, kind: "spot", at});

function answer(marks, more = {}) {
  const empty = {facts: [], overlay: {}, residuals: {}, revision: 1, locked: false, survey: []};
  return {...empty, marks, ...more};
}

test("a fresh id is the first that neither a mark nor a fact has", () => {
  assert.equal(geometry.freshId("e", [{id: "e1"}, {id: "e3"}, {id: "s2"}]), "e2");
});

test("a point is put into the stretch that it lies nearest to", () => {
  const bent = [
    [0, 0],
    [100, 0],
    [100, 100],
  ];
  assert.equal(geometry.nearestStretch(bent, [40, 3]), 0);
  assert.equal(geometry.nearestStretch(bent, [98, 60]), 1);
  assert.equal(geometry.nearestStretch(bent, [-50, 0]), 0); // before its beginning
  assert.equal(geometry.distanceTo([3, 4], [0, 0], [0, 0]), 5); // a stretch of no length
});

test("a box takes what lies in it whole, whichever corner it was drawn from", () => {
  const marks = [
    edge("e1", [10, 10], [20, 20]),
    edge("e2", [10, 10], [60, 20]),
    spot("s1", [30, 30]),
  ];
  for (const [from, to] of [
    [
      [0, 0],
      [40, 40],
    ],
    [
      [40, 0],
      [0, 40],
    ],
  ]) {
    assert.deepEqual(
      geometry.inBox(marks, from, to).map(mark => mark.id),
      ["e1", "s1"],
    );
  }
});

test("what was removed by an answer is chosen no more", () => {
  const shown = new Shown(answer([edge("e1"), spot("s1", [1, 2])], {facts: [{id: "f1"}]}));
  shown.choose("e1");
  shown.choose("s1", true);
  assert.equal(shown.only, null);
  shown.take(answer([spot("s1", [1, 2])]));
  assert.equal(shown.only.id, "s1");
  shown.choose("s1", true); // once more: it is taken out again
  assert.equal(shown.chosen.size, 0);
});

test("marks that are still on their way aren't known to the server", () => {
  const shown = new Shown(answer([edge("e1")]));
  shown.take({...answer([edge("e1"), edge("e2")]), saved: [edge("e1")]});
  assert.deepEqual([...shown.known], ["e1"]);
  assert.equal(shown.freshId("e"), "e3");
});

test("the next surveyed point is one that is expected in the picture", () => {
  const survey = [
    {name: "P1", placed: true, ellipse: null},
    {name: "P2", placed: false, ellipse: null},
    {name: "P3", placed: false, ellipse: [1, 1, 0]},
  ];
  const shown = new Shown(answer([], {survey}));
  assert.equal(shown.nextSurveyed(), "P3");
  shown.wanted = "P3";
  shown.take(answer([], {survey: survey.map(one => ({...one, placed: one.name !== "P2"}))}));
  assert.equal(shown.wanted, "P2");
  shown.take(answer([], {survey: survey.map(one => ({...one, placed: true}))}));
  assert.equal(shown.wanted, null);
});

test("stepping through the marks goes around the end", () => {
  const shown = new Shown(answer([spot("s1"), spot("s2"), spot("s3")]));
  assert.deepEqual(
    [1, 1, 1, 1, -1].map(by => shown.step(by)),
    ["s1", "s2", "s3", "s1", "s3"],
  );
});
