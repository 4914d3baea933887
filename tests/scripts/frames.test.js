// The frames of a film: which is shown, what is kept of its pictures, playing, time code.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {later, turn} from "./page.js";

const {Frames, Pictures, moment, spacing, timecode} = await import(
  "../../web/plates/static/plates/frames.js"
);

const DROP = {count: 30, left_out: 2}; // 29.97 pictures a second
const DATA = {digest: "f00d", first: 5, last: 24, shown: 10, offset: 1000, rate: 24, missing: []};

let pictures, frames, changes, clock;

/** Answers of the server by picture number, each given when the test says so. */
function served() {
  const asked = new Map();
  globalThis.fetch = url => {
    const number = +/\/(\d+)\.jpg/.exec(url)[1],
      answer = later();
    asked.set(number, answer);
    return answer.promise;
  };
  globalThis.createImageBitmap = async blob => blob;
  return {
    numbers: () => [...asked.keys()],
    async come(number, status = 200) {
      const picture = {number, close: () => closed.push(number)};
      asked.get(number).answer({status, blob: async () => picture});
      await turn();
    },
    async fail(number) {
      asked.get(number).fail(new Error("no network"));
      await turn();
    },
  };
}
let server,
  closed = [];

beforeEach(() => {
  closed = [];
  server = served();
  pictures = new Pictures(
    number => `/small/${number}.jpg`,
    () => {},
    3,
  );
  changes = 0;
  frames = new Frames({...DATA, way: {name: "as-it-is"}}, () => {
    changes += 1;
  });
  clock = [];
  globalThis.requestAnimationFrame = tick => clock.push(tick);
});

test("time code drops numbers as SMPTE ST 12-1 says", () => {
  // The two numbers at the start of each minute but every tenth; worked examples of the standard's
  // rule, as handbooks print them.
  assert.equal(timecode(1799, DROP), "00:00:59;29");
  assert.equal(timecode(1800, DROP), "00:01:00;02");
  assert.equal(timecode(17981, DROP), "00:09:59;29");
  assert.equal(timecode(17982, DROP), "00:10:00;00");
  assert.equal(timecode(107892, DROP), "01:00:00;00");
  assert.equal(timecode(2589407, DROP), "23:59:59;29");
  assert.equal(timecode(2589408, DROP), "00:00:00;00");
  assert.equal(timecode(3600, {count: 60, left_out: 4}), "00:01:00;04");
});

test("each number of drop-frame is used once, in order", () => {
  // By the rule read aloud: count all labels, and leave those out that are dropped.
  const labels = [];
  for (let minute = 0; minute < 21; minute += 1)
    for (let second = 0; second < 60; second += 1)
      for (let number = 0; number < 30; number += 1)
        if (minute % 10 === 0 || second > 0 || number > 1)
          labels.push([0, minute, second, number].map(part => String(part).padStart(2, "0")));
  labels.forEach(([h, m, s, f], frame) =>
    assert.equal(timecode(frame, DROP), `${h}:${m}:${s};${f}`),
  );
});

test("time code without dropping counts on, over midnight and before it", () => {
  const plain = {count: 24, left_out: 0};
  assert.equal(timecode(24 * 3600 + 25, plain), "01:00:01:01");
  assert.equal(timecode(24 * 86400, plain), "00:00:00:00");
  assert.equal(timecode(-1, plain), "23:59:59:23");
});

test("a ruler's marks are round, and not closer than asked", () => {
  assert.deepEqual(
    [100, 20, 10, 3, 0.5, 0.01].map(px => spacing(px, 60)),
    [1, 5, 10, 20, 200, 10000],
  );
});

test("a moment has minutes and hundredths", () => {
  assert.deepEqual([0, 9.5, 61.25, 600].map(moment), ["0:00.00", "0:09.50", "1:01.25", "10:00.00"]);
});

test("the oldest pictures are thrown out, never the one that is wanted", async () => {
  for (const number of [1, 2, 3, 4, 5]) pictures.fetch(number, 1);
  for (const number of [1, 2, 3, 4, 5]) await server.come(number);
  assert.deepEqual([...pictures.all.keys()], [1, 4, 5]);
  assert.deepEqual(closed, [2, 3]);
});

test("a picture that comes after all were thrown out is let go", async () => {
  pictures.fetch(7);
  pictures.forget();
  await server.come(7);
  assert.equal(pictures.get(7), undefined);
  assert.equal(pictures.failed(7), false);
  assert.deepEqual(closed, [7]);
});

test("a picture that failed is asked for again when that is wished, and not before", async () => {
  pictures.fetch(7);
  pictures.fetch(8);
  await server.come(7, 404);
  await server.fail(8);
  assert.ok(pictures.failed(7) && pictures.failed(8));
  server = served();
  pictures.fetch(7);
  assert.deepEqual(server.numbers(), []);
  pictures.forgetFailed();
  pictures.fetch(7);
  assert.deepEqual(server.numbers(), [7]);
});

test("frames go no further than the film, and are called as the shot has them", () => {
  assert.equal(frames.frame, 1010);
  frames.show(99);
  assert.deepEqual([frames.at, frames.frame], [24, 1024]);
  frames.step(-100);
  assert.equal(frames.at, 5);
  frames.show(7.6);
  assert.equal(frames.at, 8);
  assert.equal(frames.neighbour(4), null);
  assert.equal(changes, 3);
});

test("a marked range that reaches beyond the film ends where the film does", () => {
  frames.range = [1000, 1012];
  assert.deepEqual([frames.from, frames.to, frames.marked], [5, 12, true]);
  frames.range = null;
  assert.deepEqual([frames.from, frames.to, frames.marked], [5, 24, false]);
});

test("playing goes round the marked range at its rate, and counts what was dropped", async t => {
  t.mock.method(performance, "now", () => 0);
  frames.range = [1010, 1013];
  frames.gone = new Set([12]);
  const playing = frames.play();
  for (const number of [10, 11, 13]) await server.come(number);
  await playing;
  const tick = ms => clock.pop()(ms);
  tick(10);
  assert.equal(frames.at, 10);
  tick(1000 / 24 + 5);
  assert.deepEqual([frames.at, frames.played, frames.dropped], [11, 1, 0]);
  tick(2000 / 24 + 5); // 12 has no picture: nobody missed it
  assert.deepEqual([frames.at, frames.dropped], [12, 0]);
  tick(5000 / 24 + 5); // 13 and 10 went by unseen
  assert.deepEqual([frames.at, frames.played, frames.dropped], [11, 5, 2]);
  frames.pause();
  const {at} = frames;
  tick(20_000);
  assert.equal(frames.at, at);
  assert.equal(clock.length, 0); // and the clock isn't asked again
});

test("of two beginnings only the later one plays", async () => {
  frames.range = [1010, 1013];
  frames.play();
  frames.pause();
  const second = frames.play();
  for (const number of [10, 11, 12, 13]) await server.come(number);
  await second;
  assert.equal(clock.length, 1);
});
