// What many pages share: edits in order, questions of which only the newest counts, layers of a
// render, work that is followed.

import assert from "node:assert/strict";
import {beforeEach, mock, test} from "node:test";

import {layTable} from "./laid.js";
import {Element, fresh, later, page, serve, turn} from "./page.js";

const {settled, watchJob} = await import("../../web/ui/static/ui/app.js");
const {newestOnly} = await import("../../web/ui/static/ui/draw.js");
const {save} = await import("../../web/ui/static/ui/saving.js");
const {LightTable} = await import("../../web/ui/static/ui/table.js");
const {Layer} = await import("../../web/plates/static/plates/layer.js");

let undo, bases;

beforeEach(() => {
  mock.timers.reset();
  fresh();
  undo = page.found["#history [data-history=undo]"] = new Element("button", {disabled: true});
  bases = page.found["input[name=base]"] = [new Element("input"), new Element("input")];
  page.byId.revision = Object.assign(new Element(), {textContent: "41"});
});

// Edits -------------------------------------------------------------------------------------------

test("each edit begins from the revision of the last one, and asks for its body then", async () => {
  const first = later();
  const sent = [];
  serve(async (url, body) => {
    sent.push([url, body]);
    if (sent.length === 1) await first.promise;
    return {revision: body.base + 1, undo_label: `number ${sent.length}`};
  });
  let value = 1;
  const all = [save("/a", () => ({value})), save("/b", () => ({value}))];
  await turn();
  value = 2;
  first.answer();
  await Promise.all(all);
  assert.deepEqual(sent, [
    ["/a", {value: 1, base: 41}],
    ["/b", {value: 2, base: 42}],
  ]);
  assert.equal(page.byId.revision.textContent, 43);
  assert.deepEqual(
    bases.map(input => input.value),
    [43, 43],
  );
  assert.deepEqual([undo.disabled, undo.title], [false, "Undo: number 2 (Ctrl+Z)"]);
});

test("one that is refused is told to who asked, and those behind it go on", async () => {
  serve((url, body) =>
    url === "/bad"
      ? {status: 409, problem: "Somebody was first.", newest: 50}
      : {revision: body.base + 1, undo_label: ""},
  );
  const refused = save("/bad", () => ({}));
  const good = save("/good", () => ({}));
  await assert.rejects(refused, error => error.newest === 50 && /first/.test(error.message));
  assert.equal((await good).revision, 42);
});

test("undo waits until all of them are saved", async () => {
  const answer = later();
  serve(async (_, body) => {
    await answer.promise;
    return {revision: body.base + 1, undo_label: ""};
  });
  save("/a", () => ({}));
  let done = false;
  settled().then(() => {
    done = true;
  });
  await turn();
  assert.equal(done, false);
  answer.answer();
  await turn();
  await turn();
  assert.equal(done, true);
});

// Questions ---------------------------------------------------------------------------------------

test("of many values only the first and the newest are sent, one at a time", async () => {
  const sent = [];
  const answers = [later(), later()];
  const push = newestOnly(async value => {
    sent.push(value);
    await answers[sent.length - 1]?.promise;
  });
  for (const value of [1, 2, 3, 4]) push(value);
  assert.deepEqual([sent, push.waits(), push.idle()], [[1], true, false]);
  answers[0].answer();
  await turn();
  assert.deepEqual([sent, push.waits()], [[1, 4], false]);
  answers[1].answer();
  await turn();
  assert.ok(push.idle());
});

test("what waits can be dropped, and a failure holds up nothing", async () => {
  const sent = [];
  const first = later();
  const push = newestOnly(async value => {
    sent.push(value);
    if (value === 1) await first.promise;
    throw new Error("no");
  });
  push(1);
  push(2);
  push.clear();
  first.answer();
  await turn();
  push(3);
  await turn();
  assert.deepEqual(sent, [1, 3]);
});

// Layers ------------------------------------------------------------------------------------------

/** A layer over frames 1 to 4, whose pictures come when the test says so. */
function layered() {
  const asked = {};
  globalThis.fetch = url => {
    asked[url] = later();
    return asked[url].promise;
  };
  globalThis.createImageBitmap = async blob => ({...blob, close() {}});
  const {root} = layTable();
  root.found.svg = new Element("svg");
  const drawn = [];
  const layer = new Layer(new LightTable(root), frame => `/${frame}.png`, [1, 2, 3, 4]);
  layer.element.getContext = () => ({
    clearRect: () => drawn.push("cleared"),
    drawImage: picture => drawn.push(picture.number),
  });
  const come = async number => {
    const picture = {number, width: 64, height: 36};
    asked[`/${number}.png`].answer({status: 200, blob: async () => picture});
    await turn();
  };
  return {layer, asked, drawn, come};
}

test("a layer shows the frame that is wanted, however late others come", async () => {
  const {layer, drawn, come} = layered();
  layer.show(1);
  layer.show(2);
  await come(1);
  assert.ok(!drawn.includes(1));
  await come(2);
  assert.deepEqual(drawn.slice(-2), ["cleared", 2]);
  assert.deepEqual([layer.element.width, layer.element.height], [64, 36]);
});

test("a frame that isn't there is shown as nothing, and isn't asked for", async () => {
  const {layer, asked, drawn, come} = layered();
  layer.show(1, [2, 9]);
  await come(1);
  layer.show(9);
  assert.equal(drawn.at(-1), "cleared");
  assert.deepEqual(Object.keys(asked), ["/1.png", "/2.png"]);
});

test("pictures that are at other places from now on are fetched anew", async () => {
  const {layer, asked, drawn, come} = layered();
  layer.show(3);
  await come(3);
  const first = asked["/3.png"];
  layer.renew(3);
  assert.notEqual(asked["/3.png"], first);
  await come(3);
  assert.equal(drawn.filter(what => what === 3).length, 2);
});

// Work --------------------------------------------------------------------------------------------

test("work is followed to its end, also past a server that is started anew", async () => {
  mock.timers.enable({apis: ["setTimeout"]});
  const job = new Element("div", {dataset: {progress: "/progress", doing: "Following"}});
  const [bar, says, title] = [new Element("progress"), new Element(), new Element()];
  job.found = {progress: bar, "#job-says": says, b: title};
  const answers = [
    {state: "waiting", progress: 0, says: "Waiting for a worker"},
    {state: "running", progress: 0.4, says: "Frame 4 of 10"},
    new Error("gone"),
    {state: "done", progress: 1, says: "Done"},
  ];
  let asked = 0;
  globalThis.fetch = async () => {
    asked += 1;
    const answer = answers.shift();
    if (answer instanceof Error) throw answer;
    return {json: async () => answer};
  };
  let ended = 0;
  watchJob(job, () => {
    ended += 1;
  });
  const pass = async milliseconds => {
    mock.timers.tick(milliseconds);
    for (let times = 0; times < 6; times += 1) await Promise.resolve();
  };
  await pass(300);
  assert.deepEqual(
    [bar.value, says.textContent, title.textContent],
    [0, "Waiting for a worker", ""],
  );
  await pass(400);
  assert.deepEqual([bar.value, title.textContent], [0.4, "Following"]);
  await pass(400); // it doesn't answer
  assert.deepEqual([asked, ended], [3, 0]);
  await pass(3000);
  assert.deepEqual([asked, ended, bar.value], [4, 1, 1]);
  await pass(10_000);
  assert.equal(asked, 4);
});
