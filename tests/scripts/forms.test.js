// A form that the server refuses: the sentence is shown over it, and all that was typed stays.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {Element, fresh, notices, page, turn} from "./page.js";

let form, sent, answer;

globalThis.FormData = class {
  constructor(form, button) {
    Object.assign(this, {form, button});
  }
};

beforeEach(async () => {
  fresh();
  sent = [];
  Object.assign(location, {href: "http://localhost/shot?leaf=1", search: "?leaf=1"});
  Object.assign(location, {
    reloads: 0,
    hash: "",
    gone: [],
    assign: to => location.gone.push(`${to}`),
  });
  globalThis.fetch = async (url, {body, headers}) => {
    sent.push([url, body.button, headers]);
    return answer();
  };
  form = new Element("form", {submits: 0, submit: () => (form.submits += 1)});
  form.matches = what => what === "[data-stays]";
  form.setAttribute("action", "/take");
  await import(`../../web/ui/static/ui/forms.js?${Math.random()}`);
});

const says = (told, status = 200) => {
  answer = async () => ({status, json: async () => told});
};
async function submit(more = {}) {
  let native = true;
  page.tell("submit", {target: form, preventDefault: () => (native = false), ...more});
  for (let times = 0; times < 4; times += 1) await turn();
  return native;
}

test("what is refused is said, and the page stays", async () => {
  says({problem: "Line 2 has 3 entries."}, 422);
  assert.equal(await submit(), false);
  assert.deepEqual(sent, [["/take", undefined, {"X-Form": "1"}]]);
  assert.deepEqual([notices(), location.gone], [["Line 2 has 3 entries."], []]);
});

test("the button that was pressed says where to, and is sent along", async () => {
  says({to: "/next"});
  const button = new Element("button");
  button.setAttribute("formaction", "/keep");
  await submit({submitter: button});
  assert.deepEqual(
    sent.map(([url, by]) => [url, by]),
    [["/keep", button]],
  );
  assert.deepEqual(location.gone, ["http://localhost/next"]);
});

test("an address that is this one, or a place in it, is loaded anew", async () => {
  says({to: "/shot?leaf=1#tracks"});
  await submit();
  assert.deepEqual([location.gone, location.hash, location.reloads], [[], "#tracks", 1]);
  // One that fetch itself was led to isn't asked for twice.
  answer = async () => ({status: 200, redirected: true, url: "http://localhost/in"});
  await submit();
  assert.deepEqual([location.gone, form.submits], [["http://localhost/in"], 0]);
});

test("long work that was begun is shown by a page that can; until then it counts as an edit", async () => {
  says({to: "/shot?leaf=1"});
  form.matches = what => ["[data-stays]", "[data-begins]"].includes(what);
  let told = 0,
    shown;
  form.dispatchEvent = ({type, detail, bubbles}) => {
    told += type === "begun" && bubbles;
    if (told === 1) detail.taken = new Promise(done => (shown = done));
  };
  await submit();
  assert.deepEqual([told, location.reloads, location.gone], [1, 0, []]);
  await submit(); // it is sent once
  assert.equal(sent.length, 1);
  shown();
  await turn();
  await submit(); // and nobody takes it now
  assert.deepEqual([told, location.reloads], [2, 1]);
});

test("it is sent once, however often it is pressed", async () => {
  let done;
  answer = () => new Promise(resolve => (done = resolve));
  await submit();
  await submit();
  assert.equal(sent.length, 1);
  done({status: 422, json: async () => ({problem: "No."})});
  for (let times = 0; times < 4; times += 1) await turn();
  says({problem: "No."}, 422);
  await submit();
  assert.equal(sent.length, 2);
});

test("a page as the answer is what a form leads to; no answer at all is told", async () => {
  answer = async () => ({status: 422, json: async () => JSON.parse("<html>")});
  await submit();
  assert.equal(form.submits, 1);
  answer = async () => {
    throw new Error("offline");
  };
  await submit();
  assert.deepEqual(notices(), ["The server does not answer. Nothing was changed."]);
  says(null, 500);
  await submit();
  assert.deepEqual(notices().at(-1), "The server could not do that.");
  assert.equal(form.submits, 1);
});

test("other forms, and those that a script has taken, are the browser's", async () => {
  form.matches = () => false;
  assert.equal(await submit(), true);
  form.matches = () => true;
  assert.equal(await submit({defaultPrevented: true}), true);
  assert.deepEqual(sent, []);
});
