// The report beside the Match page's plate: its leaves and what is typed in them, proposals, and
// another draft beside this one.

import assert from "node:assert/strict";
import {test} from "node:test";

import {Element, fresh, later, notices, page, serve, turn} from "./page.js";

const {Beside} = await import("../../web/match/static/match/beside.js");
const {Leaves} = await import("../../web/match/static/match/leaves.js");
const {Proposing} = await import("../../web/match/static/match/proposing.js");
const {putBack, queueBehind, typedIn} = await import("../../web/match/static/match/typed.js");

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

test("of a report that is swapped the open leaf is fetched once htmx hears it", () => {
  report("tracks");
  told.asked = [];
  delete told.lazy.dataset.asked; // a fresh part
  page.tell("htmx:afterSwap", {target: sheet});
  assert.deepEqual(told.asked, []);
  page.tell("htmx:afterSettle", {target: sheet});
  assert.deepEqual(told.asked, [[told.lazy, "leaf-shown"]]);
});

test("what is folded away is fetched when it is unfolded", () => {
  const leaves = report("evidence");
  told.lazy.found["details:not([open])"] = new Element("details");
  leaves.show("tracks");
  assert.deepEqual(told.asked, []);
  told.lazy.found["details:not([open])"] = null;
  sheet.tell("toggle");
  assert.deepEqual(told.asked, [[told.lazy, "leaf-shown"]]);
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

test("a form of the report waits behind an edit, and is then sent by the report's own", async () => {
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

test("found edges are offered by axis, with their number; taken, they are put away", async () => {
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

// Another draft beside this one -------------------------------------------------------------------

function drafts() {
  const buttons = ["A", "B"].map(beside => new Element("button", {dataset: {beside}}));
  const laid = [];
  const root = new Element("div", {found: {"button[data-beside]": buttons}});
  const pressed = () => buttons.map(one => one.getAttribute("aria-pressed"));
  return {buttons, laid, pressed, beside: new Beside(root, "/beside", found => laid.push(found))};
}

test("a draft is laid beside, and taken away by the same button", async () => {
  fresh();
  const asked = [];
  serve(async url => {
    asked.push(url);
    return {html: "<b>A</b>"};
  });
  const {buttons, laid, pressed, beside} = drafts();
  await beside.press(buttons[0]);
  assert.deepEqual(asked, ["/beside?name=A"]);
  assert.deepEqual([laid.length, laid[0].html], [1, "<b>A</b>"]);
  assert.deepEqual(pressed(), ["true", "false"]);
  await beside.press(buttons[0]);
  assert.equal(laid[1], null);
  assert.deepEqual(pressed(), ["false", "false"]);
  assert.equal(asked.length, 1);
});

test("of two drafts pressed in a row the later one is laid, whichever comes first", async () => {
  fresh();
  const waiting = {};
  serve(url => {
    waiting[url.at(-1)] = later();
    return waiting[url.at(-1)].promise;
  });
  const {buttons, laid, pressed, beside} = drafts();
  const [first, second] = buttons.map(button => beside.press(button));
  await turn();
  waiting.B.answer({html: "B"});
  await second;
  waiting.A.answer({html: "A"});
  await first;
  assert.deepEqual(
    laid.map(one => one.html),
    ["B"],
  );
  assert.deepEqual(pressed(), ["false", "true"]);
});

test("a draft that can't be had is told, and its button isn't pressed", async () => {
  fresh();
  const {buttons, laid, pressed, beside} = drafts();
  serve(async () => ({status: 404, problem: "There is no such draft."}));
  await beside.press(buttons[0]);
  serve(async () => new TypeError("network"));
  await beside.press(buttons[1]);
  assert.deepEqual(laid, [null, null]);
  assert.deepEqual(pressed(), ["false", "false"]);
  assert.match(notices().at(-1), /does not answer/);
});
