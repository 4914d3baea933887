// The strip of a filmed plate: which frame is shown, the ruler, in and out, and what a key or a
// press does while another frame is looked at.

import assert from "node:assert/strict";
import {beforeEach, mock, test} from "node:test";

import {layTable, loaded} from "./laid.js";
import {Element, fresh, later, notices, page, picture, serve, turn} from "./page.js";

const {LightTable} = await import("../../web/ui/static/ui/table.js");
const {startStrip} = await import("../../web/plates/static/plates/strip.js");

const DATA = {
  digest: "f00d",
  first: 1,
  last: 100,
  shown: 10,
  offset: 1000,
  rate: 24,
  missing: [40, 41],
  size: [1920, 1080],
  way: {name: "as-it-is", flip: false, quarters: 0},
  timecode: {count: 24, left_out: 0, start: 86400}, // 01:00:00:00
  range: null,
  saves: "/range",
};

let table, strip, root, canvas, sent, shownWith, form, drawn;

/** A canvas that remembers its texts. */
function drawing() {
  const told = [];
  const context = {told, fillText: (text, x) => told.push([text, Math.round(x)])};
  return new Proxy(context, {get: (own, name) => own[name] ?? (() => {}), set: () => true});
}

function begin(more = {}, how = {draws: true, keeps: ["g"]}, referrer = "") {
  fresh();
  page.referrer = referrer;
  drawn = drawing();
  for (const id of ["moment", "play", "strip-says", "mark-in", "mark-out", "ghosts"])
    page.byId[id] = new Element("button");
  page.byId.revision = Object.assign(new Element(), {textContent: "3"});
  page.byId["strip-data"] = {textContent: JSON.stringify({...DATA, ...more})};
  canvas = new Element("canvas", {width: 1000, height: 68, getContext: () => drawn});
  page.byId["strip-frames"] = canvas;
  page.byId["strip-frame"] = new Element("input", {value: "", blur() {}});
  form = new Element("form", {submits: 0, elements: {frame: {}, base: {}, query: {}}});
  form.submit = () => {
    form.submits += 1;
  };
  form.requestSubmit = () => form.tell("submit");
  page.byId["work-on"] = form;
  page.found["#history [data-history=undo]"] = new Element("button");
  page.found["input[name=base]"] = [];
  ({root} = layTable());
  sent = [];
  shownWith = [];
  serve((_, body) => {
    if (!body) return {status: 404};
    sent.push(body);
    return {revision: body.base + 1, undo_label: "Range"};
  });
  table = new LightTable(root);
  strip = startStrip(table, {...how, shows: ({frames}) => shownWith.push(frames.frame)});
}

beforeEach(() => {
  mock.timers.reset();
  sessionStorage.removeItem("ruler");
  begin();
});

const press = (key, more = {}) => page.tell("keydown", {key, target: new Element("body"), ...more});
const click = id => page.byId[id].tell("click");
const frame = () => strip.frames.frame;
const texts = () => drawn.told.splice(0).map(([text]) => text);

test("without a film there is no strip", () => {
  page.byId["strip-data"] = null;
  assert.equal(startStrip(table), null);
});

test("a page that is loaded anew shows the frame that was looked at, until one is worked on", () => {
  const leaveFor = (referrer, more) => {
    press("End");
    window.tell("pagehide");
    begin(more, undefined, referrer);
  };
  leaveFor("http://localhost/another");
  assert.equal(frame(), 1010);
  leaveFor("http://localhost/shot?work=1");
  assert.equal(frame(), 1100);
  leaveFor("http://localhost/shot", {shown: 20});
  assert.equal(frame(), 1020);
});

test("arrows step, with Shift by ten, and never leave the film", () => {
  press("ArrowRight");
  press("ArrowRight", {shiftKey: true});
  assert.equal(frame(), 1021);
  press("End");
  press("ArrowRight");
  assert.equal(frame(), 1100);
  press("Home");
  press("ArrowLeft");
  assert.equal(frame(), 1001);
  assert.equal(shownWith.at(-1), 1001);
});

test("a press on the strip shows the frame under it, a drag those it passes", () => {
  canvas.tell("pointerdown", {clientX: 505, pointerId: 1});
  assert.equal(frame(), 1051);
  canvas.tell("pointermove", {clientX: 600, buttons: 0});
  assert.equal(frame(), 1051);
  canvas.tell("pointermove", {clientX: 2000, buttons: 1});
  assert.equal(frame(), 1100);
});

test("a number that is typed is the shot's own", () => {
  const field = page.byId["strip-frame"];
  assert.equal(field.value, 1010);
  field.value = "1033";
  field.tell("keydown", {key: "Enter"});
  assert.equal(frame(), 1033);
  field.value = "harbour";
  field.tell("keydown", {key: "Enter"});
  assert.equal(frame(), 1033);
});

test("the ruler counts frames, seconds or time code, and remembers which", () => {
  drawn.told.length = 0;
  strip.paint();
  assert.deepEqual(texts().slice(0, 3), [1010, 1020, 1030]);
  press("t");
  assert.deepEqual(texts().slice(0, 3), ["0:00.00", "0:01.00", "0:02.00"]);
  click("moment");
  assert.deepEqual(texts().slice(0, 2), ["01:00:00:00", "01:00:01:00"]);
  assert.equal(page.byId.moment.textContent, "01:00:00:09");
  begin();
  strip.paint();
  assert.equal(texts()[0], "01:00:00:00");
  begin({timecode: null}); // a film without
  strip.paint();
  assert.equal(texts()[0], 1010);
});

// In and out --------------------------------------------------------------------------------------

test("in and out mark a range, a second time takes the mark away", async () => {
  strip.frames.show(20);
  press("(");
  await turn();
  strip.frames.show(30);
  press(")");
  await turn();
  assert.deepEqual(sent, [
    {range: [1020, 1100], base: 3},
    {range: [1020, 1030], base: 4},
  ]);
  click("mark-out");
  await turn();
  assert.deepEqual(sent[2].range, [1020, 1100]);
  strip.frames.show(20);
  click("mark-in");
  await turn();
  assert.equal(sent[3].range, null);
});

test("an in after the out leaves the out at the film's end", async () => {
  begin({range: [1020, 1030]});
  strip.frames.show(50);
  press("(");
  await turn();
  assert.deepEqual(sent[0].range, [1050, 1100]);
});

test("two marks in a row are saved one after the other", async () => {
  const first = later();
  const answers = [first.promise];
  serve(async (_, body) => {
    if (!body) return {status: 404};
    sent.push(body);
    await answers.shift();
    return {revision: body.base + 1, undo_label: "Range"};
  });
  strip.frames.show(20);
  press("(");
  strip.frames.show(30);
  press(")");
  await turn();
  assert.equal(sent.length, 1);
  first.answer();
  await turn();
  assert.deepEqual(sent, [
    {range: [1020, 1100], base: 3},
    {range: [1020, 1030], base: 4},
  ]);
});

test("a range that isn't taken goes back to what it was, with the reason", async () => {
  begin({range: [1020, 1030]});
  serve((_, body) => (body ? {status: 409, problem: "Somebody else marked it."} : {status: 404}));
  strip.frames.show(25);
  press(")");
  assert.deepEqual(strip.frames.range, [1020, 1025]);
  await turn();
  assert.deepEqual(strip.frames.range, [1020, 1030]);
  assert.deepEqual(notices(), ["Somebody else marked it."]);
});

// Another frame is looked at ----------------------------------------------------------------------

test("another frame is looked at only: what draws rests, and Enter works on it", async () => {
  assert.equal(form.hidden, true);
  press("ArrowRight");
  assert.ok(root.classes.has("rests"));
  assert.equal(form.hidden, false);
  assert.match(page.byId["strip-says"].textContent, /^Looked at only/);
  press("Enter", {target: new Element("button")}); // there it presses
  assert.equal(form.submits, 0);
  press("Enter");
  await turn();
  assert.equal(form.submits, 1);
  assert.deepEqual([form.elements.frame.value, form.elements.base.value], [1011, "3"]);
});

test("the page's own keys come first, and rest while another frame is looked at", () => {
  let stopped = 0;
  const key = name =>
    press(name, {
      stopImmediatePropagation() {
        stopped += 1;
      },
    });
  key("b");
  assert.equal(stopped, 0);
  press("ArrowRight");
  key("b");
  assert.equal(stopped, 1);
  key("g"); // the page keeps it
  key("f");
  assert.equal(stopped, 1);
  begin();
  press("ArrowRight", {defaultPrevented: true}); // a nudge of what is chosen
  assert.equal(frame(), 1010);
});

test("a page that draws nothing stops no key", () => {
  begin({}, {});
  press("ArrowRight");
  let stopped = 0;
  press("b", {
    stopImmediatePropagation() {
      stopped += 1;
    },
  });
  assert.equal(stopped, 0);
  assert.equal(page.byId["strip-says"].textContent, "");
});

test("a press on the plate of another frame draws nothing", () => {
  press("ArrowRight");
  let stopped = 0;
  const stop = {
    stopImmediatePropagation() {
      stopped += 1;
    },
  };
  root.tell("pointerdown", {button: 0, ...stop});
  assert.equal(stopped, 1);
  strip.frames.show(10);
  root.tell("pointerdown", {button: 0, ...stop});
  assert.equal(stopped, 1);
});

test("Space plays when it is let go, but not where it panned, typed or pressed", () => {
  const tap = (target = new Element("body")) => {
    press(" ", {target});
    page.tell("keyup", {key: " ", target});
  };
  tap(new Element("button"));
  tap(new Element("input"));
  assert.equal(strip.frames.playing, false);
  press(" ");
  page.tell("pointerdown"); // held, it pans: the table keeps the press to itself
  root.tell("pointerdown", {button: 0});
  page.tell("keyup", {key: " ", target: new Element("body")});
  assert.equal(strip.frames.playing, false);
  tap();
  assert.equal(strip.frames.playing, true);
  assert.equal(page.byId.play.textContent, "Pause");
  tap();
  assert.equal(page.byId.play.textContent, "Play");
});

test("while it plays, rate and dropped frames are told, and it goes around in the range", async () => {
  begin({range: [1010, 1014]});
  globalThis.createImageBitmap = async () => ({close() {}});
  globalThis.fetch = async () => ({status: 200, blob: async () => ({})});
  click("play");
  await turn();
  picture(0);
  picture(50); // 1.2 frames
  assert.equal(frame(), 1011);
  picture(125); // 4.2
  assert.equal(frame(), 1014);
  picture(42); // 5.2
  assert.equal(frame(), 1010);
  assert.equal(page.byId["strip-says"].textContent, "24 fps, 2 frames dropped");
});

// What is shown -----------------------------------------------------------------------------------

test("real pixels are those of the frame that is shown; a missing one has none", () => {
  const asked = [];
  table.takeTiles = url => asked.push(url);
  strip.paint();
  strip.frames.show(33);
  assert.deepEqual(asked, [null, "/films/f00d/tile/33/0/0.png?way=as-it-is"]);
  strip.frames.show(40);
  assert.ok(root.classes.has("no-pixels"));
  assert.equal(page.byId["strip-says"].textContent, "This picture is missing.");
  assert.equal(form.hidden, true); // nothing to work on
  assert.equal(asked.length, 2);
});

test("thumbnails are asked for once, those of missing pictures never", () => {
  const asked = () => loaded.map(image => image.src).sort();
  const first = asked();
  assert.ok(first.length > 5);
  assert.ok(!first.some(url => /thumbs\/4[01]\./.test(url)));
  strip.paint();
  assert.deepEqual(asked(), first);
});

test("frames before and after show through, and the button says so", () => {
  press("n");
  assert.equal(page.byId.ghosts.getAttribute("aria-pressed"), "true");
  assert.ok(root.classes.has("no-pixels"));
  assert.equal(strip.laid.style.visibility, "visible");
  click("ghosts");
  assert.equal(strip.laid.style.visibility, "hidden"); // the plate itself is seen
});

test("a curve over the frames is told with its largest value", () => {
  globalThis.Path2D = class {
    moveTo() {}
    lineTo() {}
  };
  strip.lay({first: 1, values: [0.1, null, 0.4], says: most => `up to ${most} px`});
  assert.ok(texts().includes("up to 0.4 px"));
  strip.lay(null);
  assert.ok(!texts().includes("up to 0.4 px"));
});

test("while small pictures are made, how far that is, and why it failed", async () => {
  mock.timers.enable({apis: ["setTimeout"]});
  const states = [
    {state: "running", progress: 0.42},
    {state: "failed", says: "The disk is full."},
  ];
  globalThis.fetch = async () => ({json: async () => states.shift()});
  page.byId["strip-data"] = {
    textContent: JSON.stringify({...DATA, progress: "/progress"}),
  };
  strip = startStrip(table, {});
  for (let times = 0; times < 5; times += 1) await Promise.resolve();
  assert.equal(strip.making, "Small pictures: 42 %");
  assert.equal(page.byId["strip-says"].textContent, "Small pictures: 42 %");
  mock.timers.tick(700);
  for (let times = 0; times < 5; times += 1) await Promise.resolve();
  assert.equal(page.byId["strip-says"].textContent, "The disk is full.");
});
