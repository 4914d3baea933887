// The views of a move: its route from above, and flying its camera.

import assert from "node:assert/strict";
import {beforeEach, mock, test} from "node:test";

import {field, open, press, route, saved, sent, through} from "./moves-page.js";
import {Element, page, picture, turn} from "./page.js";

const {WebGLRenderer} = await import("./three.js");

beforeEach(async () => {
  mock.timers.reset();
  await open();
});

// The route ---------------------------------------------------------------------------------------

const handle = frame => route.children.find(child => child.dataset.frame === String(frame));
const centre = element => ["x", "y"].map(name => +element.getAttribute(name) + 4.5);
const metre = () => {
  const [, scale] = /h([\d.]+)/.exec(
    route.children.find(child => child.getAttribute("class") === "metre").getAttribute("d"),
  );
  return +scale;
};

test("a key on the route is dragged in metres, in the two ways that the view shows", async () => {
  const scale = metre();
  assert.ok(Math.abs(centre(handle(1011))[0] - centre(handle(1001))[0] - 10 * scale) < 1e-6);
  route.tell("pointerdown", {target: handle(1011), clientX: 50, clientY: 60, pointerId: 1});
  assert.equal(field("frame").value, 1011);
  route.tell("pointermove", {clientX: 50 + scale, clientY: 60 + 2 * scale});
  await turn();
  const tried = sent.at(-1);
  assert.equal(tried[0], "/try");
  assert.deepEqual(saved(), []); // not while it is dragged
  route.tell("pointerup");
  await turn();
  const {curves} = saved()[0].authored;
  assert.deepEqual(
    curves.x.map(([, value]) => +value.toFixed(9)),
    [0, 11],
  );
  assert.deepEqual(
    curves.z.map(([frame, value]) => [frame, +value.toFixed(9)]),
    [[1011, 2]],
  );
  assert.equal(curves.y.length, 1);
});

test("from the front a drag upwards raises the key", async () => {
  page.found["[data-route]"][1].tell("click");
  assert.equal(page.found["[data-route]"][1].getAttribute("aria-pressed"), "true");
  const scale = metre();
  route.tell("pointerdown", {target: handle(1001), clientX: 0, clientY: 100, pointerId: 1});
  route.tell("pointermove", {clientX: 0, clientY: 100 - scale});
  route.tell("pointerup");
  await turn();
  const {y, z} = saved()[0].authored.curves;
  assert.ok(Math.abs(y[0][1] - 2.5) < 1e-9);
  assert.equal(z, undefined);
});

test("a press on a key without a drag only shows its frame", async () => {
  route.tell("pointerdown", {target: handle(1011), clientX: 50, clientY: 60, pointerId: 1});
  route.tell("pointerup");
  await turn();
  assert.deepEqual(sent, []);
});

// Looking through it ------------------------------------------------------------------------------

const eye = () => WebGLRenderer.last.camera.position.toArray().map(value => +value.toFixed(4));
const loose = () => field("through").classes.has("loose");
function hold(key, milliseconds, step = 20) {
  press(key);
  for (let at = 0; at < milliseconds; at += step) picture(step);
  page.tell("keyup", {key});
}
function rest() {
  for (let times = 0; times < 200; times += 1) picture(20);
}

test("the camera stands where the move has it, with its angle of view", () => {
  press("End");
  assert.deepEqual(eye(), [10, 1.5, 0]);
  const {camera} = WebGLRenderer.last;
  // 400 × 300: the width fits, 2 · atan(0.5 · 300 / 400) high.
  assert.ok(Math.abs(camera.fov - (2 * Math.atan(0.375) * 180) / Math.PI) < 1e-9);
  const frame = field("through").found[".picture-frame"].style;
  assert.deepEqual([frame.width, Math.round(Number.parseFloat(frame.height))], ["400px", 224]);
});

test("it is flown at the speed that is typed, has a mass, and comes to rest", () => {
  hold("ArrowUp", 2000);
  const there = eye();
  assert.ok(there[2] < -3 && there[2] > -4, `${there}`); // 2 m/s, less what it takes to begin
  assert.deepEqual([there[0], there[1]], [0, 1.5]);
  rest();
  const rested = eye();
  assert.ok(rested[2] < there[2] && there[2] - rested[2] < 0.6, `${rested}`);
  rest();
  assert.deepEqual(eye(), rested);
  assert.ok(loose());
});

test("it flies level, however it looks; up and down go by the world", () => {
  through.tell("pointerdown", {clientX: 0, clientY: 0, pointerId: 1});
  through.tell("pointermove", {clientX: 0, clientY: 120}); // up by 30°
  through.tell("pointerup");
  hold("ArrowUp", 500);
  rest();
  const level = eye();
  assert.ok(Math.abs(level[1] - 1.5) < 1e-6 && level[2] < -0.5, `${level}`);
  hold("PageUp", 500);
  rest();
  const risen = eye();
  assert.ok(risen[1] > 2 && Math.abs(risen[2] - level[2]) < 1e-3, `${level} ${risen}`);
});

test("Escape and another frame bring it back onto the move", () => {
  hold("ArrowRight", 300);
  press("Escape");
  assert.deepEqual([eye(), loose()], [[0, 1.5, 0], false]);
  hold("ArrowRight", 300);
  rest();
  press(".");
  assert.deepEqual([eye(), loose()], [[1, 1.5, 0], false]);
});

test("with Shift it goes around what is looked at, at the same distance", async () => {
  await open({authored: {looks_at: [0, 1.5, -4]}});
  through.tell("pointerdown", {clientX: 0, clientY: 0, pointerId: 1});
  through.tell("pointermove", {clientX: 360, clientY: 0, shiftKey: true}); // a quarter
  through.tell("pointerup");
  const [x, y, z] = eye();
  assert.ok(Math.abs(x + 4) < 1e-3 && Math.abs(y - 1.5) < 1e-3 && Math.abs(z + 4) < 1e-3);
  const {camera} = WebGLRenderer.last;
  const [ahead] = [camera.getWorldDirection(camera.position.clone()).toArray()];
  assert.ok(ahead[0] > 0.999, `${ahead}`);
});

test("the wheel goes ahead and back", () => {
  through.tell("wheel", {deltaY: -120});
  assert.deepEqual(eye(), [0, 1.5, -0.2]);
});

test("the keys don't fly while something is typed, or a slider has them", () => {
  press("ArrowUp", {target: new Element("textarea")});
  press("ArrowUp", {target: new Element("input", {type: "range"})});
  press("ArrowUp", {ctrlKey: true});
  rest();
  assert.deepEqual(eye(), [0, 1.5, 0]);
});

test("a flight is recorded in real time, and sent with its seconds", async () => {
  field("tolerance").value = "0.8";
  press("r");
  press("ArrowRight");
  for (let times = 0; times < 51; times += 1) picture(20);
  page.tell("keyup", {key: "ArrowRight"});
  assert.equal(field("frame").value, 1025); // told as it goes on
  press("r");
  await turn();
  const [url, body] = sent.at(-1);
  assert.equal(url, "/record");
  assert.deepEqual([body.frame, body.px, body.base], [1001, 0.8, 7]);
  assert.equal(body.seconds.length, body.poses.length);
  assert.ok(Math.abs(body.seconds.at(-1) - 1) < 1e-9);
  assert.ok(body.poses.at(-1)[3] > 1 && body.poses[0][3] === 0);
  assert.equal(field("record").getAttribute("aria-pressed"), "false");
});

test("one that is stopped at once isn't sent", async () => {
  press("r");
  picture(20);
  picture(20);
  press("r");
  await turn();
  assert.deepEqual(sent, []);
  assert.equal(loose(), false);
});

test("a window that loses the keyboard lets go of its keys", () => {
  press("ArrowUp");
  picture(20);
  window.tell("blur");
  rest();
  const there = eye();
  rest();
  assert.deepEqual(eye(), there);
});
