// The simulated rig: drawn from above and from the front, its places dragged, played.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {Element, fresh, later, page, picture, turn} from "./page.js";

let plan, front, asked, loaded, says, played;

/** A slider, which keeps its value within its ends. */
class Slider extends Element {
  #at = 0;

  get value() {
    return String(this.#at);
  }

  set value(wanted) {
    this.#at = Math.min(+this.max, Math.max(0, +wanted));
  }
}

/** A move of five frames at 2 a second along X, 1 m each, at 2 m. */
function move(more = {}) {
  return {
    camera: [0, 1, 2, 3, 4].map(x => [x, 2, 0]),
    rail: [0, 1, 2, 3, 4],
    ahead: Array(5).fill([0, 0, -1]),
    places: {start: [0, 2, 0], end: [4, 2, 0], target: [2, 1, -3]},
    items: [
      {
        name: "Boathouse",
        corners: [
          [0, 0, -4],
          [4, 0, -4],
          [2, 3, -4],
          [2, 1, -4],
        ],
      },
    ],
    half: 0.4,
    exceeds: [],
    fastest: "2 m/s",
    count: 5,
    rate: 2,
    ...more,
  };
}

async function begin(first = move()) {
  fresh();
  page.byId["page-data"] = {textContent: JSON.stringify({play: "/play", move: first})};
  const form = new Element("form");
  form.fields = [
    ["csrfmiddlewaretoken", "secret"],
    ["base", "3"],
    ["speed", "2"],
  ];
  globalThis.FormData = class {
    constructor(of) {
      this.fields = of.fields;
    }

    [Symbol.iterator]() {
      return this.fields[Symbol.iterator]();
    }
  };
  page.byId["rig-form"] = form;
  plan = page.byId["rig-plan"] = new Element("svg", {width: 400, height: 300, left: 10, top: 20});
  front = page.byId["rig-front"] = new Element("svg", {width: 400, height: 300});
  page.byId.frame = new Slider("input", {max: "0"});
  for (const id of ["play", "rig-says", "frame-says"]) page.byId[id] = new Element();
  for (const name of ["start", "end", "target"])
    for (const axis of "xyz") page.byId[`id_${name}_${axis}`] = new Element("input", {value: ""});
  says = () => page.byId["rig-says"].children.map(line => line.textContent);
  asked = [];
  played = {ok: true, json: async () => move({fastest: "3 m/s"})};
  globalThis.fetch = async url => {
    asked.push(url);
    return played;
  };
  loaded = (loaded || 0) + 1;
  await import(`../../web/moves/static/moves/rig.js?${loaded}`);
}

beforeEach(() => begin());

const handle = (view, name) => view.children.find(child => child.dataset.place === name);
const middle = element => ["x", "y"].map(name => +element.getAttribute(name) + 5);
const metre = view => {
  const scale = view.children.find(child => child.getAttribute("class") === "metre");
  return +/h([\d.]+)/.exec(scale.getAttribute("d"))[1];
};
const frame = () => +page.byId.frame.value;

test("both drawings are to scale, heights upwards", () => {
  for (const view of [plan, front]) {
    const [start, end] = ["start", "end"].map(name => middle(handle(view, name)));
    assert.ok(Math.abs(end[0] - start[0] - 4 * metre(view)) < 1e-6);
    assert.ok(Math.abs(end[1] - start[1]) < 1e-9);
  }
  const lower = middle(handle(front, "target"))[1] - middle(handle(front, "start"))[1];
  assert.ok(Math.abs(lower - metre(front)) < 1e-6);
  const behind = middle(handle(plan, "start"))[1] - middle(handle(plan, "target"))[1];
  assert.ok(Math.abs(behind - 3 * metre(plan)) < 1e-6);
});

test("what stands there is drawn as its outline, without the corners inside", () => {
  const item = front.children.find(child => child.getAttribute("class") === "item");
  assert.equal(item.getAttribute("d").match(/[ML]/g).length, 3);
  assert.equal(item.tagName, "PATH");
});

test("a place that is dragged is typed, and the move asked for anew", async () => {
  const [x, y] = middle(handle(plan, "end"));
  plan.tell("pointerdown", {target: handle(plan, "end"), pointerId: 1});
  const scale = metre(plan);
  plan.tell("pointermove", {clientX: 10 + x + scale, clientY: 20 + y + 0.5 * scale});
  plan.tell("pointerup");
  assert.equal(page.byId.id_end_x.value, "5.00");
  assert.equal(page.byId.id_end_z.value, "0.50");
  assert.equal(page.byId.id_end_y.value, ""); // not seen from above
  await turn();
  assert.deepEqual(asked, ["/play?speed=2"]); // neither the token nor the revision
  assert.equal(history.address, "?speed=2");
  assert.deepEqual(says(), ["The rig can do it. The camera goes at 3 m/s at most."]);
  plan.tell("pointermove", {clientX: 0, clientY: 0});
  assert.equal(page.byId.id_end_x.value, "5.00"); // it was let go
});

test("from the front a drag upwards is a greater height", () => {
  const [x, y] = middle(handle(front, "start"));
  front.tell("pointerdown", {target: handle(front, "start"), pointerId: 1});
  front.tell("pointermove", {clientX: x, clientY: y - metre(front)});
  assert.equal(page.byId.id_start_y.value, "3.00");
});

test("while a place is dragged the drawing keeps its scale; typing fits it anew", async () => {
  const before = metre(plan);
  const far = move({places: {start: [0, 2, 0], end: [40, 2, 0], target: [2, 1, -3]}});
  played = {ok: true, json: async () => far};
  plan.tell("pointerdown", {target: handle(plan, "end"), pointerId: 1});
  plan.tell("pointermove", {clientX: 900, clientY: 20});
  await turn();
  assert.equal(metre(plan), before);
  page.byId["rig-form"].tell("input");
  await turn();
  assert.ok(metre(plan) < before / 5);
});

test("what the rig can't do is told, and what can't be played at all", async () => {
  played = {ok: true, json: async () => move({exceeds: ["The arm is too short on frame 3."]})};
  page.byId["rig-form"].tell("input");
  await turn();
  assert.deepEqual(says(), ["The arm is too short on frame 3."]);
  played = {ok: false, json: async () => ({problem: "Type a speed above zero."})};
  page.byId["rig-form"].tell("input");
  await turn();
  assert.deepEqual(says(), ["Type a speed above zero."]);
  assert.ok(handle(plan, "end")); // the last move is still drawn
});

test("it plays at its rate, to the end, and from the beginning again", () => {
  page.byId.play.tell("click");
  picture(1000);
  assert.equal(frame(), 2);
  picture(5000);
  assert.equal(page.byId.play.getAttribute("aria-pressed"), "false");
  page.byId.frame.value = "4";
  page.byId.play.tell("click");
  picture(500);
  assert.equal(frame(), 1);
  page.byId.play.tell("click");
  picture(500);
  assert.equal(frame(), 1);
});

test("the lamp is lit on the first two frames", () => {
  assert.equal(page.byId["frame-says"].textContent, "frame 0 of 4, lamp lit");
  assert.ok(plan.children.some(child => child.getAttribute("class") === "lamp"));
  page.tell("keydown", {key: "End", target: new Element("body")});
  assert.equal(page.byId["frame-says"].textContent, "frame 4 of 4");
  assert.ok(plan.children.some(child => child.getAttribute("class") === "camera"));
});

test("keys play and go to the ends, but not while something is typed", () => {
  const press = (key, target = new Element("body")) => page.tell("keydown", {key, target});
  press("End", new Element("input"));
  assert.equal(frame(), 0);
  press(" ", new Element("button")); // there it presses
  assert.equal(page.byId.play.getAttribute("aria-pressed"), null);
  press(" ");
  assert.equal(page.byId.play.getAttribute("aria-pressed"), "true");
  press("Home");
  assert.equal(frame(), 0);
});

test("the newest of several questions is the last that is shown", async () => {
  const slow = later();
  const answers = [slow.promise, {ok: true, json: async () => move({fastest: "9 m/s"})}];
  globalThis.fetch = url => {
    asked.push(url);
    return Promise.resolve(answers.shift());
  };
  for (const speed of ["3", "4", "5"]) {
    page.byId["rig-form"].fields[2][1] = speed;
    page.byId["rig-form"].tell("input");
  }
  slow.answer({ok: true, json: async () => move({fastest: "3 m/s"})});
  await turn();
  assert.deepEqual(asked, ["/play?speed=3", "/play?speed=5"]);
  assert.match(says()[0], /9 m\/s/);
});

test("without a move there is nothing to draw, until one can be played", async () => {
  await begin(null);
  page.byId.frame.tell("input");
  assert.equal(plan.children.length, 0);
  page.byId["rig-form"].tell("input");
  await turn();
  assert.ok(handle(plan, "start"));
});
