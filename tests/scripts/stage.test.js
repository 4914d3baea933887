// The Set page: stand-ins dragged and nudged through the lens, put down, drawn as a plan; and the
// set from outside.

import assert from "node:assert/strict";
import {beforeEach, mock, test} from "node:test";

import {Element, notices, page} from "./page.js";
import {
  WORLD,
  answered,
  assigned,
  at,
  begin,
  form,
  handle,
  on,
  outside,
  press,
  root,
  round,
  sent,
  settle,
  shapes,
  swaps,
  told,
} from "./stage-page.js";

const {WebGLRenderer} = await import("./three.js");
const THREE = await import("../../web/ui/static/vendor/three.module.js");

beforeEach(async () => {
  mock.timers.reset();
  await begin();
});

test("each stand-in is drawn through the lens, the chosen one with its handles", () => {
  const groups = page.byId.marks.children.filter(child => child.tagName === "G");
  const titles = groups.map(group => group.children.at(-1).children[0].textContent);
  assert.deepEqual(titles, ["Crate", "Mast, locked"]);
  assert.deepEqual(
    shapes("handle").map(shape => shape.dataset.handle),
    ["move", "turn", "up"],
  );
});

test("a handle is dragged; the server says where to, and it is saved once it is let go", async () => {
  root.tell("pointerdown", at(500, 500, on(handle("move"))));
  root.tell("pointermove", at(550, 520));
  await settle();
  const [, tried] = sent[0];
  assert.deepEqual(
    [tried.id, tried.handle, round(tried.at), tried.snap, tried.through],
    ["b1", "move", [550, 520], true, "match"],
  );
  assert.equal(form.elements.turn.value, "12°");
  assert.equal(page.byId.hint.textContent, "+1 m");
  root.tell("pointermove", at(600, 520, {ctrlKey: true}));
  root.tell("pointerup", at(600, 520));
  await settle();
  const [, done] = sent.at(-1);
  assert.deepEqual(
    [done.done, done.base, done.snap, round(done.at)],
    [true, 21, false, [600, 520]],
  );
  assert.equal(page.byId.revision.textContent, 22);
  assert.equal(page.found["[data-history=undo]"].disabled, false);
});

test("a press on a handle without a move saves nothing; on another stand-in it chooses it", async () => {
  root.tell("pointerdown", at(500, 500, on(handle("move"))));
  root.tell("pointerup", at(500, 500));
  const item = new Element("path", {dataset: {item: "b2"}});
  root.tell("pointerdown", at(5, 5, on(item)));
  await settle();
  assert.deepEqual([sent, swaps], [[], ["?item=b2"]]);
});

test("arrows nudge by pixels of the plate, with Shift by tenths, in one edit", async () => {
  mock.timers.enable({apis: ["setTimeout"]});
  press("ArrowRight");
  press("ArrowRight", {shiftKey: true});
  press("ArrowUp");
  assert.ok(!sent.some(([, {done}]) => done));
  mock.timers.tick(300);
  for (let times = 0; times < 30; times += 1) await Promise.resolve();
  const saved = sent.filter(([, {done}]) => done);
  assert.equal(saved.length, 1);
  assert.deepEqual(round(saved[0][1].at), [501.1, 499]);
});

test("nudges that wait are saved before anything else happens", async () => {
  press("ArrowLeft");
  page.tell("flush");
  await settle();
  assert.deepEqual(round(sent.at(-1)[1].at), [499, 500]);
});

test("a drag that isn't taken is told, and the page shown as it is", async () => {
  mock.timers.enable({apis: ["setTimeout"]});
  location.reloads = 0;
  answered(() => ({status: 422, problem: "This stand-in is locked."}));
  root.tell("pointerdown", at(500, 500, on(handle("move"))));
  root.tell("pointermove", at(550, 520));
  root.tell("pointerup", at(550, 520));
  for (let times = 0; times < 40; times += 1) await Promise.resolve();
  assert.ok(notices().includes("This stand-in is locked."));
  mock.timers.tick(1800);
  assert.equal(location.reloads, 1);
});

test("a kind is put down at the pointer, as large as is typed or as its kind is", async () => {
  press("b");
  root.tell("pointerdown", at(700, 600));
  await settle();
  const [url, {at: place, typed, base}] = sent[0];
  assert.deepEqual([url, round(place), base], ["/place", [700, 600], 21]);
  assert.deepEqual(typed, {width: 1, height: 2, depth: 0.5, kind: "box"});
  assert.deepEqual(swaps, ["?item=b3"]);
  await begin({chosen: null});
  press("b");
  root.tell("pointerdown", at(700, 600));
  await settle();
  assert.equal(sent[0][1].typed.width, "width!");
});

test("a plan is drawn corner by corner, Backspace takes one back, Enter closes it", async () => {
  page.byId.kind.value = "block";
  press("b");
  for (const corner of [
    [100, 100],
    [200, 100],
    [900, 900],
  ])
    root.tell("pointerdown", at(...corner));
  press("Backspace");
  root.tell("pointerdown", at(200, 200));
  press("Enter");
  await settle();
  const [url, {corners, kind, height}] = sent[0];
  assert.equal(url, "/plan");
  assert.deepEqual(corners.map(round), [
    [100, 100],
    [200, 100],
    [200, 200],
  ]);
  assert.deepEqual([kind, height], ["block", 3]);
});

test("Escape lays the tool and its corners aside", () => {
  page.byId.kind.value = "room";
  press("b");
  root.tell("pointerdown", at(100, 100));
  const lines = () => page.byId.marks.children.filter(child => child.tagName === "POLYLINE").length;
  assert.equal(lines(), 2);
  press("Escape");
  assert.equal(lines(), 0);
  assert.ok(!root.classes.has("drawing"));
});

test("another's edit is taken where the world is the same, else the page is loaded", async () => {
  let answer = told({lens: [], handles: {}, chosen: null});
  globalThis.DOMParser = class {
    parseFromString() {
      const fresh_ = new Element();
      fresh_.getElementById = id =>
        id === "page-data"
          ? {textContent: JSON.stringify(answer)}
          : new Element("div", {innerHTML: "", found: {select: []}});
      return {getElementById: fresh_.getElementById};
    }
  };
  const swap = () => {
    const detail = {
      shouldSwap: true,
      target: {id: "report"},
      serverResponse: "",
      xhr: {responseURL: "/set?item=b2"},
    };
    page.tell("htmx:beforeSwap", {detail});
    return detail.shouldSwap;
  };
  assert.equal(swap(), true);
  assert.deepEqual([shapes("handle"), assigned], [[], []]);
  answer = told({world: {...WORLD, eye: [9, 9, 9]}}); // another camera
  assert.equal(swap(), false);
  assert.deepEqual(assigned, ["/set?item=b2"]);
});

test("both views, the lens alone or the set alone; the divider by pointer and keys", () => {
  const {divider} = page.byId;
  const widths = () => [page.byId["lens-view"].style.width, outside.style.width];
  assert.deepEqual(widths(), ["50%", "50%"]);
  divider.tell("keydown", {key: "ArrowRight"});
  assert.deepEqual(widths(), ["52%", "48%"]);
  divider.parentElement = new Element("div", {width: 1000});
  divider.tell("pointermove", {clientX: 300, pointerId: 4}); // not held
  divider.tell("pointerdown", {pointerId: 4});
  divider.tell("pointermove", {clientX: 20, pointerId: 4});
  assert.deepEqual(widths(), ["15%", "85%"]); // neither is lost
  press("v");
  assert.deepEqual([outside.style.display, page.byId["lens-view"].style.width], ["none", "100%"]);
  press("v");
  assert.deepEqual(
    [outside.style.display, page.byId["lens-view"].style.visibility],
    ["", "hidden"],
  );
  press("v");
  assert.deepEqual(widths(), ["15%", "85%"]);
});

test("how long a large mesh takes is said before it is sent", () => {
  page.byId["mesh-says"] = new Element();
  const choose = size =>
    page.tell("change", {target: new Element("input", {id: "mesh_file", files: [{size}]})});
  choose(2e6);
  assert.equal(page.byId["mesh-says"].textContent, "");
  choose(31e6);
  assert.equal(page.byId["mesh-says"].textContent, "31 MB: about 16 s.");
});

// From outside ------------------------------------------------------------------------------------

const view = () => WebGLRenderer.last;
const all = kind => {
  const found = [];
  view().scene.traverse(thing => thing instanceof kind && found.push(thing));
  return found;
};
const look = which => {
  page.byId.looks.value = which;
  page.byId.looks.tell("change", {target: page.byId.looks});
};
const ahead = () => {
  const {camera} = view();
  camera.updateMatrixWorld();
  return camera
    .getWorldDirection(new THREE.Vector3())
    .toArray()
    .map(value => Math.round(value) + 0);
};

test("it is seen from around, and straight from above, the front and the side", () => {
  assert.ok(view().camera.isPerspectiveCamera);
  look("plan");
  assert.ok(view().camera.isOrthographicCamera);
  assert.deepEqual(ahead().map(Math.abs), [0, 1, 0]);
  assert.equal(ahead()[1], -1);
  look("front");
  assert.deepEqual(ahead(), [0, 0, -1]);
  look("side");
  assert.deepEqual(ahead(), [-1, 0, 0]);
});

test("with Z up the plan looks down Z, and the floor lies across it", async () => {
  await begin({world: {...structuredClone(WORLD), up: "Z"}});
  look("plan");
  assert.deepEqual(ahead(), [0, 0, -1]);
  const lines = all(THREE.LineSegments).map(line => line.geometry.getAttribute("position"));
  const grid = lines.reduce((most, own) => (own.count > most.count ? own : most));
  const box = new THREE.Box3().setFromBufferAttribute(grid);
  assert.deepEqual([box.min.z, box.max.z], [0, 0]);
  assert.ok(box.max.y > 5);
});

test("everything is within the flat views, whatever the window's shape", async () => {
  for (const [width, height] of [
    [400, 300],
    [200, 600],
  ]) {
    Object.assign(outside, {clientWidth: width, clientHeight: height});
    look("front");
    const {camera} = view();
    camera.updateMatrixWorld();
    for (const corner of [WORLD.eye, ...WORLD.cameras[0].end, [0, 0, 0]]) {
      const place = new THREE.Vector3(...corner).project(camera);
      assert.ok(Math.abs(place.x) <= 1 && Math.abs(place.y) <= 1, `${corner}`);
    }
  }
});

test("a surveyed spot is as large as twice its ±, never too small to be seen", () => {
  const [ball] = all(THREE.Mesh).filter(mesh => mesh.geometry.type === "SphereGeometry");
  assert.deepEqual(ball.position.toArray(), [1, 2, 0]);
  assert.deepEqual(
    ball.scale.toArray().map(value => +value.toFixed(4)),
    [0.2, 0.4, 0.03],
  );
});

test("the chosen stand-in has a colour of its own; what is taken away leaves the scene", async () => {
  const bodies = () => all(THREE.Mesh).filter(mesh => mesh.material.isMeshLambertMaterial);
  const [first, second] = bodies();
  assert.notEqual(first.material.color.getHex(), second.material.color.getHex());
  const {solids} = WORLD;
  answered(own => ({...own, world: {...WORLD, solids: {b2: solids.b2}}}));
  root.tell("pointerdown", at(500, 500, on(handle("move"))));
  root.tell("pointermove", at(550, 520));
  await settle();
  root.tell("pointerup", at(550, 520));
  await settle();
  assert.equal(bodies().length, 1);
});

test("a path is drawn with its points' ±, and its camera stands on the shown frame", async () => {
  const {SetView} = await import("../../web/stage/static/stage/set-view.js");
  const place = new Element("div", {width: 400, height: 300});
  const set = new SetView(place, structuredClone(WORLD));
  const card = Array(4).fill([0, 0, 0]);
  set.path({
    eyes: [
      [0, 1, 0],
      [1, 1, 0],
    ],
    points: [5, 0, 0, 6, 0, 0],
    plus_minus: [0.1, 0.1, 0.1, 0, 0, 0],
    numbers: [10, 11],
    cards: [card, card.map(([x]) => [x + 1, 0, -1])],
  });
  const [balls] = all(THREE.InstancedMesh);
  const size = index => {
    const matrix = new THREE.Matrix4();
    balls.getMatrixAt(index, matrix);
    return new THREE.Vector3().setFromMatrixScale(matrix).x;
  };
  assert.equal(balls.count, 2);
  assert.ok(Math.abs(size(0) - 0.2) < 1e-6 && Math.abs(size(1) - 0.012) < 1e-6);
  set.at(11);
  const [frustum] = set.walkGroup.children;
  const first = frustum.geometry.getAttribute("position");
  assert.deepEqual([first.getX(0), first.getX(1)], [1, 1]); // from its eye to its card
  set.at(null);
  assert.equal(set.walkGroup.children.length, 0);
});

test("the plate card fades, and shows another frame while that is looked at", async () => {
  const {SetView} = await import("../../web/stage/static/stage/set-view.js");
  const place = new Element("div", {width: 400, height: 300});
  const card = [
    [0, 2, 0],
    [3, 2, 0],
    [3, 0, 0],
    [0, 0, 0],
  ];
  const set = new SetView(place, {...structuredClone(WORLD), card});
  set.ghost(0.5);
  assert.ok(Math.abs(set.card.material.opacity - 0.46) < 1e-9);
  const canvas = new Element("canvas");
  set.frame(canvas);
  assert.equal(set.card.material.map.image, canvas);
  set.ghost(1); // it is made anew, and still shows that frame
  assert.equal(set.card.material.map.image, canvas);
  set.frame(null);
  assert.equal(set.card.material.map, null); // no plate here
});
