// Looking around in a panorama: turning the view, and lines that go behind the eye.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import "./page.js";

const {Around} = await import("../../web/ui/static/ui/around.js");

const LENS = {projection: "equirectangular", focal: 200, centre: [628, 314], full: true};
const near = (one, other, within) =>
  one.forEach((value, index) => assert.ok(Math.abs(value - other[index]) < within, `${one}`));

let around;
beforeEach(() => {
  around = new Around({root: {clientWidth: 900, clientHeight: 600}}, LENS);
  around.measure();
});

test("what one looks at is in the middle", () => {
  around.lookAt([300, 250]);
  around.measure();
  near(around.place([300, 250]).slice(0, 2), [450, 300], 1e-9);
  near(around.pixel(450, 300), [300, 250], 1e-9);
});

test("a drag along the horizon keeps under the pointer what was there", () => {
  const held = around.pixel(500, 300);
  around.drag([500, 300], [640, 300]);
  near(around.place(held).slice(0, 2), [640, 300], 1e-6);
});

test("a drag over the seam turns the short way, and none turns over the zenith", () => {
  around.lookAt([LENS.centre[0] + Math.PI * 200 - 1, 314]);
  around.measure();
  const before = around.yaw;
  around.drag([500, 300], [400, 300]);
  assert.ok(Math.abs(around.yaw - before) < 0.5);
  for (let i = 0; i < 20; i += 1) around.drag([450, 100], [450, 590]);
  assert.equal(around.pitch, 1.57);
});

test("zooming ends at both ends", () => {
  for (let i = 0; i < 50; i += 1) around.zoom(1.5);
  assert.equal(around.wide, 0.02);
  for (let i = 0; i < 50; i += 1) around.zoom(0.5);
  assert.equal(around.wide, 2.4);
});

test("a line all around is drawn in one piece, and parted behind the eye", () => {
  // The horizon: 360 points, those ahead of the eye from left to right.
  const points = Array.from({length: 360}, (_, i) => `${(i / 360) * 1256.6} 314`);
  const d = around.path(`M${points.join("L")}`);
  assert.equal(d.match(/M/g).length, 1);
  assert.ok(d.match(/L/g).length > 150 && d.match(/L/g).length < 180);
  around.yaw = Math.PI; // now the line begins ahead, goes behind, and ends ahead
  around.measure();
  assert.equal(around.path(`M${points.join("L")}`).match(/M/g).length, 2);
});

test("curves that aren't lines are left out rather than drawn wrong", () => {
  assert.equal(around.path("M0 0C1 1 2 2 3 3"), "");
});
