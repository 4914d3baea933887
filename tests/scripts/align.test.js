// Laying a move into the set: places sighted on the plate, the whole move dragged by hand, and
// what is drawn of both cameras.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {layTable} from "./laid.js";
import {Element, fresh, later, notices, page, turn} from "./page.js";

const SEEN = {
  theirs: ["M0 0L9 9"],
  ours: ["M5 5L6 6"],
  floor: null,
  arrows: [],
  references: [
    {name: "Door", seen: [100, 100], sighted: [120, 110]},
    {name: "Tower", seen: null, sighted: null},
    {name: "Step", seen: [300, 200], sighted: null},
  ],
};

let root, posted, answers, loaded;

async function begin() {
  fresh();
  ({root} = layTable());
  page.byId["light-table"] = root;
  page.byId.marks = new Element("g");
  page.byId["page-data"] = {
    textContent: JSON.stringify({
      seen: "/seen",
      frame: 7,
      hand: "/hand",
      stand: "/stand",
      sight: "/sight",
      stands: {x: 0, turn: 0},
    }),
  };
  page.byId.revision = Object.assign(new Element(), {textContent: "11"});
  for (const id of ["sight-spot", "sight-axis", "by-hand"]) page.byId[id] = new Element("button");
  page.byId["sight-place"] = new Element("select", {value: "Door"});
  page.byId["sight-of"] = new Element("select", {value: "lamp"});
  for (const name of ["x", "turn"]) page.byId[`id_stand_${name}`] = new Element("input");
  page.found["[data-layer]"] = [new Element("button", {dataset: {layer: "ours"}})];
  page.found['[data-layer="ours"]'] = page.found["[data-layer]"][0];
  location.reloads = 0;
  posted = [];
  answers = [];
  globalThis.fetch = async (url, {body} = {}) => {
    if (!body) return {ok: true, json: async () => structuredClone(SEEN)};
    const own = JSON.parse(body);
    posted.push([url, own]);
    const number = posted.filter(([to]) => to === "/hand").length;
    await answers.shift()?.promise;
    const stands = {x: number, turn: 0};
    return {ok: true, json: async () => ({stands, typed: {x: `${number} m`}, seen: SEEN})};
  };
  loaded = (loaded || 0) + 1;
  await import(`../../web/moves/static/moves/align.js?${loaded}`);
  await turn();
}

beforeEach(() => begin());

const at = (x, y, more = {}) => ({
  clientX: 112 + 0.4 * x,
  clientY: 162 + 0.4 * y,
  button: 0,
  pointerId: 1,
  ...more,
});
const press = (key, target = new Element("body")) => page.tell("keydown", {key, target});
const round = numbers => numbers.map(value => Math.round(value));
const drawn = kind =>
  page.byId.marks.children.filter(child => child.getAttribute("class") === kind);

// Sightings ---------------------------------------------------------------------------------------

test("the next press on the plate says where the chosen place is", async () => {
  press("p");
  assert.equal(root.style.cursor, "crosshair");
  root.tell("pointerdown", at(640, 320));
  await turn();
  const [url, body] = posted[0];
  assert.equal(url, "/sight");
  assert.deepEqual(
    [body.place, round(body.at), body.of, body.frame, body.base],
    ["Door", [640, 320], "", 7, 11],
  );
  assert.equal(location.reloads, 1);
  root.tell("pointerdown", at(10, 10)); // only the one
  await turn();
  assert.equal(posted.length, 1);
});

test("Escape and the button lay the sighting aside", () => {
  press("p");
  press("Escape");
  assert.equal(page.byId["sight-spot"].getAttribute("aria-pressed"), "false");
  page.byId["sight-spot"].tell("click");
  page.byId["sight-spot"].tell("click");
  root.tell("pointerdown", at(10, 10));
  assert.deepEqual(posted, []);
});

test("a place has to be chosen first; along the axis none is clicked", async () => {
  page.byId["sight-place"].value = "";
  page.byId["sight-axis"].tell("click");
  assert.deepEqual(notices(), ["Choose a point of the set first."]);
  page.byId["sight-place"].value = "Tower";
  page.byId["sight-axis"].tell("click");
  await turn();
  assert.deepEqual(posted[0][1], {place: "Tower", at: null, of: "lamp", frame: 7, base: 11});
});

// By hand -----------------------------------------------------------------------------------------

test("a drag slides the move, with Shift turns it, with Alt raises it; the last place is saved", async () => {
  for (const [more, way] of [
    [{}, "slide"],
    [{shiftKey: true}, "turn"],
    [{altKey: true}, "raise"],
  ]) {
    await begin();
    press("x");
    root.tell("pointerdown", at(100, 100, more));
    root.tell("pointermove", at(200, 150));
    await turn();
    root.tell("pointerup");
    await turn();
    const [[, asked], [url, kept]] = posted;
    assert.deepEqual(
      [asked.way, round(asked.start), round(asked.end), asked.frame],
      [way, [100, 100], [200, 150], 7],
    );
    assert.deepEqual([url, kept], ["/stand", {stands: {x: 1, turn: 0}, base: 11}]);
    assert.equal(page.byId.id_stand_x.value, "1 m");
  }
});

test("what is saved is where it was let go, however slowly the server answers", async () => {
  const [first, second] = [later(), later()];
  answers = [first, second];
  press("x");
  root.tell("pointerdown", at(100, 100));
  root.tell("pointermove", at(200, 100));
  root.tell("pointermove", at(300, 100));
  root.tell("pointermove", at(400, 100));
  root.tell("pointerup");
  first.answer();
  await turn();
  assert.deepEqual(
    posted.map(([url]) => url),
    ["/hand", "/hand"],
  );
  second.answer();
  await turn();
  assert.deepEqual(round(posted[1][1].end), [400, 100]);
  assert.deepEqual(posted[2], ["/stand", {stands: {x: 2, turn: 0}, base: 11}]);
});

test("each drag begins from where the last one let the move stand", async () => {
  press("x");
  for (let times = 0; times < 2; times += 1) {
    root.tell("pointerdown", at(100, 100));
    root.tell("pointermove", at(200, 100));
    await turn();
    root.tell("pointerup");
    await turn();
  }
  const hands = posted.filter(([url]) => url === "/hand").map(([, body]) => body.stands.x);
  assert.deepEqual(hands, [0, 1]);
});

test("a press without a drag moves nothing, nor does one with the tool laid aside", async () => {
  press("x");
  root.tell("pointerdown", at(100, 100));
  root.tell("pointerup");
  press("x");
  root.tell("pointerdown", at(100, 100));
  root.tell("pointermove", at(200, 100));
  root.tell("pointerup");
  await turn();
  assert.deepEqual(posted, []);
});

// What is drawn -----------------------------------------------------------------------------------

test("references are drawn where the move sees them, with the way to where they were sighted", () => {
  assert.equal(drawn("miss sighted").length, 2);
  const [line] = drawn("miss");
  assert.deepEqual(
    ["x1", "y1", "x2", "y2"].map(name => Math.round(+line.getAttribute(name))),
    [52, 152, 60, 156],
  );
});

test("O takes the shot's own camera away and brings it back", () => {
  const wires = () => {
    const [over] = page.byId.marks.children.filter(child => child.getAttribute("class") === "over");
    return over.children.filter(child => child.getAttribute("class") === "wire").length;
  };
  assert.equal(wires(), 2);
  press("o");
  assert.equal(wires(), 1);
  assert.equal(page.found["[data-layer]"][0].getAttribute("aria-pressed"), "false");
  page.found["[data-layer]"][0].tell("click");
  assert.equal(wires(), 2);
  press("o", new Element("input"));
  assert.equal(wires(), 2);
});
