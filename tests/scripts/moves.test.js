// Drawing a move: fields, keys of the keyboard, the route from above, and flying its camera.

import assert from "node:assert/strict";
import {beforeEach, mock, test} from "node:test";

import {Element, fresh, later, notices, page, picture, serve, turn} from "./page.js";

const {WebGLRenderer} = await import("./three.js");

const IDS = `graph route through fly-speed remarks frame slider key-frame key-value key-kind
  revision record tolerance play time-first time-last time-to time-all channel by range-first
  range-last follows looks-at here-choice flies-ahead key-here key-fields remove-keys retime preset
  flying-lens plate-behind`.split(/\s+/);
const COUNT = 11;
const LEVEL = [1, 0, 0, 0, 1, 0, 0, 0, 1];

let sent, route, through, loaded;

/** A move of 11 frames along X, 1 m each, that looks along −Z; what the server made of it. */
function made(more = {}) {
  return {
    first: 1001,
    eyes: Array.from({length: COUNT}, (_, i) => [i, 1.5, 0]),
    turns: Array.from({length: COUNT}, () => LEVEL),
    half: Array.from({length: COUNT}, () => [0.5, 0.28]),
    curves: {x: Array.from({length: COUNT}, (_, i) => i), y: Array(COUNT).fill(1.5)},
    readings: {speed: Array(COUNT).fill(25), near: Array(COUNT).fill(2)},
    nearest: Array(COUNT).fill("Tower"),
    exceeded: {},
    slopes: {x: [[1, 1]]},
    remarks: [{frame: 1006, says: "Too fast for the crane"}],
    ...more,
  };
}

function data(more = {}) {
  const authored = {
    first: 1001,
    last: 1011,
    by: "keys",
    follows: false,
    looks_at: null,
    curves: {
      x: [
        [1001, 0, "smooth"],
        [1011, 10, "smooth"],
      ],
      y: [[1001, 1.5, "smooth"]],
    },
  };
  return {
    authored: {...authored, ...more.authored},
    aircraft: null,
    made: made(),
    rate: 24,
    channels: {
      x: {title: "X", unit: "m", usual: 0},
      y: {title: "Y", unit: "m", usual: 0},
      z: {title: "Z", unit: "m", usual: 0},
    },
    readings: {speed: {title: "Speed", unit: "m/s"}, near: {title: "Nearest", unit: "m"}},
    places: {Tower: [5, 1.5, -10]},
    presets: {drone: {mass: 2, bank_per_g: 10, looks: "ahead"}},
    solids: [],
    try: "/try",
    save: "/save",
    record: "/record",
    ...more.data,
  };
}

const field = id => page.byId[id];
const press = (key, more = {}) => page.tell("keydown", {key, target: new Element("body"), ...more});

async function open(more = {}) {
  fresh();
  location.hash = more.hash || "";
  for (const id of IDS)
    page.byId[id] = new Element("input", {id, value: "", width: 400, height: 300});
  for (const name of ["speed", "near"]) page.byId[`read-${name}`] = new Element();
  page.byId["page-data"] = {textContent: JSON.stringify(data(more))};
  field("fly-speed").value = "2";
  field("revision").textContent = "7";
  field("through").found[".plate-behind"] = new Element("canvas");
  field("through").found[".picture-frame"] = new Element();
  page.found["#history [data-history=undo]"] = new Element("button", {disabled: true});
  page.found["[data-route]"] = ["plan", "front", "side"].map(
    name => new Element("button", {dataset: {route: name}}),
  );
  page.found["[data-aircraft]"] = ["mass", "bank_per_g"].map(
    name => new Element("input", {value: "", dataset: {aircraft: name}}),
  );
  page.found["input[name=base]"] = [new Element("input", {value: "7"})];
  sent = [];
  serve((url, body) => {
    if (!body) return {status: 404}; // a picture of the plate
    sent.push([url, structuredClone(body)]);
    if (url === "/try") return made();
    const {authored} = body;
    return {revision: body.base + 1, undo_label: "a key", authored, made: made()};
  });
  loaded = (loaded || 0) + 1;
  await import(`../../web/moves/static/moves/keys.js?${loaded}`);
  [route, through] = [field("route"), field("through").children[0]];
}

beforeEach(async () => {
  mock.timers.reset();
  await open();
});

const saved = () => sent.filter(([url]) => url === "/save").map(([, body]) => body);
function change(id, value) {
  field(id).value = value;
  field(id).tell("change");
}

// Frames ------------------------------------------------------------------------------------------

test("a page begins on its first frame, or where its address says", async () => {
  assert.equal(field("frame").value, 1001);
  await open({hash: "#1004-y"});
  assert.equal(field("frame").value, 1004);
  assert.equal(field("channel").value, "y");
  await open({hash: "#99999-nothing"});
  assert.deepEqual([field("frame").value, field("channel").value], [1011, "x"]);
});

test("keys step through the frames, and stay within the move", () => {
  press(".");
  press(".");
  assert.equal(field("frame").value, 1003);
  press(",");
  assert.equal(field("frame").value, 1002);
  press("End");
  press(".");
  assert.equal(field("frame").value, 1011);
  press("Home");
  press(",");
  assert.equal(field("frame").value, 1001);
  press(".", {ctrlKey: true});
  press(".", {target: new Element("textarea")});
  assert.equal(field("frame").value, 1001);
});

test("the address remembers the frame, once it has come to rest", () => {
  mock.timers.enable({apis: ["setTimeout"]});
  change("frame", "1005.4");
  press(".");
  assert.notEqual(history.address, "#1006-x");
  mock.timers.tick(250);
  assert.equal(history.address, "#1006-x");
});

test("readings are told with their unit, and what is near by its name", () => {
  assert.equal(field("read-speed").textContent, "25.00 m/s");
  assert.equal(field("read-near").textContent, "2.00 m, Tower");
});

test("a remark goes to its frame", () => {
  const [line] = field("remarks").children;
  assert.equal(line.children[0].textContent, "Too fast for the crane");
  line.children[0].tell("click");
  assert.equal(field("frame").value, 1006);
});

test("it plays at the film's rate, to the last frame", () => {
  press(" ");
  picture(100); // 2.4 frames
  assert.equal(field("frame").value, 1003);
  picture(100);
  assert.equal(field("frame").value, 1005);
  picture(1000);
  assert.equal(field("frame").value, 1011);
  assert.equal(field("play").getAttribute("aria-pressed"), "false");
  press(" "); // from the beginning again
  picture(50);
  assert.equal(field("frame").value, 1002);
  press(" ");
  picture(500);
  assert.equal(field("frame").value, 1002);
});

// What is saved -----------------------------------------------------------------------------------

test("an edit is saved on the revision that the last one made", async () => {
  change("range-last", "1008");
  change("range-first", "1002");
  await turn();
  const [first, second] = saved();
  assert.deepEqual([first.base, second.base], [7, 8]);
  assert.deepEqual([first.authored.last, second.authored.first], [1008, 1002]);
  assert.equal(field("revision").textContent, 9);
  assert.equal(page.found["input[name=base]"][0].value, 9);
  const undo = page.found["#history [data-history=undo]"];
  assert.deepEqual([undo.disabled, undo.title], [false, "Undo: a key (Ctrl+Z)"]);
});

test("what was changed while a save is under way isn't undone by its answer", async () => {
  const answer = later();
  const answers = [answer.promise];
  serve(async (url, body) => {
    sent.push([url, structuredClone(body)]);
    await answers.shift();
    return {revision: body.base + 1, undo_label: "", authored: body.authored, made: made()};
  });
  change("range-last", "1008");
  await turn();
  change("range-first", "1003");
  answer.answer();
  await turn();
  await turn();
  assert.deepEqual([field("range-first").value, field("range-last").value], [1003, 1008]);
  assert.deepEqual(saved()[1].authored.first, 1003);
});

test("a save that is refused is told, and the next one goes on", async () => {
  serve((url, body) => {
    sent.push([url, body]);
    return saved().length === 1
      ? {status: 422, problem: "This draft is locked."}
      : {revision: 8, undo_label: "", authored: body.authored, made: made()};
  });
  change("follows", "");
  await turn();
  assert.deepEqual(notices(), ["This draft is locked."]);
  assert.equal(field("revision").textContent, "7");
  change("follows", "");
  await turn();
  assert.equal(field("revision").textContent, 8);
});

test("a key on the frame has where the camera is, row by row", async () => {
  press("End");
  press("k");
  await turn();
  const [body] = saved();
  assert.equal(body.frame, 1011);
  assert.deepEqual(body.key_here, [1, 0, 0, 10, 0, 1, 0, 1.5, 0, 0, 1, 0, 0, 0, 0, 1]);
});

test("chosen keys are removed, and the last of a channel takes the channel with it", async () => {
  press("a");
  press("Delete");
  await turn();
  assert.deepEqual(Object.keys(saved()[0].authored.curves), ["y"]);
  press("Delete"); // none is chosen now
  await turn();
  assert.equal(saved().length, 1);
});

test("the chosen key is typed: its value, its kind with its slopes, its frame", async () => {
  press("a");
  const type = (id, value) => {
    field(id).value = value;
    field("key-fields").tell("change", {target: field(id)});
  };
  type("key-value", "2.5");
  await turn();
  assert.deepEqual(saved()[0].authored.curves.x[0], [1001, 2.5, "smooth"]);
  type("key-kind", "free"); // with the slopes that it had
  await turn();
  assert.deepEqual(saved()[1].authored.curves.x, [
    [1001, 2.5, "free", 1, 1],
    [1011, 10, "free", 0, 0],
  ]);
  type("key-frame", "1020"); // past the other
  await turn();
  assert.deepEqual(
    saved()[2].authored.curves.x.map(([frame]) => frame),
    [1011, 1020],
  );
  assert.equal(field("key-value").value, 2.5); // the same one is chosen
});

test("another way of timing begins with the speed that the move has", async () => {
  change("by", "time");
  await turn();
  const {authored} = saved()[0];
  assert.deepEqual([authored.by, authored.curves.speed], ["time", [[0, 25, "smooth"]]]);
});

test("what it looks at is one of the set's places, or nothing", async () => {
  change("looks-at", "Tower");
  await turn();
  assert.deepEqual(saved()[0].authored.looks_at, [5, 1.5, -10]);
  assert.equal(field("looks-at").value, "Tower");
  assert.equal(field("here-choice").hidden, true);
  change("looks-at", "");
  await turn();
  assert.deepEqual([saved()[1].authored.looks_at, saved()[1].authored.follows], [null, false]);
});

test("an aircraft is taken from the presets, and its figures are typed", async () => {
  field("preset").selectedOptions = [{textContent: "Drone"}];
  change("preset", "drone");
  await turn();
  assert.deepEqual(saved()[0].aircraft, {mass: 2, bank_per_g: 10, looks: "ahead"});
  const [mass, bank] = page.found["[data-aircraft]"];
  assert.deepEqual([mass.value, mass.disabled], [2, false]);
  Object.assign(mass, {value: "3.5"}).tell("change");
  Object.assign(bank, {value: " "}).tell("change"); // empty: as the flight itself has it
  await turn();
  assert.deepEqual(saved()[2].aircraft, {mass: 3.5, bank_per_g: null, looks: "ahead"});
  assert.equal(field("preset").value, "own");
});

test("keys are scaled in time: those between, and all that come later", async () => {
  await open({
    authored: {
      curves: {
        x: [
          [1001, 0, "smooth"],
          [1005, 4, "free", 1, 1],
          [1009, 8, "smooth"],
        ],
        y: [[1005, 1, "smooth"]],
        speed: [[0, 1, "smooth"]],
      },
    },
  });
  Object.assign(field("time-first"), {value: "1001"});
  Object.assign(field("time-last"), {value: "1005"});
  Object.assign(field("time-to"), {value: "1009"});
  field("time-all").checked = true;
  field("retime").tell("click");
  await turn();
  const {authored} = saved()[0];
  assert.deepEqual(authored.curves.x, [
    [1001, 0, "smooth"],
    [1009, 4, "free", 0.5, 0.5],
    [1013, 8, "smooth"],
  ]);
  assert.deepEqual(authored.curves.y, [[1009, 1, "smooth"]]);
  assert.deepEqual(authored.curves.speed, [[0, 1, "smooth"]]);
  assert.equal(authored.last, 1015);
  field("time-last").value = "1001";
  field("retime").tell("click");
  assert.match(notices()[0], /a later last one/);
  assert.equal(saved().length, 1);
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
