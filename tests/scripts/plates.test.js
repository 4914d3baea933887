// Bringing in plates: what was dropped, several photographs at once, sequences to choose from, and
// a flash as the clapper.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {layTable} from "./laid.js";
import {Element, fresh, later, notices, page, serve, turn} from "./page.js";

let loaded = 0;
const open = name => {
  loaded += 1;
  return import(`../../web/plates/static/plates/${name}.js?${loaded}`);
};
const named = (...names) => names.map(name => ({name}));

// What was dropped --------------------------------------------------------------------------------

const {filesOf} = await import("../../web/plates/static/plates/dropped.js");

const file = name => ({isFile: true, name, file: done => done({name})});
/** A folder whose reader gives two entries at a time, as browsers give a hundred. */
function folder(name, ...entries) {
  const createReader = () => {
    const rest = [...entries];
    return {readEntries: done => done(rest.splice(0, 2))};
  };
  return {isDirectory: true, name, createReader};
}
const dropped = (...entries) => ({
  items: entries.map(entry => ({webkitGetAsEntry: () => entry})),
  files: entries.filter(entry => entry.isFile).map(({name}) => ({name})),
});

test("folders are walked to their ends, each file named with its folder", async () => {
  const deep = folder("b", file("1.exr"), file("2.exr"), file("3.exr"), folder("c", file("4.exr")));
  const found = await filesOf(dropped(folder("a", deep), file("note.txt")));
  assert.deepEqual(
    found.map(([, name]) => name),
    ["a/b/1.exr", "a/b/2.exr", "a/b/3.exr", "a/b/c/4.exr", "note.txt"],
  );
});

test("files alone are taken as they are, also where a browser knows no entries", async () => {
  assert.deepEqual(await filesOf(dropped(file("one.jpg"))), [[{name: "one.jpg"}, "one.jpg"]]);
  const plain = {items: [{}], files: named("two.jpg")};
  assert.deepEqual(await filesOf(plain), [[{name: "two.jpg"}, "two.jpg"]]);
});

// Several photographs -----------------------------------------------------------------------------

async function board() {
  fresh();
  const form = new Element("form", {action: "/photographs"});
  form.found["input[type=file]"] = new Element("input", {files: []});
  form.found[".main"] = new Element("button", {disabled: false});
  Object.assign(page.byId, {photographs: form, "photographs-says": new Element()});
  globalThis.FormData = class {
    append(name, value) {
      this[name] = value;
    }
  };
  location.reloads = 0;
  sessionStorage.removeItem("says");
  await open("several");
  return form;
}
const transfer = (...names) => ({dataTransfer: {types: ["Files"], files: named(...names)}});

test("photographs are sent one after the other, and what was refused is told", async () => {
  await board();
  const sent = [];
  globalThis.fetch = async (_, {body}) => {
    sent.push(body.pictures.name);
    const problem = "“b.txt” is no picture.";
    return {ok: body.pictures.name !== "b.txt", json: async () => ({problem})};
  };
  page.tell("drop", transfer("a.jpg", "b.txt", "c.jpg"));
  await turn();
  assert.deepEqual(sent, ["a.jpg", "b.txt", "c.jpg"]);
  assert.equal(sessionStorage.getItem("says"), "2 of 3 shots were made. “b.txt” is no picture.");
  assert.equal(location.reloads, 1);
});

test("they can be stopped, and those that were made are told", async () => {
  const form = await board();
  const second = later();
  let count = 0;
  globalThis.fetch = async (_, {signal}) => {
    count += 1;
    if (count === 2) {
      await second.promise;
      if (signal.aborted) throw Object.assign(new Error(), {name: "AbortError"});
    }
    return {ok: true};
  };
  form.found["input[type=file]"].files = named("a.jpg", "b.jpg", "c.jpg");
  form.tell("submit");
  await turn();
  const [bar, text, stop] = page.byId["photographs-says"].children;
  assert.deepEqual([bar.value, bar.max, text.textContent], [1, 3, " 2 of 3 "]);
  stop.tell("click");
  second.answer();
  await turn();
  assert.equal(sessionStorage.getItem("says"), "1 of 3 shots were made. Stopped.");
});

test("more are taken only once these are sent", async () => {
  await board();
  const first = later();
  const sent = [];
  globalThis.fetch = async (_, {body}) => {
    sent.push(body.pictures.name);
    await first.promise;
    return {ok: true};
  };
  page.tell("drop", transfer("a.jpg"));
  page.tell("drop", transfer("b.jpg"));
  await turn();
  assert.deepEqual(sent, ["a.jpg"]);
  assert.match(notices()[0], /still being sent/);
  first.answer();
  await turn();
});

test("a server that is gone ends it; text that is dropped is nobody's picture", async () => {
  await board();
  globalThis.fetch = async () => {
    throw new Error("gone");
  };
  page.tell("drop", {dataTransfer: {types: ["text/plain"], files: []}});
  assert.equal(location.reloads, 0);
  page.tell("drop", transfer("a.jpg", "b.jpg"));
  await turn();
  assert.equal(
    sessionStorage.getItem("says"),
    "0 of 2 shots were made. The server does not answer.",
  );
});

// A plate -----------------------------------------------------------------------------------------

let requests, form, input;

async function plate(sequences) {
  fresh();
  requests = [];
  form = new Element("form", {dataset: {sequences: "/sequences"}});
  input = new Element("input", {files: [], value: "x"});
  input.after = error => {
    input.error = error;
  };
  Object.assign(page.byId, {"bring-in": form, id_picture: input, table: new Element()});
  for (const id of ["sending-says", "send", "sequences"]) page.byId[id] = new Element();
  page.byId.sending = new Element("progress", {hidden: true});
  globalThis.FormData = class {};
  globalThis.DataTransfer = class {
    files = [];
    items = {add: one => this.files.push(one)};
  };
  globalThis.DOMParser = class {
    parseFromString(text) {
      const error = text && Object.assign(new Element("p"), {textContent: text});
      return {querySelector: what => (what === "#bring-in .error" ? error || null : null)};
    }
  };
  globalThis.XMLHttpRequest = class extends Element {
    upload = new Element();

    constructor() {
      super();
      requests.push(this);
    }

    open(...how) {
      this.how = how;
    }

    setRequestHeader(name, value) {
      this[name] = value;
    }

    send() {
      this.files = input.files;
    }
  };
  location.pathname = "/LT010/plate";
  location.assign = to => {
    location.to = to;
  };
  serve((_, {names}) => ({sequences: sequences(names)}));
  await open("plate");
}
const choose = async (...names) => {
  input.files = named(...names);
  input.tell("change");
  await turn();
};
const whole = names => [{files: names, says: "all"}];

test("a picture is sent as it is chosen, and its page opened once it is in", async () => {
  await plate(whole);
  await choose("boathouse.jpg");
  const [request] = requests;
  assert.deepEqual([request.how, request["X-CSRFToken"]], [["POST", "/LT010/plate"], "token"]);
  request.upload.tell("progress", {loaded: 30, total: 120});
  assert.deepEqual(
    [page.byId.sending.value, page.byId["sending-says"].textContent],
    [0.25, "sending"],
  );
  request.upload.tell("progress", {loaded: 120, total: 120});
  assert.equal(page.byId["sending-says"].textContent, "reading");
  Object.assign(request, {status: 200, responseURL: "/LT010/gate"});
  request.tell("load");
  assert.equal(location.to, "/LT010/gate");
});

test("what is refused is said beside the field, and another can be chosen", async () => {
  await plate(whole);
  await choose("notes.pdf");
  Object.assign(requests[0], {status: 422, responseText: "“notes.pdf” is no picture."});
  requests[0].tell("load");
  assert.equal(input.error.textContent, "“notes.pdf” is no picture.");
  assert.deepEqual(
    [page.byId.sending.hidden, page.byId.send.disabled, input.value],
    [true, false, ""],
  );
  await choose("boathouse.jpg");
  assert.equal(requests.length, 2);
});

test("while one is sent no other is begun; after a server was gone it can be tried again", async () => {
  await plate(whole);
  await choose("a.jpg");
  await choose("b.jpg");
  assert.equal(requests.length, 1);
  assert.match(notices()[0], /still being sent/);
  requests[0].tell("error");
  assert.match(notices()[1], /Nothing was changed/);
  assert.equal(page.byId.sending.hidden, true);
  await choose("b.jpg");
  assert.equal(requests.length, 2);
});

test("of several sequences the artist chooses one; what belongs to none stays behind", async () => {
  const two = names => [
    {files: names.filter(name => name.startsWith("a")), says: "a.[1-2].exr"},
    {files: names.filter(name => name.startsWith("b")), says: "b.[1-2].exr"},
  ];
  await plate(two);
  await choose("a.1.exr", "b.1.exr", "a.2.exr", "b.2.exr");
  assert.equal(requests.length, 0);
  const [title, , second] = page.byId.sequences.children;
  assert.equal(title.textContent, "These are 2 sequences. Bring in:");
  assert.equal(second.textContent, "b.[1-2].exr");
  serve((_, {names}) => ({sequences: whole(names)}));
  second.tell("click");
  await turn();
  assert.deepEqual(
    requests[0].files.map(({name}) => name),
    ["b.1.exr", "b.2.exr"],
  );
  await plate(names => [{files: names.filter(name => name.endsWith("exr")), says: ""}]);
  await choose("a.1.exr", "a.2.exr", "thumbs.db");
  assert.equal(requests[0].files.length, 2);
});

test("more pictures than can be sent at once are refused before they are sent", async () => {
  await plate(whole);
  await choose(...Array.from({length: 2001}, (_, index) => `a.${index}.exr`));
  assert.equal(requests.length, 0);
  assert.match(notices()[0], /2001 pictures are more than the 2000/);
});

// The clapper -------------------------------------------------------------------------------------

const {startClapper} = await import("../../web/plates/static/plates/clapper.js");
const {LightTable} = await import("../../web/ui/static/ui/table.js");

let clapper, strip, root, region, details, whole_;

beforeEach(() => {
  fresh();
  ({root} = layTable());
  region = {value: ""};
  page.byId.marks = new Element("g");
  page.byId["look-for-flashes"] = new Element("form", {elements: {region}});
  for (const id of ["flash-area", "flash-whole"]) page.byId[id] = new Element("button");
  whole_ = page.byId["flash-whole"];
  whole_.hidden = true;
  details = page.byId.clapper = new Element("details", {open: true});
  const flash = new Element("button", {dataset: {flash: "12", x: "1000", y: "500"}});
  details.found["[data-flash]"] = [flash];
  const frames = {at: 3, pause() {}, show: number => (frames.at = number)};
  strip = {frames};
  clapper = startClapper(new LightTable(root), strip);
});

const at = (x, y) => ({clientX: 112 + 0.4 * x, clientY: 162 + 0.4 * y, button: 0, pointerId: 1});
const shapes = () => page.byId.marks.children.map(child => child.tagName);

test("the area to look in is dragged, in shares of the plate, and kept within it", () => {
  page.byId["flash-area"].tell("click");
  assert.ok(clapper.drawing);
  root.tell("pointerdown", at(1500, 800));
  root.tell("pointermove", at(500, -300));
  assert.equal(region.value, "0.2500,0.0000,0.7500,0.8000");
  assert.equal(whole_.hidden, false);
  root.tell("pointerup");
  assert.ok(!clapper.drawing);
  root.tell("pointermove", at(0, 0));
  assert.equal(region.value, "0.2500,0.0000,0.7500,0.8000");
  assert.deepEqual(shapes(), ["RECT", "RECT"]);
  whole_.tell("click");
  assert.deepEqual([region.value, whole_.hidden, shapes()], ["", true, []]);
});

test("an interrupted drag and Escape lay the tool aside", () => {
  page.byId["flash-area"].tell("click");
  root.tell("pointerdown", at(100, 100));
  root.tell("pointercancel");
  root.tell("pointermove", at(500, 500));
  assert.equal(region.value, "");
  page.byId["flash-area"].tell("click");
  page.tell("keydown", {key: "Escape"});
  assert.ok(!clapper.drawing);
});

test("a lamp that was found is ringed on its own frame, and on no other", () => {
  const [flash] = details.found["[data-flash]"];
  flash.tell("click");
  assert.equal(strip.frames.at, 12);
  const [ring] = page.byId.marks.children;
  assert.deepEqual([ring.getAttribute("cx"), ring.getAttribute("cy")], ["412", "312"]);
  strip.frames.at = 13;
  strip.shows();
  assert.deepEqual(shapes(), []);
});
