// Line-up: how a render lies on the plate, what is drawn over both, and the frames of either.

import assert from "node:assert/strict";
import {beforeEach, mock, test} from "node:test";

import {layTable} from "./laid.js";
import {Element, fresh, later, notices, page, turn} from "./page.js";

const PAGE = {
  render: "/render.png",
  shade: "/shade.png",
  alpha: "/alpha.png",
  against: null,
  returned: null,
  frames: [],
  shift: 0,
  arrows: [],
  arrows_frame: null,
  wire: ["M0 0L10 10"],
  values: "/values",
  edges: "/edges",
  seen: "",
};

let root, loaded, marks;

function field(id, value, more = {}) {
  page.byId[id] = new Element("input", {value, parentElement: new Element("label"), ...more});
  return page.byId[id];
}

async function begin(more = {}, prepare = () => {}) {
  fresh();
  ({root} = layTable());
  page.byId["light-table"] = root;
  root.found.svg = new Element("svg");
  page.byId["page-data"] = {textContent: JSON.stringify({...PAGE, ...more})};
  page.found[".report"] = new Element();
  for (const id of ["marks", "hint", "edges", "edges-says", "burn-in", "burn", "kept-frame"])
    page.byId[id] = new Element();
  page.byId["edges-says"].hidden = page.byId["burn-in"].hidden = true;
  marks = page.byId.marks;
  field("wipe", "1");
  field("angle", "0");
  field("ghost", "1");
  field("rate", "2");
  page.found["[data-look]"] = ["over", "plate", "alpha", "difference", "flicker"].map(
    look => new Element("button", {dataset: {look}}),
  );
  page.found["[data-layer]"] = ["wire", "arrows"].map(
    layer => new Element("button", {dataset: {layer}}),
  );
  page.found["#burn-in div"] = [];
  prepare();
  loaded = (loaded || 0) + 1;
  await import(`../../web/lineup/static/lineup/lineup.js?${loaded}`);
}

beforeEach(async () => {
  mock.timers.reset();
  await begin();
});

const press = key => page.tell("keydown", {key, target: new Element("body")});
const slide = (id, value) => {
  page.byId[id].value = value;
  page.byId[id].tell("input");
};
/** The pictures that lie on the plate, by their address. */
const laid = () => {
  const all = (root.found.svg.ahead ?? []).filter(image => image.src);
  return Object.fromEntries(all.map(image => [image.src.split("?")[0], image]));
};
const shows = url => laid()[url].style.visibility !== "hidden";
const pressed = name =>
  page.found["[data-look]"].find(one => one.dataset.look === name).getAttribute("aria-pressed");
const lines = () => marks.children.filter(child => child.tagName === "LINE");

test("the render lies over the plate, its shade multiplies, its alpha waits", () => {
  assert.deepEqual(["/render.png", "/shade.png", "/alpha.png"].map(shows), [true, true, false]);
  assert.equal(laid()["/shade.png"].style.mixBlendMode, "multiply");
  assert.equal(laid()["/render.png"].style.clipPath, "none");
});

test("letters change the look; the same once more goes back to the render over the plate", () => {
  press("p");
  assert.deepEqual([shows("/render.png"), pressed("plate")], [false, "true"]);
  press("a");
  assert.deepEqual([shows("/render.png"), shows("/alpha.png")], [false, true]);
  press("a");
  assert.deepEqual(
    [shows("/render.png"), shows("/alpha.png"), pressed("over")],
    [true, false, "true"],
  );
  press("x");
  assert.equal(laid()["/render.png"].style.mixBlendMode, "difference");
  press("o");
  assert.equal(laid()["/render.png"].style.mixBlendMode, "");
});

/** The corners of the half that is kept, px of the plate. */
function corners(url = "/render.png") {
  const [, inside] = /^polygon\((.*)\)$/.exec(laid()[url].style.clipPath);
  return inside.split(", ").map(at => at.split(" ").map(Number.parseFloat));
}

test("the wipe keeps the left part; turned by 90° the upper one", () => {
  slide("wipe", "0.25");
  const across = corners();
  assert.ok(
    across.slice(0, 2).every(([x]) => Math.abs(x - 500) < 1e-6),
    `${across}`,
  );
  assert.ok(across.slice(2).every(([x]) => x < 0));
  slide("angle", "90");
  const down = corners();
  assert.ok(
    down.slice(0, 2).every(([, y]) => Math.abs(y - 250) < 1e-6),
    `${down}`,
  );
  assert.ok(down.slice(2).every(([, y]) => y < 0));
});

test("at any angle the wipe goes from nothing to the whole picture", () => {
  const inside = (at, polygon) => {
    const [a, b, c] = polygon;
    const side = (p, q, r) => (q[0] - p[0]) * (r[1] - p[1]) - (q[1] - p[1]) * (r[0] - p[0]);
    return Math.sign(side(a, b, at)) === Math.sign(side(a, b, c));
  };
  const plate = [
    [1, 1],
    [1999, 1],
    [1999, 999],
    [1, 999],
  ];
  for (const angle of [-75, -30, 17, 45, 88]) {
    slide("angle", String(angle));
    slide("wipe", "0");
    assert.ok(!plate.some(at => inside(at, corners())), `${angle}`);
    slide("wipe", "0.9999");
    assert.ok(
      plate.every(at => inside(at, corners())),
      `${angle}`,
    );
  }
});

test("keys wipe by a hundredth and turn by five degrees", () => {
  slide("wipe", "0.5");
  press(".");
  press(".");
  press(",");
  assert.ok(Math.abs(page.byId.wipe.value - 0.51) < 1e-9);
  press("]");
  assert.equal(page.byId.angle.value, 5);
  assert.equal(page.byId.angle.parentElement.hidden, false);
  slide("wipe", "1");
  assert.equal(page.byId.angle.parentElement.hidden, true); // nothing to turn
});

test("it flickers at the rate that is set, and rests when another look is chosen", async () => {
  mock.timers.enable({apis: ["setInterval"]});
  press("k");
  assert.ok(shows("/render.png"));
  mock.timers.tick(250); // twice a second: 250 ms each
  assert.ok(!shows("/render.png"));
  mock.timers.tick(250);
  assert.ok(shows("/render.png"));
  slide("rate", "4");
  mock.timers.tick(125);
  assert.ok(!shows("/render.png"));
  press("o");
  assert.ok(shows("/render.png"));
  mock.timers.tick(1000);
  assert.ok(shows("/render.png"));
});

test("another render is seen where this one isn't", async () => {
  await begin({against: "/other.png"});
  assert.ok(!shows("/other.png")); // the whole of this one is there
  slide("wipe", "0.5");
  assert.ok(shows("/other.png"));
  const [mine, theirs] = [corners(), corners("/other.png")];
  assert.ok(mine[2][0] < 0 && theirs[2][0] > 2000);
  press("p");
  assert.ok(!shows("/other.png"));
});

test("the wireframe and the arrows are drawn or not", async () => {
  press("w");
  assert.equal(marks.children.length, 1);
  press("w");
  assert.equal(marks.children.length, 0);
  await begin({arrows: [[100, 100, 0.5, -0.25]]});
  const [, line] = lines();
  const at = name => +line.getAttribute(name);
  assert.ok(Math.abs(at("x2") - at("x1") - 10) < 1e-9); // twenty times as long, on the screen
  assert.ok(Math.abs(at("y2") - at("y1") + 5) < 1e-9);
  press("m");
  assert.equal(lines().length, 0);
});

// The plate's own edges ---------------------------------------------------------------------------

const EDGES = {arrows: [[10, 10, 1, 0]], says: "0.3 px beside.", names: ["Door"]};

test("the plate's edges are measured once, and shown and hidden after that", async () => {
  let asked = 0;
  globalThis.fetch = async () => {
    asked += 1;
    return {json: async () => EDGES};
  };
  press("e");
  await turn();
  assert.equal(lines().length, 2);
  assert.match(page.byId["edges-says"].children[1], /^0.3 px beside. Measured: Door\./);
  press("e");
  await turn();
  assert.deepEqual([lines().length, page.byId["edges-says"].hidden], [0, true]);
  press("e");
  await turn();
  assert.deepEqual([lines().length, asked], [2, 1]);
});

test("pressed again while it measures, nothing is measured twice", async () => {
  const answer = later();
  let asked = 0;
  globalThis.fetch = () => {
    asked += 1;
    return answer.promise;
  };
  press("e");
  press("e");
  answer.answer({json: async () => EDGES});
  await turn();
  assert.deepEqual([asked, lines().length], [1, 2]);
});

test("what can't be measured is told, and can be tried again", async () => {
  globalThis.fetch = async () => ({json: async () => ({problem: "No edge is near enough."})});
  press("e");
  await turn();
  assert.deepEqual(notices(), ["No edge is near enough."]);
  assert.equal(page.byId["edges-says"].hidden, true);
  globalThis.fetch = async () => ({json: async () => EDGES});
  press("e");
  await turn();
  assert.equal(lines().length, 2);
});

// Sequences ---------------------------------------------------------------------------------------

const SEQUENCE = {frames: [1001, 1002, 1003], shift: 1000, returned: "r7"};
let asked;

/** A page with a rendered sequence, and a slider for its frames. */
async function sequence() {
  asked = [];
  globalThis.fetch = async url => {
    asked.push(url);
    return {status: 404};
  };
  await begin(SEQUENCE, () => {
    field("frame", "0");
    field("frame-number", "1001");
    page.found["#burn-in div"] = [
      Object.assign(new Element(), {textContent: "LT010 frame 1001 r7"}),
    ];
  });
}

test("of a sequence the pictures of the frame that is shown are asked for", async () => {
  await sequence();
  assert.ok(asked.includes("/render.png?returned=r7&frame=1"));
  assert.ok(!asked.some(url => url.startsWith("/alpha"))); // not while it isn't seen
  asked.length = 0;
  press("u");
  assert.equal(page.byId["frame-number"].value, 1002);
  assert.equal(page.byId["kept-frame"].value, 2);
  assert.equal(page.found["#burn-in div"][0].textContent, "LT010 frame 1002 r7");
  assert.ok(asked.includes("/render.png?returned=r7&frame=2"));
  press("j");
  assert.equal(page.byId["frame-number"].value, 1001);
  press("a");
  assert.ok(asked.includes("/alpha.png?returned=r7&frame=1"));
});

test("the facts that are burnt in can be hidden", () => {
  press("b");
  assert.deepEqual(
    [page.byId["burn-in"].hidden, page.byId.burn.getAttribute("aria-pressed")],
    [false, "true"],
  );
  page.byId.burn.tell("click");
  assert.equal(page.byId["burn-in"].hidden, true);
});

test("without a render only the plate is looked at", async () => {
  await begin({render: null});
  assert.deepEqual(laid(), {});
  press("x"); // nothing to compare
  assert.equal(pressed("difference"), null);
});

// Under the pointer -------------------------------------------------------------------------------

const over = (x, y) => root.tell("pointermove", {clientX: 112 + 0.4 * x, clientY: 162 + 0.4 * y});

test("with the loupe out, what both pictures have under the pointer is told", async () => {
  const urls = [];
  globalThis.fetch = async url => {
    urls.push(url);
    return {ok: true, text: async () => "plate 0.18, render 0.20"};
  };
  over(500, 250);
  assert.deepEqual(urls, []);
  press("l");
  over(500, 250);
  await turn();
  const asked = new URLSearchParams(urls[0].split("?")[1]);
  assert.deepEqual([asked.get("x"), asked.get("y")].map(Number).map(Math.round), [500, 250]);
  assert.equal(page.byId.hint.textContent, "plate 0.18, render 0.20");
  // An error page is nothing to read there, and what comes when the loupe is away isn't shown.
  globalThis.fetch = async () => ({ok: false, text: async () => "<h1>Server Error</h1>"});
  over(510, 250);
  await turn();
  assert.equal(page.byId.hint.textContent, "");
  const slow = later();
  globalThis.fetch = () => slow.promise;
  over(520, 250);
  press("l");
  slow.answer({ok: true, text: async () => "late"});
  await turn();
  assert.equal(page.byId.hint.textContent, "");
});

test("while one answer is awaited only the newest place is asked for next", async () => {
  const waiting = [];
  globalThis.fetch = url => {
    waiting.push({url, ...later()});
    return waiting.at(-1).promise;
  };
  press("l");
  for (const x of [100, 200, 300]) over(x, 100);
  assert.equal(waiting.length, 1);
  waiting[0].answer({ok: true, text: async () => ""});
  await turn();
  assert.equal(waiting.length, 2);
  assert.match(waiting[1].url, /x=(299\.9|300)/);
});

test("another render to compare with is another page, at the same place", async () => {
  const went = [];
  location.assign = to => went.push(String(to));
  location.toString = () => "http://here/line-up?returned=r7";
  await begin({}, () => field("against", "r5"));
  page.byId.against.tell("change", {target: {value: "r5"}});
  assert.deepEqual(went, ["http://here/line-up?returned=r7&against=r5"]);
});
