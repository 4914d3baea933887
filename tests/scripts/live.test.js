// What others do while a page is open: it is taken, renewed, offered or loaded anew, and nothing
// that is typed or dragged is lost by it.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {Element, fresh, later, notices, page, turn} from "./page.js";

const {edit, watchJob} = await import("../../web/ui/static/ui/app.js");

let sources, loaded, served;

globalThis.CustomEvent = class {
  constructor(type, {detail}) {
    Object.assign(this, {type, detail});
  }
};

/** A page of revision 5; `drawn`: a script draws its table. */
async function open({drawn = false, table = "<p>Facts</p>", data = "{}"} = {}) {
  fresh();
  sources = [];
  globalThis.EventSource = class extends Element {
    constructor(url) {
      super();
      this.url = url;
      sources.push(this);
    }

    close() {
      this.closed = true;
    }
  };
  page.hidden = false;
  page.found[".frame[data-events]"] = new Element("div", {
    dataset: {events: "/events", step: "Match"},
  });
  page.found["#table :is(canvas, #light-table)"] = drawn ? new Element("canvas") : null;
  page.byId.table = new Element("div", {innerHTML: table});
  page.byId["page-data"] = {textContent: data};
  page.byId.revision = Object.assign(new Element(), {textContent: "5"});
  page.byId.here = new Element();
  for (const place of [".head", "#steps", "#report", "#table"])
    page.found[place] = Object.assign(new Element(), {place});
  page.activeElement = page.body;
  const morphed = [];
  window.Idiomorph = {morph: old => morphed.push(old.place)};
  location.reloads = 0;
  location.href = "/LT010/match";
  sessionStorage.removeItem("says");
  served = {table, data, revision: "6", morphed, ok: true};
  globalThis.fetch = async () => ({ok: served.ok, text: async () => ""});
  globalThis.DOMParser = class {
    parseFromString() {
      const other = new Element();
      const byId = {
        table: {innerHTML: served.table},
        "page-data": {textContent: served.data},
        revision: {textContent: served.revision},
      };
      other.getElementById = id => byId[id];
      other.querySelector = place => Object.assign(new Element(), {place});
      return other;
    }
  };
  loaded = (loaded || 0) + 1;
  await import(`../../web/ui/static/ui/live.js?${loaded}`);
}

const tell = async (name, data) => {
  sources.at(-1).tell(name, {data: JSON.stringify(data)});
  for (let times = 0; times < 4; times += 1) await turn();
};
const edited = (more = {}) =>
  tell("moved", {number: 6, by: "Ruth", label: "Moved e1", parts: ["marks"], ...more});

beforeEach(() => open());

test("one's own edits that come back change nothing", async () => {
  await edited({number: 5});
  assert.deepEqual([notices(), served.morphed, location.reloads], [[], [], 0]);
});

test("a page that shows it by itself takes it, once it has", async () => {
  const taken = later();
  let offered = null;
  page.addEventListener("elsewhere", ({detail}) => {
    offered = {...detail};
    detail.taken = taken.promise;
  });
  await edited();
  assert.deepEqual([offered.number, offered.parts, offered.idle], [6, ["marks"], true]);
  assert.deepEqual(notices(), []);
  taken.answer();
  await turn();
  assert.deepEqual(notices(), ["Ruth: Moved e1"]);
  assert.deepEqual(served.morphed, []);
});

test("an idle page is renewed in place, its table too where no script draws on it", async () => {
  await edited({by: ""});
  assert.deepEqual(served.morphed, [".head", "#steps", "#report", "#table"]);
  assert.deepEqual([notices(), location.reloads], [["Another window: Moved e1"], 0]);
});

test("a drawn table that is another one is loaded anew, its sentence kept for then", async () => {
  await open({drawn: true});
  served.table = "<p>Other facts</p>";
  await edited();
  assert.deepEqual([location.reloads, sessionStorage.getItem("says")], [1, "Ruth: Moved e1"]);
  await open({drawn: true, data: '{"revision": 5, "marks": []}'});
  served.data = '{"revision": 6, "marks": []}';
  await edited();
  assert.equal(location.reloads, 0); // only the number differs
  assert.deepEqual(served.morphed, [".head", "#steps", "#report"]);
  served.data = '{"revision": 7, "marks": [1]}';
  await edited({number: 7});
  assert.equal(location.reloads, 1);
});

test("tokens, revisions and dates of a table are no difference", async () => {
  const table = (token, revision, at) =>
    `<input type="hidden" name="csrfmiddlewaretoken" value="${token}"><i>revision ${revision}</i> ${at}`;
  await open({drawn: true, table: table("a", 5, "2026-11-28 10:00")});
  served.table = table("b", 6, "2026-11-28 10:07");
  await edited();
  assert.equal(location.reloads, 0);
});

test("what is typed isn't lost: the newer one is offered", async () => {
  page.activeElement = new Element("input", {value: "2.5 m", defaultValue: ""});
  await edited();
  assert.deepEqual(notices(), ["Ruth: Moved e1"]);
  const [, show] = page.body.children[0].children;
  assert.equal(show.textContent, "Show the newer");
  assert.deepEqual([served.morphed, location.reloads], [[], 0]);
  show.tell("click");
  assert.equal(location.reloads, 1);
});

test("nor what is dragged, which isn't even offered it", async () => {
  let offers = 0;
  page.addEventListener("elsewhere", () => {
    offers += 1;
  });
  page.tell("pointerdown");
  await edited();
  assert.deepEqual([offers, served.morphed, notices()], [0, [], ["Ruth: Moved e1"]]);
  page.tell("pointerup");
  await edited({number: 7});
  assert.equal(offers, 1);
});

test("one's own edit under way is waited for", async () => {
  const own = later();
  edit(own.promise);
  await edited();
  assert.deepEqual(served.morphed, []);
  page.byId.revision.textContent = "6"; // it was this very edit
  own.answer();
  await turn();
  await turn();
  assert.deepEqual([notices(), served.morphed], [[], []]);
});

test("one that comes back while the next one is under way is nobody else's", async () => {
  const first = later(),
    second = later();
  edit(first.promise);
  edit(second.promise);
  await edited();
  page.byId.revision.textContent = "6";
  first.answer();
  await turn();
  page.byId.revision.textContent = "7";
  second.answer();
  await turn();
  await turn();
  assert.deepEqual([notices(), served.morphed], [[], []]);
});

test("what long work made that the page follows is the page's own", async () => {
  const job = new Element("div", {dataset: {progress: "/progress"}});
  for (const place of ["progress", "#job-says", "b"]) job.found[place] = new Element();
  const answer = later(),
    {setTimeout: wait} = globalThis;
  let ask;
  globalThis.setTimeout = asked => (ask = asked);
  watchJob(job, () => (page.byId.revision.textContent = "6"));
  globalThis.setTimeout = wait;
  await edited(); // told before the work says that it ended
  assert.deepEqual([notices(), served.morphed], [[], []]);
  globalThis.fetch = () => answer.promise;
  const asked = ask();
  answer.answer({json: () => ({state: "done", progress: 1, says: ""})});
  await asked;
  await turn();
  assert.deepEqual([notices(), served.morphed, page.byId.revision.textContent], [[], [], "6"]);
});

test("a page that the server doesn't give is loaded anew", async () => {
  served.ok = false;
  await edited();
  assert.equal(location.reloads, 1);
});

test("who is there is told, with the step they look at", async () => {
  await tell("here", [{name: "Ruth", step: "Set"}, {name: "another window"}]);
  assert.equal(page.byId.here.textContent, "also here: Ruth (Set), another window");
  await tell("here", []);
  assert.equal(page.byId.here.textContent, "");
});

test("a page that isn't seen listens to nobody, and goes on when it is", () => {
  const [first] = sources;
  const own = new URLSearchParams(first.url.split("?")[1]);
  assert.equal(own.get("step"), "Match");
  page.hidden = true;
  page.tell("visibilitychange");
  assert.ok(first.closed);
  page.hidden = false;
  page.tell("visibilitychange");
  const again = new URLSearchParams(sources[1].url.split("?")[1]);
  assert.equal(again.get("window"), own.get("window")); // the same window
  window.tell("pagehide");
  assert.ok(sources[1].closed);
});
