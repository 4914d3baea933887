// Expose: maps over the plate, boxes and points that are drawn for a leaf, and the blur spots that
// follow what is typed.

import assert from "node:assert/strict";
import {beforeEach, mock, test} from "node:test";

import {layTable} from "./laid.js";
import {Element, fresh, later, notices, page, serve, turn} from "./page.js";

const PAGE = {
  key: "map:LT010",
  frame: 1010,
  maps: {zebra: "/zebra.png", focus: "/focus.png"},
  boxes: [],
  tools: {
    grey: {kind: "box", to: "/grey", fields: ["patch"], map: "zebra"},
    focus: {kind: "point", to: "/focus-at"},
    streak: {kind: "box", to: "/streak", tells: true},
  },
};

let root, sent, loaded, buttons;

async function begin(more = {}) {
  fresh();
  ({root} = layTable());
  page.byId["light-table"] = root;
  root.found.svg = new Element("svg");
  page.byId["page-data"] = {textContent: JSON.stringify({...PAGE, ...more})};
  for (const id of ["map", "hint", "marks", "report", "streak-says", "patch"])
    page.byId[id] = new Element("input", {value: ""});
  page.byId.revision = Object.assign(new Element(), {textContent: "4"});
  page.byId.spots = Object.assign(new Element("img"), {src: "/spots.svg?f=2.8"});
  buttons = ["grey", "focus", "streak"].map(
    tool => new Element("button", {dataset: {tool, id: tool === "focus" ? "f3" : ""}}),
  );
  page.found["[data-tool]"] = page.found[".table-bar [data-tool]"] = buttons;
  page.found["[data-of]"] = [
    new Element("p", {dataset: {of: "zebra clipped"}}),
    new Element("p", {dataset: {of: "focus"}}),
  ];
  page.found["[data-pupil]"] = [
    new Element("input", {name: "blades", value: "9", dataset: {pupil: ""}}),
    new Element("input", {name: "edge", value: "0.2", dataset: {pupil: ""}}),
  ];
  location.pathname = "/expose";
  location.reloads = 0;
  sent = [];
  if (!more.answers)
    serve((url, body) => {
      sent.push([url, body]);
      return {
        says: "12 px, about 1/48 s",
        line: [
          [0, 0],
          [100, 0],
        ],
      };
    });
  loaded = (loaded || 0) + 1;
  await import(`../../web/expose/static/expose/expose.js?${loaded}`);
}

beforeEach(async () => {
  mock.timers.reset();
  sessionStorage.removeItem(PAGE.key);
  globalThis.URL.createObjectURL = blob => `blob:${blob}`;
  await begin();
});

const press = key => page.tell("keydown", {key, target: new Element("body")});
const map = () => (root.found.svg.ahead ?? []).find(image => image.src);
const served = answer => {
  globalThis.fetch = async url => (typeof answer === "function" ? answer(url) : answer);
};
const picture = url => ({ok: true, blob: async () => url});
const legends = () => page.found["[data-of]"].map(legend => !legend.hidden);
const at = (x, y, more = {}) => ({clientX: 112 + 0.4 * x, clientY: 162 + 0.4 * y, ...more});
function drag(from, to) {
  root.tell("pointerdown", at(...from, {button: 0, pointerId: 1}));
  root.tell("pointermove", at(...to));
  root.tell("pointerup", at(...to, {type: "pointerup"}));
}
const round = numbers => numbers.map(value => Math.round(value));

test("M goes through the maps, each with its legend, and back to none", async () => {
  served(picture);
  press("m");
  await turn();
  assert.equal(map().src, "blob:/zebra.png");
  assert.deepEqual(legends(), [true, false]);
  press("m");
  await turn();
  assert.equal(map().src, "blob:/focus.png");
  assert.deepEqual(legends(), [false, true]);
  press("m");
  assert.equal(map().hidden, true);
  assert.deepEqual(legends(), [false, false]);
});

test("the map that was chosen is there when the page is opened again", async () => {
  served(picture);
  page.byId.map.value = "focus";
  page.byId.map.tell("change");
  await turn();
  await begin({answers: true}); // as before
  await turn();
  assert.deepEqual([page.byId.map.value, map().src], ["focus", "blob:/focus.png"]);
});

test("a map that comes late doesn't lie over the one that was chosen meanwhile", async () => {
  const slow = later();
  served(url => (url === "/zebra.png" ? slow.promise : picture(url)));
  press("m");
  press("m");
  await turn();
  slow.answer(picture("/zebra.png"));
  await turn();
  assert.equal(map().src, "blob:/focus.png");
});

test("one that can't be computed is put away, with the reason", async () => {
  served({ok: false, json: async () => ({problem: "Without a depth there is no focus map."})});
  press("m");
  await turn();
  assert.deepEqual(notices(), ["Without a depth there is no focus map."]);
  assert.equal(page.byId.map.value, "");
  assert.deepEqual(legends(), [false, false]);
  assert.equal(page.byId.hint.textContent, "");
});

test("a box is drawn, whichever corner it began in, and sent with what is typed", async () => {
  page.byId.patch.value = "18 %";
  buttons[0].tell("click");
  assert.equal(root.style.cursor, "crosshair");
  assert.equal(page.byId.map.value, "zebra"); // what the tool is used with
  drag([600, 400], [200, 100]);
  await turn();
  const [url, body] = sent.find(([, own]) => own);
  assert.equal(url, "/grey");
  assert.deepEqual(round(body.box), [600, 400, 200, 100]);
  assert.deepEqual([body.patch, body.base], ["18 %", 4]);
  assert.equal(location.reloads, 1);
});

test("an interrupted box isn't sent; the tool put away draws none", async () => {
  buttons[2].tell("click");
  root.tell("pointerdown", at(0, 0, {button: 0, pointerId: 1}));
  root.tell("pointermove", at(50, 50));
  assert.equal(page.byId.marks.children.length, 2); // its two strokes
  root.tell("pointercancel", at(50, 50, {type: "pointercancel"}));
  assert.equal(page.byId.marks.children.length, 0);
  press("Escape");
  drag([0, 0], [50, 50]);
  await turn();
  assert.deepEqual(sent, []);
  assert.equal(root.style.cursor, "");
});

test("a point is sent by its click, with what the button is about", async () => {
  buttons[1].tell("click");
  root.tell("pointerdown", at(300, 200, {button: 0}));
  await turn();
  const [url, body] = sent[0];
  assert.equal(url, "/focus-at");
  assert.deepEqual([round(body.at), body.id], [[300, 200], "f3"]);
});

test("what is only told leaves the page as it is", async () => {
  buttons[2].tell("click");
  drag([0, 0], [100, 20]);
  await turn();
  assert.equal(page.byId["streak-says"].textContent, "12 px, about 1/48 s");
  assert.equal(location.reloads, 0);
  const line = page.byId.marks.children.at(-1);
  assert.deepEqual(
    ["x1", "y1", "x2"].map(name => +line.getAttribute(name)),
    [12, 112, 52],
  );
});

test("P goes through the tools of the leaf, and puts the last one away", () => {
  const held = () => buttons.map(button => button.getAttribute("aria-pressed") === "true");
  press("p");
  assert.deepEqual(held(), [true, false, false]);
  press("p");
  press("p");
  assert.deepEqual(held(), [false, false, true]);
  press("p");
  assert.deepEqual(held(), [false, false, false]);
  buttons[1].tell("click");
  buttons[1].tell("click"); // once more: put away
  assert.deepEqual(held(), [false, false, false]);
});

test("boxes that were measured are drawn with what they say", async () => {
  await begin({boxes: [{box: [100, 100, 300, 200], says: "18 %"}]});
  const [, box, says] = page.byId.marks.children;
  assert.deepEqual(
    ["x", "y", "width", "height"].map(name => Math.round(+box.getAttribute(name))),
    [52, 152, 80, 40],
  );
  assert.equal(says.textContent, "18 %");
});

test("the blur spots follow what is typed, once it rests", () => {
  mock.timers.enable({apis: ["setTimeout"]});
  const [blades] = page.found["[data-pupil]"];
  for (const value of ["7", "6"]) {
    blades.value = value;
    page.tell("input", {target: blades});
  }
  mock.timers.tick(119);
  assert.equal(page.byId.spots.src, "/spots.svg?f=2.8");
  mock.timers.tick(1);
  assert.equal(page.byId.spots.src, "/spots.svg?blades=6&edge=0.2");
  page.tell("input", {target: new Element("input")}); // another field
  mock.timers.tick(500);
  assert.equal(page.byId.spots.src, "/spots.svg?blades=6&edge=0.2");
});

test("a leaf stands where it stood when it is loaded anew", async () => {
  page.byId.report.scrollTop = 340;
  window.tell("pagehide");
  await begin();
  assert.equal(page.byId.report.scrollTop, 340);
});
