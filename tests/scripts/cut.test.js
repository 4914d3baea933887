// The page of a cut: which picture is seen where, playing, and what is asked of the server.

import assert from "node:assert/strict";
import {beforeEach, mock, test} from "node:test";

import {clip, openCut, told} from "./cut-page.js";
import {Element, later, notices, page, picture, turn} from "./page.js";

const CLIPS = () => [
  clip("a", 0, 40, {way: {flip: false, quarters: 1}}),
  clip("b", 40, 20, {first: 1011, last: 1030, reach: [1001, 1030]}),
  clip("c", 60, 40, {film: null, photograph: "f00d", handles: null, way: null}),
];

let drawn, asked, data;

/** Answer what is asked of the cut: `change` makes the next one of it. */
function serve(change = own => own) {
  const pictures = globalThis.fetch;
  globalThis.fetch = async (url, {body} = {}) => {
    if (!body) return pictures(url);
    asked.push(JSON.parse(body));
    const answer = await change(structuredClone({...data, revision: data.revision + 1}));
    if (answer.problem) return {ok: false, status: 422, json: async () => answer};
    data = answer;
    return {ok: true, json: async () => answer};
  };
}

async function begin(clips = CLIPS(), more = {}) {
  location.hash = more.hash || "";
  data = told(clips, more);
  drawn = await openCut(data);
  asked = [];
  serve();
  await turn();
}

beforeEach(async () => {
  mock.timers.reset();
  await begin();
});

const field = id => page.byId[id];
const frame = () => field("frame").value;
const press = (code, more = {}) =>
  page.tell("keydown", {code, key: code, target: new Element("body"), ...more});
function change(id, value) {
  field(id).value = value;
  field(id).tell("change", {target: field(id)});
}
async function seen() {
  field("what").tell("change");
  await turn(); // its pictures come
  drawn.length = 0;
  field("what").tell("change");
  return drawn.map(one => (Array.isArray(one) ? one[0] : one));
}

test("a frame is told with the clip, and the shot's own number", () => {
  change("frame", "45");
  assert.equal(field("of-shot").textContent, "B, its frame 1016");
  assert.equal(field("at").textContent, "00:00:01:21  1.88 s");
  assert.equal(field("clip-name").textContent, "B");
  assert.equal(field("clip-handles").textContent, "Handles: 5 frames before, 5 after");
  change("frame", "70");
  assert.match(field("clip-handles").textContent, /held as long as is wanted/);
  change("frame", "-3");
  assert.equal(frame(), 0);
  change("frame", "4000");
  assert.equal(frame(), 99);
});

test("the page is opened on the frame of its address, and notes where it rests", async () => {
  await begin(CLIPS(), {hash: "#62"});
  assert.equal(frame(), 62);
  mock.timers.enable({apis: ["setTimeout"]});
  press("ArrowRight");
  mock.timers.tick(250);
  assert.equal(history.address, "#63");
});

test("pictures come from the film, the photograph, or what the server draws", async () => {
  assert.deepEqual(await seen(), ["/films/a/small/1.jpg"]);
  change("frame", "45");
  assert.deepEqual(await seen(), ["/films/b/small/16.jpg"]);
  change("frame", "70");
  assert.deepEqual(await seen(), ["/plates/f00d/proxy.jpg"]);
  change("frame", "0");
  field("what").value = "composite";
  assert.deepEqual(await seen(), ["/a/picture/1001.jpg?what=composite&revision=3"]);
});

test("through another camera of the shot there is only a drawing", async () => {
  await begin([clip("a", 0, 40, {camera: "crane"})]);
  assert.deepEqual(await seen(), ["/a/picture/1001.jpg?what=drawing&revision=3&camera=crane"]);
});

test("a clip at another speed shows the frames that its curve goes to", async () => {
  await begin([clip("a", 0, 4, {sources: [1001, 1001.5, 1002.9, 1010], reach: [1001, 1010]})]);
  const shown = [];
  for (const at of [0, 1, 2, 3]) {
    change("frame", String(at));
    shown.push(...(await seen()));
  }
  assert.deepEqual(
    shown.map(url => +/(\d+)\.jpg/.exec(url)[1]),
    [1, 1, 2, 10],
  );
});

test("a clip that lies over the others is seen, and its own picture alone", async () => {
  await begin([...CLIPS(), clip("o", 45, 10, {over: 45})]);
  change("frame", "50");
  assert.equal(field("clip-name").textContent, "O");
  assert.deepEqual(await seen(), ["/films/o/small/6.jpg"]);
  change("frame", "55");
  assert.equal(field("clip-name").textContent, "B");
});

test("title and counter are written over the picture", async () => {
  await begin(CLIPS(), {title: "The Lantern Tide", title_frames: 12, counter: true});
  assert.deepEqual((await seen()).slice(1), ["The Lantern Tide", "00:00:00:00"]);
  change("frame", "12");
  assert.deepEqual((await seen()).slice(1), ["00:00:00:12"]);
});

// Keys --------------------------------------------------------------------------------------------

test("arrows go by frames, by ten with Shift, and from clip to clip", () => {
  press("ArrowRight", {shiftKey: true});
  press("ArrowLeft");
  assert.equal(frame(), 9);
  press("ArrowDown");
  assert.equal(frame(), 40);
  press("ArrowDown");
  press("ArrowDown"); // there is none
  assert.equal(frame(), 60);
  press("ArrowUp");
  assert.equal(frame(), 40);
  press("End");
  assert.equal(frame(), 99);
  press("Home");
  assert.equal(frame(), 0);
  press("ArrowRight", {target: new Element("input")});
  assert.equal(frame(), 0);
});

test("keys cut, slip, move and double the clip that is shown", async () => {
  change("frame", "45");
  press("KeyS");
  press("Comma", {altKey: true});
  press("Period");
  press("Comma", {shiftKey: true});
  press("ArrowRight", {altKey: true});
  press("KeyD");
  press("Delete");
  for (let times = 0; times < 8; times += 1) await turn();
  assert.deepEqual(
    asked.map(({verb, id, base, ...more}) => [verb, id, base, more]),
    [
      ["split", "b", 8, {frame: 1016}],
      ["slip", "b", 9, {by: -1}],
      ["last", "b", 10, {by: 1}],
      ["first", "b", 11, {by: -1}],
      ["move", "b", 12, {to: 2}],
      ["double", "b", 13, {}],
      ["remove", "b", 14, {}],
    ],
  );
});

test("undo and redo are the forms', where there is something to undo", async () => {
  await begin(CLIPS(), {undo: "Moved B"});
  assert.deepEqual([field("undo").disabled, field("redo").disabled], [false, true]);
  assert.equal(field("undo").title, "Undo: Moved B (Ctrl+Z)");
  press("KeyZ", {key: "z", ctrlKey: true});
  assert.equal(field("undo-form").sent, 1);
  assert.equal(field("undo-form").elements.base.value, 8);
  field("redo-form").found.button.disabled = true;
  press("KeyZ", {key: "Z", ctrlKey: true, shiftKey: true});
  assert.equal(field("redo-form").sent, 0);
});

// What is typed -----------------------------------------------------------------------------------

test("ends are typed as frames, lengths as lengths; no number changes nothing", async () => {
  change("frame", "45");
  change("clip-last", "1025");
  await turn();
  change("clip-length", "12");
  await turn();
  field("clip-first").value = "soon";
  field("clip-first").tell("change", {target: field("clip-first")});
  await turn();
  assert.deepEqual(
    asked.map(({verb, by}) => [verb, by]),
    [
      ["last", -5],
      ["length", 12],
    ],
  );
  assert.equal(field("clip-first").value, 1011); // as it is
});

test("fades, speed, place and title are sent whole", async () => {
  change("clip-fade-in", "6");
  change("clip-speed", "50 %");
  change("clip-over", " 12 ");
  change("clip-over", "");
  change("cut-title", "Tide");
  for (let times = 0; times < 6; times += 1) await turn();
  assert.deepEqual(
    asked.map(({id, base, ...more}) => more),
    [
      {verb: "fade", fade_in: 6, fade_out: 0, dissolve: 0},
      {verb: "speed", name: "50 %", between: "repeat"},
      {verb: "over", to: 12},
      {verb: "over", to: -1}, // back into the row
      {verb: "title", name: "Tide", by: 0, counter: false},
    ],
  );
});

test("what the server refuses is told, and the field shows what is", async () => {
  serve(() => ({problem: "B has no frame after 1030."}));
  change("frame", "45");
  change("clip-last", "1090");
  await turn();
  assert.deepEqual(notices(), ["B has no frame after 1030."]);
  assert.equal(field("clip-last").value, 1030);
});

test("edits follow each other, each on the cut that the last one made", async () => {
  const slow = later();
  const waits = [slow.promise];
  serve(async own => {
    await waits.shift();
    return own;
  });
  press("KeyD");
  press("Delete");
  await turn();
  assert.equal(asked.length, 1);
  slow.answer();
  await turn();
  assert.deepEqual(
    asked.map(({base}) => base),
    [8, 9],
  );
});

test("shots that are left out can be put in", async () => {
  await begin(CLIPS(), {left_out: [{code: "LT090", description: "Signal tower"}]});
  const [line] = field("left-out").children;
  line.children[0].tell("click");
  await turn();
  assert.deepEqual([asked[0].verb, asked[0].name], ["add", "LT090"]);
  await begin();
  assert.equal(field("left-out").textContent, "All shots are in it.");
});

test("an empty cut has nothing to change", async () => {
  await begin([]);
  press("KeyS");
  press("Delete");
  press("ArrowRight");
  await turn();
  assert.deepEqual(asked, []);
  assert.equal(field("clip-sheet").hidden, true);
  assert.equal(field("of-shot").textContent, "");
});

// Playing -----------------------------------------------------------------------------------------

test("it plays at the cut's rate to the end, with its sound, and fetches ahead", async () => {
  const sound = {duration: 10, plays: 0, play: async () => (sound.plays += 1), pause() {}};
  page.byId.sound = sound;
  const fetched = [];
  const pictures = globalThis.fetch;
  globalThis.fetch = url => {
    fetched.push(url);
    return pictures(url);
  };
  change("frame", "24");
  press("Space");
  picture(0);
  picture(500);
  assert.equal(frame(), 36);
  assert.deepEqual([sound.plays, sound.currentTime], [1, 1]);
  assert.ok(fetched.includes("/films/b/small/30.jpg")); // 24 frames on
  picture(10_000);
  assert.equal(frame(), 99);
  assert.equal(field("play").getAttribute("aria-pressed"), "false");
  press("Space"); // from the beginning
  picture(100);
  assert.equal(frame(), 2);
  press("Space", {target: new Element("button")}); // there it presses
  press("Space");
  picture(1000);
  assert.equal(frame(), 2);
});

test("the speed's curve is drawn, with what it is on the frame that is shown", async () => {
  const curve = [
    [0, 1],
    [0.5, 2],
    [1, 0.5],
  ];
  await begin([clip("a", 0, 41, {speed_curve: curve, sources: Array(41).fill(1001)})]);
  const figure = field("clip-curve");
  change("frame", "20");
  assert.equal(figure.found["[data-now]"].textContent, "200 % here");
  assert.deepEqual(
    figure.found[".ends span"].map(one => one.textContent),
    ["200 %", "50 %"],
  );
  assert.match(figure.found[".line"].getAttribute("d"), /^M0 28\.[\d.]+L170 3L340 41$/);
});
