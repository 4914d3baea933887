// What every page has: questions to the server, and undo and redo that wait for what is under way.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

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
