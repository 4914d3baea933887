// Drawing a move: its fields, its keys over time, and keys of the keyboard.

import assert from "node:assert/strict";
import {beforeEach, mock, test} from "node:test";

import {change, field, made, open, press, saved, sent} from "./moves-page.js";
import {Element, later, notices, page, picture, serve, turn} from "./page.js";

beforeEach(async () => {
  mock.timers.reset();
  await open();
});

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
