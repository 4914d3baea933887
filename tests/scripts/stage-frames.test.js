// The Set page on other frames, through other cameras, and where its plate hangs in space.

import assert from "node:assert/strict";
import {beforeEach, mock, test} from "node:test";

import {Element, later, page, serve} from "./page.js";
import {assigned, begin, CUBE, press, root, settle, shapes} from "./stage-page.js";

const {WebGLRenderer} = await import("./three.js");
const {Along} = await import("../../web/stage/static/stage/along.js");

// Along a path ------------------------------------------------------------------------------------

let asked, laid, along, frames;

/** The set along 200 frames of a path, whose stand-ins are asked for; answers wait in `asked`. */
function walk() {
  asked = [];
  laid = [];
  frames = {at: 0, playing: false};
  serve(url => {
    const waiting = later();
    asked.push({url, ...waiting});
    return waiting.promise;
  });
  along = new Along({seen: "/seen", path: ""}, drawn => laid.push(drawn?.paths ?? drawn), null);
}
const show = (at, away = true) => along.show({away, frames: Object.assign(frames, {at})});
const answer = async (index, numbers, mark = "") => {
  const drawn = numbers.map(at => [at, {lens: [], paths: [`${at}${mark}`]}]);
  asked[index].answer(Object.fromEntries(drawn));
  await settle();
};

test("until another frame's stand-ins have come none are drawn", async () => {
  walk();
  show(5);
  assert.deepEqual(laid, [[]]);
  assert.equal(asked[0].url, "/seen?first=5&last=64");
  await answer(0, [5, 6]);
  assert.deepEqual(laid.at(-1), ["5"]);
  show(6);
  assert.deepEqual([laid.at(-1), asked.length], [["6"], 1]);
  show(0, false);
  assert.equal(laid.at(-1), null); // the page's own again
  show(1, false);
  assert.equal(laid.length, 4); // once
});

test("while it plays the next frames are asked for in good time", async () => {
  walk();
  frames.playing = true;
  show(5);
  await answer(
    0,
    Array.from({length: 60}, (_, i) => 5 + i),
  );
  show(34);
  assert.equal(asked.length, 1);
  show(35);
  assert.equal(asked[1].url, "/seen?first=65&last=124");
});

test("frames that the server couldn't give are asked for again", async () => {
  walk();
  show(5);
  asked[0].answer(new TypeError("network"));
  await settle();
  show(5);
  asked[1].answer({status: 503});
  await settle();
  show(5);
  await answer(2, [5]);
  assert.deepEqual(laid.at(-1), ["5"]);
});

test("after an edit the shown frame is asked for anew, and no old answer is drawn", async () => {
  walk();
  show(5);
  along.forget();
  assert.equal(asked.length, 2);
  await answer(0, [5], " before the edit");
  assert.deepEqual(laid.at(-1), []);
  await answer(1, [5], " after it");
  assert.deepEqual(laid.at(-1), ["5 after it"]);
});

test("an edit on the page's own frame asks for nothing", () => {
  walk();
  show(0, false);
  along.forget();
  assert.deepEqual(asked, []);
});

test("the path comes from the server; its camera stands where one looks meanwhile", async () => {
  walk();
  const set = {path: path => laid.push(path.numbers), at: number => laid.push(number)};
  along = new Along({seen: "", path: "/path"}, () => {}, set);
  show(7);
  asked[0].answer({numbers: [7, 8]});
  await settle();
  assert.deepEqual(laid, [7, [7, 8], 7]);
  along = new Along({seen: "", path: "/path"}, () => {}, set);
  asked[1].answer({status: 404});
  await settle();
  assert.equal(laid.length, 3); // a shot without a path has none
});

// Keys and cameras --------------------------------------------------------------------------------

beforeEach(async () => {
  mock.timers.reset();
  await begin();
});

test("L looks through the next camera, and after the last through the first again", async () => {
  const options = ["match", "take2"].map(value => ({value}));
  const through = {options, selectedIndex: 0, addEventListener() {}};
  await begin({}, {through});
  location.toString = () => "http://here/set?item=b1";
  press("l");
  through.selectedIndex = 1;
  press("l");
  assert.deepEqual(assigned, [
    "http://here/set?item=b1&through=take2",
    "http://here/set?item=b1&through=match",
  ]);
});

test("D, H and K press the chosen stand-in's buttons, nothing where none is chosen", async () => {
  const pressed = [];
  const buttons = Object.fromEntries(
    ["duplicate", "hide", "key-here"].map(id => [id, {click: () => pressed.push(id)}]),
  );
  await begin({}, buttons);
  for (const key of "dhk") press(key);
  assert.deepEqual(pressed, ["duplicate", "hide", "key-here"]);
  await begin({chosen: ""}, buttons);
  for (const key of "dhk") press(key);
  press("d", {ctrlKey: true}); // the browser's
  assert.equal(pressed.length, 3);
});

test("the plate fades with all that is made of it", () => {
  const canvas = new Element("canvas");
  root.found[".laid"] = [canvas];
  page.byId["card-ghost"].tell("input", {target: {value: "0.4"}});
  assert.equal(root.found["img.plate"].style.opacity, "0.4");
  assert.equal(canvas.style.opacity, "0.4");
});

test("another kind of stand-in begins one, or a page for it", async () => {
  await begin({chosen: "", through: "take2"});
  page.byId.kind.value = "column";
  page.byId.kind.tell("change");
  assert.deepEqual(assigned, ["?kind=column&through=take2#new"]);
});

test("through another camera the plate hangs where it belongs, as the table moves", async () => {
  // Half as large, at (100, 50), and smaller to the right.
  const map = [0.5, 0, 100, 0, 0.5, 50, 0.001, 0, 1];
  await begin({card: map, through: "take2"});
  const [hung] = root.found.svg.ahead;
  assert.equal(hung.style.width, "2000px");
  assert.equal(
    hung.style.transform,
    "translate(12px, 112px) scale(0.4) matrix3d(0.5,0,0,0.001,0,0.5,0,0,0,0,1,0,100,50,0,1)",
  );
  press("1");
  assert.match(hung.style.transform, /scale\(1\) matrix3d/);
  assert.ok(root.classes.has("no-plate"));
});

test("what wears the plate is asked for, and drawn plain where it can't be had", async () => {
  const bodies = () => {
    let count = 0;
    WebGLRenderer.last.scene.traverse(thing => {
      count += thing.material?.isMeshLambertMaterial ? 1 : 0;
    });
    return count;
  };
  const worn = {points: CUBE.points, at: [], faces: [[0, 1, 2], [], []]};
  const answers = {"/worn": {b1: worn}};
  await begin({}, {}, {worn: "/worn"}, answers);
  await settle();
  assert.equal(bodies(), 1); // of two
  await begin({}, {}, {worn: "/worn"}, {"/worn": new TypeError("network")});
  await settle();
  assert.equal(bodies(), 2);
});

test("what is striped where the plate can't reach can be turned off", async () => {
  const button = new Element("button");
  await begin({}, {"marks-on": button});
  press("m");
  assert.equal(button.getAttribute("aria-pressed"), "false");
  button.tell("click");
  assert.equal(button.getAttribute("aria-pressed"), "true");
});

test("a handle for each thing that can be done is drawn, with its name", async () => {
  const handles = {move: [500, 500], top: [500, 400], corner: [560, 540], along: [520, 560]};
  await begin({handles: {b1: handles}});
  const titles = shapes("handle").map(shape => shape.children[0].textContent);
  assert.deepEqual(titles, [
    "move (with Ctrl: without snapping)",
    "height",
    "width and depth",
    "move along only",
  ]);
  const arrows = page.byId.marks.children.filter(
    one => one.getAttribute("class") === "arrow along",
  );
  assert.equal(arrows.length, 1);
});
