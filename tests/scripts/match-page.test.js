// What the Match page shows: marks and hints, the leaves of its report and what is typed in them,
// aids for the eye, proposals, and the guides of another frame.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {Element, fresh, later, notices, page, serve, turn} from "./page.js";

const {Aids} = await import("../../web/match/static/match/aids.js");
const {Leaves} = await import("../../web/match/static/match/leaves.js");
const {PathGuides} = await import("../../web/match/static/match/guides.js");
const {Proposing} = await import("../../web/match/static/match/proposing.js");
const {Shown} = await import("../../web/match/static/match/shown.js");
const {View} = await import("../../web/match/static/match/view.js");
const {putBack, queueBehind, typedIn} = await import("../../web/match/static/match/typed.js");

const table = () => ({
  root: new Element("div"),
  over: new Element("g", {style: {setProperty() {}}}),
  image: new Element("img"),
  canvas: new Element("canvas"),
  scale: 2,
  toScreen: ([x, y]) => [2 * x, 2 * y],
});

const EDGE = {
  id: "e1",
  kind: "edge",
  axis: "up",
  points: [
    [10, 10],
    [10, 50],
  ],
};
const BOW = {
  id: "b1",
  kind: "bow",
  points: [
    [0, 0],
    [5, 1],
    [9, 1],
    [12, 0],
  ],
};
const SPOT = {id: "s1", kind: "spot", at: [30, 40], name: "Door"};

// What is drawn -----------------------------------------------------------------------------------

let view, shown, drawn;

function draw(marks, more = {}) {
  fresh();
  for (const id of ["marks", "labels", "hint"]) page.byId[id] = new Element();
  page.found["#evidence [data-id]"] = page.found["[data-survey]"] = [];
  const overlay = {paths: [], labels: [], says: ""};
  const empty = {facts: [], residuals: {}, revision: 1, locked: false, survey: []};
  shown = new Shown({...empty, overlay, marks, ...more});
  const parts = {aids: {guides: true, straight: false}, leaves: {hidden: new Set(), open: "fit"}};
  drawn = {...parts, tools: {tool: "choose"}, proposing: {segments: null}};
  view = new View({table: table(), shown, ...drawn});
  view.redraw();
}
const inLayer = kind => {
  const all = [];
  const walk = element => {
    if (element.getAttribute?.("class") === kind || element.tagName === kind) all.push(element);
    element.children.forEach(walk);
  };
  walk(page.byId.marks);
  return all;
};
const labels = () => page.byId.labels.children.map(label => label.textContent);

test("marks are drawn by their kind, with their letter and residual", () => {
  draw([EDGE, BOW, SPOT], {residuals: {e1: 0.347, s1: 0.2}});
  assert.equal(inLayer("edge up")[0].getAttribute("d"), "M20 20L20 100");
  assert.deepEqual(labels(), ["Y 0.3", "⌒ ", "Door"]);
  const ends = inLayer("CIRCLE").filter(one => one.dataset.mark === "b1");
  assert.deepEqual(
    ends.map(one => [one.dataset.point, one.getAttribute("r")]),
    ["0", "1", "2", "3"].map(point => [point, "4"]),
  );
});

test("a chosen point is larger, a mark that is off tells no residual", () => {
  draw([{...EDGE, off: true}], {residuals: {e1: 0.3}});
  assert.deepEqual(labels(), ["Y "]);
  assert.equal(inLayer("is-off-mark").length, 1);
  shown.choose("e1");
  shown.point = 1;
  view.redraw();
  assert.deepEqual(
    inLayer("CIRCLE").map(one => one.getAttribute("r")),
    ["5", "7"],
  );
});

test("kinds that are hidden, the straightened picture and other frames show no marks", () => {
  draw([EDGE, SPOT]);
  drawn.leaves.hidden.add("up");
  view.redraw();
  assert.deepEqual(labels(), ["Door"]);
  drawn.aids.straight = true;
  view.redraw();
  assert.deepEqual(labels(), []);
  drawn.aids.straight = false;
  shown.elsewhere = {
    paths: [],
    labels: [{x: 5, y: 5, text: "horizon", class: "grid"}],
    says: "7 m",
  };
  view.redraw();
  assert.deepEqual(labels(), ["horizon"]);
  assert.ok(view.table.root.classes.has("elsewhere"));
  assert.match(page.byId.hint.textContent, /7 m$/);
});

test("the hint tells the tool, how many are chosen, and what the guides say", () => {
  draw([EDGE, SPOT], {overlay: {paths: [], labels: [], says: "1 m squares"}});
  shown.choose("e1");
  shown.choose("s1", true);
  view.redraw();
  const {hint} = page.byId;
  assert.match(hint.textContent, /drag the table to pan · 2 marks chosen · 1 m squares$/);
  drawn.aids.guides = false;
  drawn.tools.tool = "survey";
  shown.wanted = "P7";
  view.redraw();
  assert.equal(hint.textContent, "click where P7 is seen · 2 marks chosen");
});

test("surveyed points are expected in their ellipse, never too small to be seen", () => {
  const survey = [
    {name: "P1", placed: false, at: [10, 10], ellipse: [20, 0.5, 30]},
    {name: "P2", placed: true, at: [20, 20], ellipse: null},
  ];
  draw([], {survey});
  assert.equal(inLayer("ELLIPSE").length, 0); // on their leaf, or with their tool
  drawn.leaves.open = "survey";
  shown.wanted = "P1";
  view.redraw();
  const [ellipse] = inLayer("ELLIPSE");
  assert.deepEqual(
    ["rx", "ry", "transform"].map(name => ellipse.getAttribute(name)),
    ["40", "4", "rotate(30 20 20)"],
  );
  assert.deepEqual(labels(), ["P1 ±20.0 px"]);
});

test("proposals of no axis can't be taken; a box is drawn from any corner", () => {
  draw([EDGE]);
  drawn.proposing.segments = [
    {axis: "up", points: EDGE.points},
    {axis: null, points: BOW.points.slice(0, 2)},
  ];
  view.box([30, 5], [10, 25]);
  const offered = inLayer("hit").filter(path => path.dataset.proposal !== undefined);
  assert.deepEqual(
    offered.map(path => path.dataset.proposal),
    ["0"],
  );
  const [box] = inLayer("choosing");
  assert.deepEqual(
    ["x", "y", "width", "height"].map(name => box.getAttribute(name)),
    ["20", "10", "40", "40"],
  );
});

test("another draft lies beside, dashed, but not over the straightened picture", () => {
  draw([], {overlay: {paths: [{d: "M0 0", class: "axis"}], labels: [], says: ""}});
  shown.beside = {overlay: {paths: [{d: "M1 1", class: "grid"}]}};
  const paths = () => view.table.over.children.map(path => path.getAttribute("class"));
  view.paint();
  assert.deepEqual(paths(), ["casing", "axis", "grid beside"]);
  drawn.aids.straight = true;
  view.paint();
  assert.deepEqual(paths(), ["casing", "axis"]);
});

// The leaves of the report ------------------------------------------------------------------------

let sheet, told;

/** A report of three leaves; the one of tracks is fetched once it is open. */
function report(selected = "fit") {
  fresh();
  const leaf = name => new Element("button", {dataset: {leaf: name}, found: {"[data-leaf]": null}});
  const part = name => new Element("section", {dataset: {leafOf: name}, found: {}});
  const buttons = ["fit", "evidence", "tracks"].map(leaf);
  for (const button of buttons) button.found["[data-leaf]"] = button;
  const parts = ["fit", "evidence", "tracks"].map(part);
  sheet = new Element("div");
  sheet.found["[data-leaf]"] = buttons;
  sheet.found["[data-leaf-of]"] = parts;
  for (const button of buttons) sheet.found[`[data-leaf="${button.dataset.leaf}"]`] = button;
  sheet.found["[data-leaf][aria-selected=true]"] = buttons.find(
    button => button.dataset.leaf === selected,
  );
  const lazy = new Element("div");
  sheet.found['[data-leaf-of="tracks"] [data-lazy]'] = [lazy];
  sheet.found["[data-lazy]"] = [lazy];
  told = {asked: [], filled: 0, opened: 0, hidden: 0, lazy, parts, buttons};
  window.htmx = {trigger: (element, name) => told.asked.push([element, name])};
  return new Leaves(sheet, {
    hiddenChanged: () => (told.hidden += 1),
    filled: () => (told.filled += 1),
    opened: () => (told.opened += 1),
  });
}
const press = (target, more = {}) => sheet.tell("click", {target, ...more});
const visible = () => told.parts.filter(part => !part.hidden).map(part => part.dataset.leafOf);

test("a leaf that is chosen is open, remembered for the server, and fetched once", () => {
  const leaves = report();
  assert.deepEqual([leaves.open, visible()], ["fit", ["fit"]]);
  press(told.buttons[2]);
  assert.deepEqual(visible(), ["tracks"]);
  assert.equal(page.cookie, "match_leaf=tracks;path=/;samesite=lax");
  assert.deepEqual(told.asked, [[told.lazy, "leaf-shown"]]);
  press(told.buttons[0]);
  press(told.buttons[2]);
  assert.equal(told.asked.length, 1);
  assert.equal(told.buttons[2].getAttribute("aria-selected"), "true");
  assert.deepEqual(
    told.buttons.map(button => button.tabIndex),
    [-1, -1, 0],
  );
});

test("arrows go from leaf to leaf, around the ends", () => {
  const leaves = report();
  const key = (target, name) => sheet.tell("keydown", {target, key: name});
  key(told.buttons[0], "ArrowLeft");
  assert.equal(leaves.open, "tracks");
  assert.equal(page.activeElement, told.buttons[2]);
  key(told.buttons[2], "ArrowRight");
  assert.equal(leaves.open, "fit");
  key(new Element("p"), "ArrowRight");
  assert.equal(leaves.open, "fit");
});

test("what the server had open is open, and a leaf that is gone gives way to the fit", () => {
  const leaves = report("evidence");
  assert.deepEqual(visible(), ["evidence"]);
  delete sheet.found['[data-leaf="evidence"]'];
  leaves.settle();
  assert.equal(leaves.open, "fit");
});

test("a problem beside a field is seen, on whichever leaf it stands", () => {
  const leaves = report();
  const wrong = new Element("p");
  [, wrong.found["[data-leaf-of]"]] = told.parts;
  sheet.found["[data-leaf-of] .error"] = wrong;
  leaves.settle();
  assert.deepEqual(visible(), ["evidence"]);
});

test("evidence is listed as it is asked for, by figures from the largest, by name from A", () => {
  const leaves = report();
  const row = (id, order, sigmas, textContent) =>
    new Element("tr", {dataset: {id, order, sigmas, amount: 1, leverage: 0}, textContent});
  const list = new Element("tbody");
  list.found["[data-id]"] = [
    row("e1", 1, 0.2, "Window"),
    row("e2", 0, 3.1, "Step"),
    row("e3", 2, 1, "Door"),
  ];
  sheet.found["#evidence"] = list;
  const sort = new Element("select", {id: "sort"});
  sheet.found["#sort"] = sort;
  const sorted = how => {
    list.children = [];
    sort.value = how;
    sheet.tell("change", {target: sort});
    return list.children.map(one => one.dataset.id);
  };
  assert.deepEqual(sorted("sigmas"), ["e2", "e3", "e1"]);
  assert.deepEqual(sorted("drawn"), ["e2", "e1", "e3"]);
  assert.deepEqual(sorted("name"), ["e3", "e2", "e1"]);
  sort.value = "drawn"; // a fresh report comes as the server lists it
  leaves.settle();
  assert.equal(sort.value, "name");
});

test("a kind of mark is hidden and shown again", () => {
  const leaves = report();
  const kind = new Element("button", {dataset: {kind: "bow"}});
  kind.found["[data-kind]"] = kind;
  sheet.found["[data-kind]"] = [kind];
  press(kind);
  assert.deepEqual([leaves.hidden.has("bow"), kind.getAttribute("aria-pressed")], [true, "false"]);
  press(kind);
  assert.deepEqual([leaves.hidden.size, told.hidden], [0, 2]);
});

// What is typed -----------------------------------------------------------------------------------

function typing(values) {
  const form = new Element("form", {attributes: {action: "/facts"}});
  const all = Object.entries(values).map(
    ([name, [value, defaultValue]]) =>
      new Element("input", {name, value, defaultValue, form, getAttribute: () => null}),
  );
  const whole = new Element("div");
  whole.found["input:not([type=hidden]):not([type=file]), textarea, select"] = all;
  return {whole, form, all};
}

test("what is typed and not sent is put back into a renewed report", () => {
  const before = typing({height: ["2.5 m", ""], name: ["Door", "Door"]});
  const kept = typedIn(before.whole);
  assert.deepEqual(kept, [{form: "/facts", name: "height", value: "2.5 m"}]);
  assert.deepEqual(typedIn(before.whole, before.form), []); // it was just sent
  const after = typing({height: ["", ""], name: ["Window", "Window"]});
  putBack(after.whole, kept);
  assert.deepEqual(
    after.all.map(field => field.value),
    ["2.5 m", "Window"],
  );
});

test("of a leaf that isn't there it waits until it is", () => {
  const kept = typedIn(typing({height: ["2.5 m", ""]}).whole);
  putBack(typing({}).whole, kept);
  const back = typing({height: ["", ""]});
  putBack(back.whole, []);
  assert.equal(back.all[0].value, "2.5 m");
  const again = typing({height: ["", ""]});
  putBack(again.whole, []);
  assert.equal(again.all[0].value, ""); // once
});

test("a form of the report waits behind an edit, and is sent by the report's own then", async () => {
  fresh();
  const edit = later();
  const triggered = [];
  window.htmx = {trigger: (...what) => triggered.push(what)};
  const whole = new Element("div");
  const old = new Element("form", {attributes: {"hx-post": "/facts"}});
  const renewed = new Element("form", {attributes: {"hx-post": "/facts"}});
  whole.children = [old];
  whole.found["[hx-post]"] = [renewed];
  let waits = true;
  queueBehind(
    whole,
    () => waits,
    () => edit.promise,
  );
  let held = 0;
  const ask = (elt, verb = "post") =>
    page.tell("htmx:confirm", {
      detail: {elt, verb, path: "/facts"},
      preventDefault: () => (held += 1),
    });
  ask(old);
  ask(old, "get"); // nothing is changed by it
  ask(new Element("form")); // not of the report
  assert.equal(held, 1);
  whole.children = [renewed]; // the edit renews the report
  edit.answer();
  await turn();
  assert.deepEqual(triggered, [[renewed, "submit"]]);
  waits = false;
  ask(renewed);
  assert.equal(held, 1);
});

// Aids for the eye --------------------------------------------------------------------------------

function aids() {
  fresh();
  const stored = {};
  globalThis.localStorage = {
    getItem: key => stored[key] ?? null,
    setItem: (key, value) => (stored[key] = value),
  };
  const box = name => {
    const own = new Element("input", {type: "checkbox", checked: name === "guides"});
    own.dataset.aid = name;
    page.found[`[data-aid=${name}]`] = own;
    return own;
  };
  page.found["[data-aid]"] = ["guides", "straight", "walls", "map"].map(box);
  page.found["[data-aid=walls], [data-aid=map]"] = page.found["[data-aid]"].slice(2);
  page.found["[data-act=clear-aids]"] = new Element("button");
  page.byId["guide-colour"] = new Element("input", {value: "#ffffff"});
  page.byId["guide-width"] = new Element("input", {value: "1"});
  page.byId.ghost = new Element("input", {value: "1"});
  page.byId["room-height"] = new Element("input", {value: "2.5 m"});
  page.byId.sheet = new Element("div", {dataset: {straight: "/straight.jpg"}});
  const own = table();
  own.image.found["[data-proxy]"] = new Element("div", {dataset: {proxy: "/proxy.jpg"}});
  const changes = [];
  const made = new Aids(own, () => changes.push(1));
  return {made, own, changes, stored};
}

test("an aid is wished for by its box or its key, and the page is told", () => {
  const {made, changes} = aids();
  const [guides, , walls] = page.found["[data-aid]"];
  walls.checked = true;
  walls.tell("change");
  assert.equal(made.wish.walls, true);
  made.toggle("guides");
  assert.deepEqual([made.guides, guides.checked], [false, false]);
  made.wish.cubes.push([1, 2]);
  page.found["[data-act=clear-aids]"].tell("click");
  assert.deepEqual(
    [made.wish, walls.checked],
    [{walls: false, map: false, figures: [], cubes: [], room: null}, false],
  );
  assert.equal(changes.length, 3);
});

test("the straightened picture takes the plate's place, and gives it back", () => {
  const {made, own} = aids();
  made.set("straight", true);
  assert.match(own.image.src, /^\/straight\.jpg\?at=\d+$/);
  assert.equal(own.canvas.style.visibility, "hidden");
  made.set("straight", false);
  assert.deepEqual([own.image.src, own.canvas.style.visibility], ["/proxy.jpg", ""]);
});

test("a room's height is typed in any unit, with a comma too", () => {
  const {made} = aids();
  for (const [text, metres] of [
    ["2,6", 2.6],
    ["240 cm", 2.4],
    ["8 ft", 2.4384],
    ["100in", 2.54],
    ["1800mm", 1.8],
    ["tall", 2.5],
  ]) {
    page.byId["room-height"].value = text;
    assert.ok(Math.abs(made.height - metres) < 1e-9, text);
  }
});

test("looks are kept in this browser; the plate fades with all that it is made of", () => {
  const {stored, own} = aids();
  page.byId["guide-colour"].value = "#ffaa00";
  page.byId["guide-colour"].tell("input");
  assert.deepEqual(JSON.parse(Object.values(stored)[0]), {colour: "#ffaa00", width: "1"});
  page.byId.ghost.value = "0.4";
  page.byId.ghost.tell("input");
  assert.deepEqual([own.image.style.opacity, own.canvas.style.opacity], ["0.4", "0.4"]);
});

// Proposals ---------------------------------------------------------------------------------------

const FOUND = {
  says: "14 edges were found.",
  trust: "good",
  counts: {across: 6, up: 5, along: 3},
  segments: [{axis: "up", points: []}],
};

function proposing() {
  fresh();
  for (const id of ["proposal-bar", "proposal-says", "proposal-groups"])
    page.byId[id] = new Element("div", {hidden: true});
  page.found["[data-act=proposals]"] = new Element("button");
  const taken = [];
  const holder = new Element("div", {dataset: {proposals: "/proposals"}});
  const made = new Proposing(holder, {changed() {}, take: body => taken.push(body)});
  return {made, taken, buttons: () => page.byId["proposal-groups"].children};
}

test("edges that are found are offered by axis, with their number; taken, they are put away", async () => {
  const {made, taken, buttons} = proposing();
  globalThis.fetch = async () => ({json: async () => FOUND});
  page.found["[data-act=proposals]"].tell("click");
  assert.equal(made.segments, null); // not yet
  assert.match(page.byId["proposal-says"].textContent, /^Looking/);
  await turn();
  assert.equal(made.segments.length, 1);
  assert.deepEqual(
    buttons().map(button => button.textContent),
    ["Click one, or take the best of", "X across (6)", "Y up (5)", "Z along (3)", " all"],
  );
  buttons()[2].tell("click");
  assert.deepEqual(taken, [{axis: "up"}]);
  assert.deepEqual([made.segments, page.byId["proposal-bar"].hidden], [null, true]);
});

test("looking can be stopped, which is no error", async () => {
  const {made, buttons} = proposing();
  globalThis.fetch = (_, {signal}) =>
    new Promise((_done, failed) => {
      signal.addEventListener("abort", () =>
        failed(Object.assign(new Error(), {name: "AbortError"})),
      );
    });
  made.toggle();
  buttons()[1].tell("click");
  await turn();
  assert.deepEqual([made.open, notices()], [false, []]);
});

test("where nothing can be found it is said, a server that is gone too", async () => {
  const {made} = proposing();
  globalThis.fetch = async () => ({json: async () => ({problem: "Bring in a plate first."})});
  await made.toggle();
  assert.equal(page.byId["proposal-says"].textContent, "Bring in a plate first.");
  assert.equal(made.segments, null);
  await made.toggle();
  globalThis.fetch = async () => {
    throw new Error("gone");
  };
  await made.toggle();
  assert.match(notices()[0], /does not answer/);
  assert.equal(made.open, false);
});

// Guides of another frame -------------------------------------------------------------------------

let guides, laid;

beforeEach(() => {
  fresh();
  laid = [];
  const on = {elsewhere: null};
  const aid = {wish: {walls: false}};
  guides = new PathGuides("/guides", on, aid, () => laid.push(on.elsewhere?.says ?? on.elsewhere));
  guides.on = aid;
});
const look = (frame, more = {}) =>
  guides.show({away: frame !== 10, frames: {frame, playing: false, ...more}});

test("another frame's guides are its own: none until they come, and none of one that was left", async () => {
  const slow = later();
  serve((_, {frame}) => (frame === 12 ? slow.promise : {says: `of ${frame}`}));
  look(12);
  look(13);
  await turn();
  assert.deepEqual(laid, ["", "", "of 13"]);
  slow.answer({says: "of 12"});
  await turn();
  assert.equal(laid.at(-1), "of 13");
  look(10);
  assert.equal(laid.at(-1), null); // the page's own
});

test("while it plays nothing is asked for", async () => {
  const asked = [];
  serve((_, {frame}) => {
    asked.push(frame);
    return {says: ""};
  });
  for (const frame of [12, 13, 14]) look(frame, {playing: true});
  await turn();
  assert.deepEqual([asked, laid], [[], [""]]);
  look(14);
  await turn();
  assert.deepEqual(asked, [14]);
});

test("an answer for what is wished no more isn't shown", async () => {
  const slow = later();
  const answers = [slow.promise, {says: "with walls"}];
  serve(() => answers.shift());
  look(12);
  guides.on.wish.walls = true;
  guides.refresh();
  await turn();
  slow.answer({says: "without"});
  await turn();
  assert.equal(laid.at(-1), "with walls");
});
