// What the Match page asks the server, in which order, and what happens when it refuses.

import assert from "node:assert/strict";
import {afterEach, beforeEach, test} from "node:test";

import {Element, later, page, serve, turn} from "./page.js";

const {Asking} = await import("../../web/match/static/match/asking.js");
const {Shown} = await import("../../web/match/static/match/shown.js");
const {settled} = await import("../../web/ui/static/ui/app.js");
const {newestOnly} = await import("../../web/ui/static/ui/draw.js");

const spot = (id, at) => ({id, kind: "spot", at});
const answer = (revision, marks, more = {}) => ({
  marks,
  revision,
  facts: [],
  overlay: {},
  residuals: {},
  locked: false,
  survey: [],
  report: `<p>${revision}</p>`,
  ...more,
});

let asking, shown, pen, asked, reports;

/** Each question waits for `asked[n].answer(...)`. */
function hold() {
  asked = [];
  serve((url, body) => {
    const waiting = later();
    asked.push({url, body, ...waiting});
    return waiting.promise;
  });
}

beforeEach(() => {
  page.byId = {revision: new Element("b", {textContent: "1"})};
  page.found[".notice"] = null;
  page.body.children = [];
  reports = [];
  globalThis.window.htmx = {swap: (_, html) => reports.push(html), ajax() {}};
  const sheet = new Element("div", {
    dataset: {save: "/save", state: "/state", preview: "/preview", mark: "/mark/ID", floor: "/f"},
  });
  shown = new Shown(answer(1, [spot("s1", [1, 1])]));
  pen = {drag: null, line: null};
  const view = {paint() {}, redraw() {}};
  const leaves = {settle() {}};
  const aids = {wish: {grid: true}, straight: false};
  const root = new Element();
  asking = new Asking({sheet, root, shown, aids, leaves, view, pen});
  hold();
});

afterEach(async () => {
  // Nothing stays on its way into the next test.
  serve(() => answer(9, []));
  for (const one of asked) one.answer(answer(9, []));
  await settled();
});

const said = () => page.body.children.map(box => box.children[0].textContent);

test("edits go one after another, each on what the last one made", async () => {
  asking.ask("/one", () => ({number: 1}));
  asking.ask("/two", () => ({number: 2}));
  await turn();
  assert.deepEqual(
    asked.map(({url, body}) => [url, body.base, body.aids]),
    [["/one", 1, {grid: true}]],
  );
  asked[0].answer(answer(2, shown.marks));
  await turn();
  assert.deepEqual([asked[1].url, asked[1].body.base], ["/two", 2]);
  asked[1].answer(answer(3, shown.marks));
  await settled();
  assert.equal(shown.revision, 3);
  assert.deepEqual(reports, ["<p>2</p>", "<p>3</p>"]);
});

test("marks are saved as they were when they were let go", async () => {
  asking.save("Moved s1");
  shown.marks[0].at = [50, 50]; // dragged on, before the question has gone out
  await turn();
  assert.deepEqual(asked[0].body.marks, [spot("s1", [1, 1])]);
  assert.equal(asked[0].body.later, true);
});

test("figures are fetched once for what was saved last, and are not older than it", async () => {
  asking.save("one");
  await turn();
  asked[0].answer({later: true, revision: 2});
  await turn();
  assert.equal(page.byId.revision.textContent, 2);
  assert.equal(asked[1].url, "/state");
  asking.save("two"); // while the figures of the first are on their way
  await turn();
  asked[2].answer({later: true, revision: 3});
  await turn();
  asked[1].answer(answer(2, shown.marks));
  await turn();
  assert.deepEqual(reports, []); // they are of what is there no more
  assert.equal(asked[3].url, "/state");
  asked[3].answer(answer(3, shown.marks));
  await settled();
  await turn();
  assert.deepEqual(reports, ["<p>3</p>"]);
});

test("what is drawn while the figures come stays on the plate", async () => {
  asking.save("one");
  await turn();
  asked[0].answer({later: true, revision: 2});
  await turn();
  shown.marks.push(spot("s2", [9, 9]));
  pen.drag = {id: "s2"};
  asked[1].answer(answer(2, [spot("s1", [1, 1])]));
  await turn();
  assert.deepEqual(
    shown.marks.map(mark => mark.id),
    ["s1", "s2"],
  );
});

test("an edit that makes marks of its own holds the pen until it is answered", async () => {
  asking.ask("/propose", () => ({}));
  assert.equal(asking.held(), true);
  assert.deepEqual(said(), ["One moment: the last step is still under way."]);
  assert.ok(asking.root.classes.has("waiting"));
  await turn();
  asked[0].answer(answer(2, [spot("s1", [3, 3])]));
  await settled();
  assert.equal(asking.held(), false);
  assert.deepEqual(shown.marks, [spot("s1", [3, 3])]);
});

test("a refused edit says why, and the page shows again what is saved", async () => {
  asking.save("one");
  await turn();
  asked[0].answer({status: 422, problem: "That mark has no length."});
  await turn();
  assert.deepEqual(said(), ["That mark has no length."]);
  assert.equal(asked[1].url, "/state");
  asked[1].answer(answer(1, [spot("s1", [1, 1])]));
  await settled();
  assert.equal(asking.pending, 0);
});

test("a stale save keeps what was drawn, and offers both versions", async () => {
  shown.marks[0].at = [50, 50];
  asking.save("one");
  await turn();
  asked[0].answer({status: 409, problem: "Somebody was first.", newest: 5, kept: 4});
  await settled();
  assert.equal(asked.length, 1); // nothing is fetched over it
  assert.deepEqual(shown.marks[0].at, [50, 50]);
  const [says, ...buttons] = page.body.children[0].children;
  assert.equal(says.textContent, "Somebody was first.");
  assert.deepEqual(
    buttons.map(button => button.textContent),
    ["Show the newer", "Take mine instead"],
  );
});

test("after one that failed the next is asked all the same", async () => {
  asking.save("one");
  asking.save("two");
  await turn();
  asked[0].fail(new TypeError("no network"));
  await turn();
  assert.match(said()[0], /^The server does not answer\. What you drew is still here/);
  asked[1].answer(answer(1, shown.marks)); // the refresh
  await turn();
  assert.equal(asked[2].body.label, "two");
});

test("a preview that comes after the drag has ended changes nothing", async () => {
  pen.drag = {id: "s1"};
  asking.preview(shown.marks);
  await turn();
  pen.drag = null;
  asked[0].answer({overlay: {paths: ["late"]}, residuals: {}, figures: ""});
  await turn();
  assert.deepEqual(shown.overlay, {});
});

test("a drag asks for the newest only, one at a time, and survives a failure", async () => {
  const sent = [],
    waiting = [];
  const push = newestOnly(value => {
    sent.push(value);
    const one = later();
    waiting.push(one);
    return one.promise;
  });
  for (const value of [1, 2, 3, 4]) push(value);
  assert.deepEqual(sent, [1]);
  waiting[0].fail(new Error("busy"));
  await turn();
  assert.deepEqual(sent, [1, 4]);
  push(5);
  push.clear(); // let go: nothing more is asked for
  waiting[1].answer();
  await turn();
  assert.deepEqual(sent, [1, 4]);
  push(6);
  assert.deepEqual(sent, [1, 4, 6]);
});

// What aids and notes ask for meanwhile -----------------------------------------------------------

test("a mark drawn while the aids are fetched stays, and so does what it was saved on", async () => {
  asking.refresh(); // an aid was switched on
  await turn();
  shown.marks.push(spot("s2", [5, 5]));
  asking.save("A spot");
  await turn();
  const [aids, save] = asked;
  assert.deepEqual([aids.url, save.url], ["/state", "/save"]);
  save.answer({later: true, revision: 2});
  await turn();
  aids.answer(answer(1, [spot("s1", [1, 1])])); // as it was before the save
  await turn();
  assert.deepEqual(
    shown.marks.map(mark => mark.id),
    ["s1", "s2"],
  );
  assert.equal(shown.revision, 2);
});

test("what is under the pointer when the aids come stays there", async () => {
  asking.refresh();
  await turn();
  pen.drag = {};
  shown.marks[0].at = [7, 7];
  asked[0].answer(answer(1, [spot("s1", [1, 1])], {overlay: {says: "new"}}));
  await turn();
  assert.deepEqual(shown.marks[0].at, [7, 7]);
  assert.equal(shown.overlay.says, "new");
});

test("of aids switched quickly the last ones are drawn, whichever come first", async () => {
  asking.refresh();
  asking.refresh();
  await turn();
  asked[1].answer(answer(1, [], {overlay: {says: "both"}}));
  await turn();
  asked[0].answer(answer(1, [], {overlay: {says: "one"}}));
  await turn();
  assert.equal(shown.overlay.says, "both");
});

test("what was refused goes, also where an aid is switched just then", async () => {
  shown.marks.push(spot("s2", [5, 5]));
  asking.ask("/save", () => ({}), true);
  await turn();
  asked[0].answer({status: 422, problem: "No."});
  await turn();
  asking.refresh(); // while what is saved is fetched again
  await turn();
  const [, again, aids] = asked;
  aids.answer(answer(1, [spot("s1", [1, 1])]));
  again.answer(answer(1, [spot("s1", [1, 1])]));
  await turn();
  await turn();
  assert.deepEqual(
    shown.marks.map(mark => mark.id),
    ["s1"],
  );
});

test("somebody else's undo is shown although its number is a smaller one", async () => {
  shown.revision = 5;
  asking.refresh();
  await turn();
  asked[0].answer(answer(4, []));
  await turn();
  assert.deepEqual([shown.revision, shown.marks], [4, []]);
});

test("everything is fetched anew after what is on its way; a failure is told", async () => {
  asking.ask("/one", () => ({}));
  asking.renew();
  await turn();
  assert.equal(asked.length, 1);
  asked[0].answer(answer(2, []));
  await turn();
  asked[1].answer(new TypeError("network"));
  await turn();
  await turn();
  assert.match(said().at(-1), /does not answer/);
  asking.refresh();
  await turn();
  asked[2].answer({status: 422, problem: "There is no plate."});
  await turn();
  await turn();
  assert.equal(said().at(-1), "There is no plate.");
});

test("the form of the mark that was chosen last is fetched, of several none", () => {
  const wanted = [];
  globalThis.window.htmx.ajax = (_, url) => wanted.push(url);
  const place = new Element();
  page.byId.mark = place;
  shown.chosen = new Set(["s1"]);
  asking.showMark();
  shown.chosen = new Set(["s1", "s9"]);
  asking.showMark();
  shown.chosen = new Set(["s9"]); // not saved yet
  asking.showMark();
  assert.deepEqual(wanted, ["/mark/s1"]);
});

test("a place on the floor is asked for; a server that is gone is told, not passed over", async () => {
  const found = asking.onFloor([3, 4]);
  await turn();
  assert.equal(asked[0].url, "/f?x=3&y=4");
  asked[0].answer({at: [1, 0, 2]});
  assert.deepEqual((await found).at, [1, 0, 2]);
  const lost = asking.onFloor([3, 4]);
  await turn();
  asked[1].answer(new TypeError("network"));
  assert.match((await lost).problem, /does not answer/);
});

test("a preview is drawn while the drag lasts, with its figures", async () => {
  pen.drag = {};
  page.byId.figures = new Element();
  let told = 0;
  globalThis.window.addEventListener("previewed", () => {
    told += 1;
  });
  asking.preview([spot("s1", [2, 2])]);
  await turn();
  asked[0].answer({overlay: {says: "moved"}, residuals: {s1: 0.2}, figures: "<b>28 mm</b>"});
  await turn();
  assert.deepEqual([shown.overlay.says, shown.residuals.s1], ["moved", 0.2]);
  assert.equal(page.byId.figures.outerHTML, "<b>28 mm</b>");
  assert.equal(told, 1);
});
