// The strip of a cut: clips to scale, moved and trimmed by the pointer.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {Element, turn} from "./page.js";

const {Strip} = await import("../../web/cut/static/cut/strip.js");

const clip = (id, begin, length, more = {}) => ({
  id,
  begin,
  length,
  code: id.toUpperCase(),
  at: "00:00:00:00",
  first: 1001,
  last: 1000 + length,
  over: null,
  ...more,
});

let cut, root, rail, strip, done;

beforeEach(() => {
  done = [];
  cut = {
    data: {
      length: 100,
      clips: [
        clip("a", 0, 40),
        clip("b", 40, 20),
        clip("c", 60, 40),
        clip("o", 50, 10, {over: 50}),
      ],
    },
    frame: 0,
    index: 0,
    show: frame => {
      cut.frame = Math.floor(frame);
    },
    do: async (verb, more) => done.push([verb, more]),
  };
  root = new Element("div", {width: 524});
  rail = new Element("div", {width: 500});
  rail.found[".cut-clip"] = [];
  strip = new Strip(cut, root, rail);
  strip.lay();
});

/** Press on a clip at a frame of the cut, and let go at another one; px beside a frame's place. */
async function drag(index, from, to, px = 0) {
  const block = rail.children[index];
  Object.assign(block, {
    left: cut.data.clips[index].begin * strip.scale,
    clientWidth: cut.data.clips[index].length * strip.scale,
  });
  block.found[".cut-clip"] = block;
  const event = (frame, off) => ({target: block, button: 0, clientX: frame * strip.scale + off});
  root.tell("pointerdown", event(from, px));
  root.tell("pointermove", event(to, px));
  root.tell("pointerup", event(to, px));
  await turn();
}

test("the whole cut fits, and clips lie where they begin", () => {
  assert.equal(strip.scale, 5); // (524 − 24) / 100
  assert.deepEqual(
    rail.children.slice(0, 4).map(({style}) => [style.left, style.width]),
    [
      ["0px", "198px"],
      ["200px", "98px"],
      ["300px", "198px"],
      ["250px", "48px"],
    ],
  );
});

test("a clip goes before the one whose first half it is let go in", async () => {
  await drag(0, 10, 45); // within the first half of b, which is there without it
  assert.deepEqual(done.pop(), ["move", {id: "a", to: 0}]);
  await drag(0, 10, 85);
  assert.deepEqual(done.pop(), ["move", {id: "a", to: 3}]);
  await drag(2, 70, 3);
  assert.deepEqual(done.pop(), ["move", {id: "c", to: 0}]);
});

test("one that lies over others goes to a frame, not before the first", async () => {
  await drag(3, 55, 61);
  assert.deepEqual(done.pop(), ["over", {id: "o", to: 56}]);
  await drag(3, 55, -30);
  assert.deepEqual(done.pop(), ["over", {id: "o", to: 0}]);
});

test("near its ends a clip is trimmed by whole frames", async () => {
  await drag(1, 40, 43, 4);
  assert.deepEqual(done.pop(), ["first", {id: "b", by: 3}]);
  await drag(1, 60, 52, -4);
  assert.deepEqual(done.pop(), ["last", {id: "b", by: -8}]);
});

test("a click, and a trim of less than half a frame, change nothing", async () => {
  await drag(1, 45, 45.5);
  strip.scale = 20;
  await drag(1, 40, 40.3, 4);
  assert.deepEqual(done, []);
});

test("the frame under the pointer is shown, and the strip follows it", () => {
  strip.mark();
  assert.equal(strip.head.style.left, "2.5px");
  cut.frame = 99;
  strip.zoom(4);
  assert.equal(strip.head.style.left, "1990px");
  assert.equal(root.scrollLeft, 1990 - 262);
  strip.zoom(1e9);
  assert.equal(strip.scale, 40);
});

test("small pictures are of the clip's own frames, evenly, by the film's numbers", () => {
  cut.data.clips = [clip("a", 0, 100, {film: "f00d", offset: 1000})];
  strip.lay();
  const urls = rail.children[0].children.map(image => image.src).filter(Boolean);
  assert.deepEqual(
    urls,
    [11, 31, 51, 71, 91].map(number => `/films/f00d/thumbs/${number}.jpg`),
  );
});
