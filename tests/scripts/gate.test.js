// The Gate page: its two views, the guides over the plate, and following a place through the grids.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {layTable} from "./laid.js";
import {Element, fresh, later, notices, page, serve, turn} from "./page.js";

let sent, frames, form, opened;

/** An element whose children are found by the words of a selector, as the form's rows are. */
class Row extends Element {
  querySelector(selector) {
    const type = /^\[type=(\w+)\]$/.exec(selector)?.[1];
    return this.children.find(child => child.type === type) ?? null;
  }

  remove() {
    frames.children = frames.children.filter(child => child !== this);
  }
}

function pane(name) {
  return new Element("div", {dataset: {paneOf: name}});
}

async function begin({kept = "chain", shapes = []} = {}) {
  fresh();
  const {root} = layTable();
  sessionStorage.setItem("gate-pane", kept);
  page.createElement = name => new Row(name);
  page.byId["light-table"] = root;
  page.byId["gate-table"] = new Element("div", {
    dataset: {follow: "/follow", guides: "/guides", plate: "2", grid: "1"},
  });
  for (const id of ["chain", "chain-at", "sensor-at", "labels", "guides-error", "add-frame"])
    page.byId[id] = new Element("div", {hidden: true});
  Object.assign(page.byId.chain.dataset, {originX: "100", originY: "50", scale: "4"});
  page.byId.revision = Object.assign(new Element(), {textContent: "5"});
  page.byId["guide-shapes"] = {textContent: JSON.stringify(shapes)};
  page.byId.id_frame = new Element("input", {id: "id_frame", value: ""});
  frames = page.byId.frames = new Element();
  form = page.byId.guides = new Element("form");
  form.found["[type=checkbox]"] = ["thirds", "centre"].map(
    name => new Element("input", {name, checked: name === "thirds"}),
  );
  form.found["[data-add-frame]"] = [new Element("button", {dataset: {addFrame: "2.39"}})];
  page.found["#history [data-history=undo]"] = new Element("button", {disabled: true});
  page.found["[data-pane]"] = ["chain", "plate"].map(
    name => new Element("button", {dataset: {pane: name}}),
  );
  page.found["[data-pane-of]"] = [pane("chain"), pane("plate")];
  for (const part of page.found["[data-pane-of]"])
    page.found[`[data-pane-of=${part.dataset.paneOf}]`] = part;
  page.found["[data-for]"] = [new Element("p", {dataset: {for: "plate"}})];
  sent = [];
  serve((url, body) => {
    sent.push([url, structuredClone(body)]);
    return {revision: body.base + 1, undo_label: "Guides", shapes: []};
  });
  opened = (opened || 0) + 1;
  await import(`../../web/gates/static/gates/gate.js?${opened}`);
}

beforeEach(() => begin());

const shownPane = () =>
  page.found["[data-pane-of]"].find(part => part.hidden === false).dataset.paneOf;
const press = (key, target = new Element("body")) => page.tell("keydown", {key, target});

test("keys and buttons change the view, which is remembered", async () => {
  assert.equal(shownPane(), "chain");
  press("p");
  assert.equal(shownPane(), "plate");
  assert.equal(page.found["[data-for]"][0].hidden, false);
  page.found["[data-pane]"][0].tell("click");
  assert.equal(shownPane(), "chain");
  press("p", new Element("input"));
  assert.equal(shownPane(), "chain");
  press("p");
  await begin({kept: sessionStorage.getItem("gate-pane")});
  assert.equal(shownPane(), "plate");
});

test("a frame is typed as a number or as a ratio, and refused in a sentence", async () => {
  const add = text => {
    page.byId.id_frame.value = text;
    page.byId["add-frame"].tell("click");
  };
  add("2,2");
  await turn();
  assert.equal(sent[0][1].frames[0].aspect, 2.2);
  add("11:8");
  await turn();
  assert.equal(sent[1][1].frames[1].aspect, 1.375);
  assert.equal(page.byId.id_frame.value, "");
  for (const wrong of ["wide", "0", "4:0", "-2"]) {
    add(wrong);
    await turn();
    assert.match(page.byId["guides-error"].textContent, /2\.2 or 11:8/);
    assert.equal(page.byId.id_frame.value, wrong); // it can be mended
  }
  assert.equal(sent.length, 2);
});

test("Enter in the field adds the frame", async () => {
  page.byId["add-frame"].click = () => page.byId["add-frame"].tell("click");
  page.byId.id_frame.value = "1.85";
  form.tell("submit");
  await turn();
  assert.equal(sent[0][1].frames[0].aspect, 1.85);
});

test("guides are saved whole, on the revision that the last ones made", async () => {
  const [thirds, centre] = form.found["[type=checkbox]"];
  thirds.checked = false;
  form.tell("change", {target: thirds});
  centre.checked = true;
  form.tell("change", {target: centre});
  await turn();
  assert.deepEqual(
    sent.map(([, body]) => [body.thirds, body.centre, body.base]),
    [
      [false, true, 5], // by the time it is sent, both are as they are
      [false, true, 6],
    ],
  );
  assert.equal(page.byId.revision.textContent, 7);
  const undo = page.found["#history [data-history=undo]"];
  assert.deepEqual([undo.disabled, undo.title], [false, "Undo: Guides (Ctrl+Z)"]);
  assert.equal(shownPane(), "plate"); // where they are seen
});

test("what is being typed into the field isn't saved with the guides", async () => {
  form.tell("change", {target: page.byId.id_frame});
  await turn();
  assert.deepEqual(sent, []);
});

test("a frame's mask has its own strength and colour, and can be taken away", async () => {
  form.found["[data-add-frame]"][0].tell("click");
  await turn();
  const [row] = frames.children;
  assert.equal(row.children[0].textContent, "2.39 : 1");
  const [, strength, tint, away] = row.children;
  assert.equal(away.getAttribute("aria-label"), "Take the frame 2.39 away");
  Object.assign(strength, {value: "0.35"});
  Object.assign(tint, {value: "#203040"});
  form.tell("change", {target: strength});
  await turn();
  assert.deepEqual(sent.at(-1)[1].frames, [{aspect: "2.39", opacity: 0.35, colour: "#203040"}]);
  away.tell("click");
  await turn();
  assert.deepEqual(sent.at(-1)[1].frames, []);
});

test("what the server doesn't take is said beside the form", async () => {
  serve(() => ({status: 422, problem: "At most eight frames."}));
  form.found["[data-add-frame]"][0].tell("click");
  await turn();
  const error = page.byId["guides-error"];
  assert.deepEqual([error.textContent, error.hidden], ["At most eight frames.", false]);
  serve(() => ({status: 409, problem: "Somebody else changed the guides.", newest: 9}));
  form.tell("change", {target: form.found["[type=checkbox]"][0]});
  await turn();
  assert.deepEqual(notices(), ["Somebody else changed the guides."]);
});

test("guides are drawn over the plate, with their names beside them", async () => {
  await begin({
    kept: "plate",
    shapes: [
      {kind: "mask", d: "M0 0", colour: "#000", opacity: 0.5},
      {kind: "area", d: "M1 1", says: "2.39", at: [1000, 500]},
    ],
  });
  const over = page.byId["light-table"].found["#over"];
  assert.deepEqual(
    over.children.map(path => path.getAttribute("class")),
    ["guide-mask", "guide-case", "guide area"],
  );
  const [label] = page.byId.labels.children;
  assert.equal(label.textContent, "2.39");
  // 824 × 624 px of screen for 2000 × 1000: in its middle.
  assert.deepEqual([label.getAttribute("x"), label.getAttribute("y")], ["412", "312"]);
});

test("a place is followed through all grids, the newest only", async () => {
  const places = [0, 1].map(index => {
    const place = new Element();
    page.found[`[data-place="${index}"]`] = place;
    return place;
  });
  globalThis.DOMPoint = class {
    constructor(x, y) {
      Object.assign(this, {x, y});
    }

    matrixTransform() {
      return this;
    }
  };
  page.byId.chain.getScreenCTM = () => ({inverse: () => null});
  const first = later();
  const asked = [];
  globalThis.fetch = async url => {
    asked.push(url);
    if (asked.length === 1) await first.promise;
    const json = {places: [`${asked.length}`, "–"], mm: [2, -1], says: "2.0, −1.0 mm"};
    return {ok: true, json: async () => json};
  };
  for (const x of [104, 108, 112]) page.byId.chain.tell("pointermove", {clientX: x, clientY: 46});
  first.answer();
  await turn();
  assert.deepEqual(asked, ["/follow?x=1&y=-1&grid=sensor", "/follow?x=3&y=-1&grid=sensor"]);
  assert.equal(places[0].textContent, "2");
  const spot = page.byId["chain-at"];
  assert.deepEqual([spot.getAttribute("cx"), spot.getAttribute("cy")], ["108", "46"]);
  assert.equal(page.byId["sensor-at"].textContent, "sensor 2.0, −1.0 mm");
});

test("brackets go from grid to grid", () => {
  const clicked = [];
  page.found[".ledger .num-tag a"] = [0, 1, 2].map(index => ({click: () => clicked.push(index)}));
  press("]");
  press("[");
  assert.deepEqual(clicked, [2, 0]);
});

// Forms -------------------------------------------------------------------------------------------

/** The page with some fields, and the divs around them. */
async function withFields(fields) {
  await begin();
  for (const [id, value] of Object.entries(fields)) {
    const around = new Element("div", {hidden: false});
    page.byId[id] = Object.assign(new Element("input", {value}), {around});
    page.byId[id].found.div = around;
  }
  opened += 1;
  await import(`../../web/gates/static/gates/gate.js?${opened}`);
}
const hidden = () =>
  ["percent", "left", "right", "top", "bottom"].filter(
    name => page.byId[`id_${name}`].around.hidden,
  );

test("of a standard format the sizes aren't typed", async () => {
  await withFields({id_format: "full-frame", id_width: "36 mm", id_height: "24 mm"});
  const off = () => ["id_width", "id_height"].map(id => page.byId[id].disabled);
  assert.deepEqual(off(), [true, true]);
  page.byId.id_format.value = "";
  page.byId.id_format.tell("change");
  assert.deepEqual(off(), [false, false]);
});

test("of an overscan only the fields of the way that is chosen are there", async () => {
  const sides = {id_left: "", id_right: "", id_top: "", id_bottom: ""};
  await withFields({id_how: "percent", id_percent: "10", ...sides});
  assert.deepEqual(hidden(), ["left", "right", "top", "bottom"]);
  page.byId.id_how.value = "sides";
  page.byId.id_how.tell("change");
  assert.deepEqual(hidden(), ["percent"]);
  page.byId.id_how.value = "distortion";
  page.byId.id_how.tell("change");
  assert.deepEqual(hidden(), ["percent", "left", "right", "top", "bottom"]);
});
