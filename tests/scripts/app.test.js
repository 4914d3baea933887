// What every page has: questions to the server, and undo and redo that wait for what is under way.

import assert from "node:assert/strict";
import {beforeEach, mock, test} from "node:test";

import {Element, later, page, serve, turn} from "./page.js";

const {edit, notice, post, settled} = await import("../../web/ui/static/ui/app.js");

let asked, reloads;

beforeEach(() => {
  asked = [];
  reloads = 0;
  globalThis.location.reload = () => {
    reloads += 1;
  };
  page.body.children = [];
  page.byId = {revision: new Element("b", {textContent: "7"})};
  const dataset = {undo: "/undo", redo: "/redo", restore: "/restore/0"};
  page.found[".frame"] = new Element("div", {dataset});
  sessionStorage.removeItem("says");
  serve((url, body) => {
    const waiting = later();
    asked.push({url, body, ...waiting});
    return waiting.promise;
  });
});

const key = (name, more) =>
  page.tell("keydown", {key: name, target: new Element(), ctrlKey: true, ...more});

test("an answer comes as it is, a refusal as its sentence", async () => {
  const one = post("/x", {a: 1});
  await turn();
  assert.equal(page.body.attributes["aria-busy"], "true");
  asked[0].answer({figures: 3});
  assert.deepEqual(await one, {figures: 3});
  assert.equal(page.body.attributes["aria-busy"], undefined);
  const two = post("/x", {});
  await turn();
  asked[1].answer({status: 409, problem: "No.", newest: 9, kept: 8});
  await assert.rejects(two, {message: "No.", newest: 9, kept: 8});
});

test("what isn't JSON, and no answer at all, are told in a sentence", async () => {
  globalThis.fetch = async () => ({
    ok: false,
    json: async () => JSON.parse("<html>"),
  });
  await assert.rejects(post("/x", {}), {message: "The server could not do that."});
  globalThis.fetch = async () => {
    throw new TypeError("network");
  };
  await assert.rejects(post("/x", {}), /does not answer\. What you drew is still here/);
});

test("undo waits for edits under way, also for those that begin meanwhile", async () => {
  const [first, second] = [later(), later()];
  edit(first.promise);
  page.addEventListener("flush", () => {}); // a page that held nothing back
  key("z");
  edit(second.promise);
  first.answer();
  await turn();
  assert.deepEqual(asked, []);
  second.fail(new Error("refused")); // it has ended all the same
  await turn();
  assert.deepEqual(
    asked.map(({url, body}) => [url, body.base]),
    [["/undo", 7]],
  );
  asked[0].answer({says: "Took it back", revision: 6});
  await turn();
  assert.equal(reloads, 1);
  assert.equal(sessionStorage.getItem("says"), "Took it back");
});

test("several undos and redos in a row each go from where the last one led", async () => {
  key("z");
  key("z");
  key("Z", {shiftKey: true});
  await turn();
  asked[0].answer({says: "", revision: 6});
  await turn();
  asked[1].answer({says: "", revision: 5});
  await turn();
  asked[2].answer({says: "", revision: 6});
  await turn();
  assert.deepEqual(
    asked.map(({url, body}) => [url, body.base]),
    [
      ["/undo", 7],
      ["/undo", 6],
      ["/redo", 5],
    ],
  );
  assert.equal(reloads, 1);
});

test("an undo that is refused says so, and nothing is loaded", async () => {
  key("z");
  await turn();
  asked[0].answer({status: 409, problem: "Somebody else did this."});
  await turn();
  assert.equal(reloads, 0);
  assert.equal(page.body.children[0].children[0].textContent, "Somebody else did this.");
  key("z"); // and the next one is asked again
  await turn();
  assert.equal(asked.length, 2);
  asked[1].answer({says: "", revision: 6});
  await turn();
});

test("where the first of two is done and the second refused, what was done is shown", async () => {
  key("z");
  key("z");
  await turn();
  asked[0].answer({says: "", revision: 6});
  await turn();
  asked[1].answer({status: 422, problem: "There is nothing to undo."});
  await turn();
  assert.equal(reloads, 1);
  assert.equal(sessionStorage.getItem("says"), "There is nothing to undo.");
});

test("keys that are typed into a field are the field's", async () => {
  const field = new Element("input");
  field.found["input:not([type=range]), textarea, select, dialog[open]"] = field;
  key("z", {target: field});
  await turn();
  assert.deepEqual(asked, []);
});

test("a refused version can be taken instead of the newer one", async () => {
  notice("Somebody was first.", "bad", {kept: 4, newest: 9});
  const [, , mine] = page.body.children[0].children;
  mine.tell("click");
  await turn();
  assert.deepEqual([asked[0].url, asked[0].body], ["/restore/4", {base: 9}]);
  asked[0].answer({});
  await turn();
  assert.equal(reloads, 1);
});

test("all is settled at once where nothing is under way", async () => {
  await settled();
  assert.deepEqual(asked, []);
});

// What htmx fetches -------------------------------------------------------------------------------

const swap = (status, type, responseText) => {
  const detail = {
    shouldSwap: status < 400,
    isError: status >= 400,
    xhr: {status, responseText, getResponseHeader: () => type},
  };
  page.tell("htmx:beforeSwap", {detail});
  return [detail.shouldSwap, detail.isError];
};
const said = () => page.body.children.map(box => box.children[0].textContent);

test("a form with its sentences is shown in its place, anything else refused is told", () => {
  assert.deepEqual(swap(200, "text/html", "<p>"), [true, false]);
  assert.deepEqual(swap(422, "text/html; charset=utf-8", "<form>"), [true, false]);
  assert.deepEqual(said(), []);
  assert.deepEqual(swap(422, "application/json", '{"problem": "A length is above 0."}'), [
    false,
    true,
  ]);
  assert.deepEqual(swap(500, "text/html", "<h1>Server Error</h1>"), [false, true]);
  assert.deepEqual(said(), ["A length is above 0.", "The server could not do that."]);
});

test("what is refused by htmx because the shot has moved on offers both versions", () => {
  const answer = JSON.stringify({problem: "Somebody was first.", newest: 9, kept: 8});
  swap(409, "application/json", answer);
  const buttons = page.body.children[0].children.slice(1).map(button => button.textContent);
  assert.deepEqual(buttons, ["Show the newer", "Take mine instead"]);
});

test("undo waits for what htmx has sent until it has been swapped in", async () => {
  const xhr = new Element();
  page.tell("htmx:beforeRequest", {detail: {xhr}});
  key("z");
  await turn();
  assert.deepEqual(asked, []);
  assert.equal(page.body.attributes["aria-busy"], "true");
  xhr.tell("loadend");
  await turn();
  await turn();
  assert.deepEqual(
    asked.map(({url}) => url),
    ["/undo"],
  );
  asked[0].answer({says: "", revision: 6});
  await turn();
});

test("a server that can't be reached is told", () => {
  page.tell("htmx:sendError");
  assert.match(said()[0], /does not answer/);
});

// Keys and buttons of every page ------------------------------------------------------------------

test("undo and the sheet of keys have buttons, and Delete presses the page's own", async () => {
  let shown = 0,
    removed = 0;
  page.byId.keys = {showModal: () => (shown += 1)};
  const press = found => page.tell("click", {target: new Element("i", {found})});
  press({"[data-keys]": new Element()});
  page.tell("keydown", {key: "?", target: new Element()});
  assert.equal(shown, 2);
  page.found["[data-delete]"] = {click: () => (removed += 1)};
  page.tell("keydown", {key: "Delete", target: new Element()});
  assert.equal(removed, 1);
  press({"[data-history]": new Element("button", {dataset: {history: "redo"}})});
  await turn();
  assert.equal(asked[0].url, "/redo");
  asked[0].answer({says: "", revision: 8});
  await turn();
});

test("Ctrl + Y is redo, as Ctrl + Shift + Z; a page without a shot undoes nothing", async () => {
  key("y");
  await turn();
  assert.equal(asked[0].url, "/redo");
  asked[0].answer({says: "", revision: 8});
  await turn();
  delete page.found[".frame"];
  key("z");
  await turn();
  assert.equal(asked.length, 1);
});

test("a page that the browser has kept is loaded anew when one comes back to it", () => {
  window.tell("pageshow", {persisted: false});
  assert.equal(reloads, 0);
  window.tell("pageshow", {persisted: true});
  assert.equal(reloads, 1);
});

test("what the last page had to say is said once, and put away by itself", async () => {
  mock.timers.enable({apis: ["setTimeout"]});
  sessionStorage.setItem("says", "Took back: mark e1");
  let gone = 0;
  page.found[".notice.good"] = {remove: () => (gone += 1)};
  await import("../../web/ui/static/ui/app.js?again");
  assert.deepEqual(said(), ["Took back: mark e1"]);
  assert.equal(sessionStorage.getItem("says"), null);
  mock.timers.tick(3000);
  assert.equal(gone, 1);
  mock.timers.reset();
});
