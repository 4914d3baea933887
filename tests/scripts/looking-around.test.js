// Looking around in a panorama on the light table: from the flat picture and back, by pointer,
// wheel and keys, and what the graphics card is asked to draw.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {layTable} from "./laid.js";
import {Element, fresh, page, picture} from "./page.js";

const {LightTable} = await import("../../web/ui/static/ui/table.js");

const FOCAL = 2000 / (2 * Math.PI); // the picture goes once around
const LENS = {projection: "equirectangular", focal: FOCAL, centre: [1000, 500], full: true};
const FLAT = "M900 500L1000 500L1100 500";

const forgetful = new Proxy({}, {get: () => () => {}, set: () => true});
let root, table, card, path;

/** A graphics card that remembers what it was told, in `card`. */
function graphics(links) {
  card = {drawn: 0};
  const keep = (name, ...values) => {
    card[name] = values.length > 1 ? values : values[0];
  };
  const known = {
    getProgramParameter: () => links,
    getUniformLocation: (_, name) => name,
    uniform1f: keep,
    uniform1i: keep,
    uniform2f: keep,
    uniform2fv: keep,
    uniformMatrix3fv: (name, _, values) => keep(name, values),
    viewport: (...box) => keep("viewport", box),
    drawArrays: () => {
      card.drawn += 1;
    },
  };
  return new Proxy(known, {get: (own, name) => own[name] ?? (() => ({}))});
}

function lay(lens = LENS, {has = true, links = true} = {}) {
  fresh();
  for (const id of ["zoom", "at", "look-around"]) page.byId[id] = new Element("output");
  const gl = has ? graphics(links) : null;
  Element.prototype.getContext = kind => (kind === "webgl2" ? gl : forgetful);
  ({root} = layTable({around: JSON.stringify(lens)}));
  root.found.svg = new Element("svg");
  root.found["img.plate"].complete = true;
  path = new Element("path");
  path.setAttribute("d", FLAT);
  root.found["#over"].found.path = [path];
  table = new LightTable(root);
}

beforeEach(() => lay());

const at = (x, y) => ({clientX: 100 + x, clientY: 50 + y});
const near = (one, other, within = 1e-6) =>
  one.forEach((value, index) => assert.ok(Math.abs(value - other[index]) < within, `${one}`));
const pressed = () => page.byId["look-around"].getAttribute("aria-pressed");

test("one looks at what was in the middle, and comes back to where one was", () => {
  table.zoom(3, 100, 200);
  const flat = [table.scale, table.x, table.y],
    middle = table.toPlate(at(412, 312));
  page.byId["look-around"].tell("click");
  assert.ok(table.looksAround && root.classes.has("looks-around"));
  assert.equal(pressed(), "true");
  near(table.toScreen(middle), [412, 312]);
  assert.equal(page.byId.zoom.textContent, "80°"); // 1.4 radians
  page.tell("keydown", {key: "3", target: new Element()});
  assert.deepEqual([table.scale, table.x, table.y], flat);
  assert.equal(pressed(), "false");
  assert.equal(root.classes.has("looks-around"), false);
});

test("from the whole picture one looks at the horizon, wherever the picture's middle is", () => {
  lay({...LENS, centre: [1000, 430]});
  table.lookAround();
  near([table.around.pitch], [0]);
});

test("a browser that can't draw it goes on with the flat picture", () => {
  for (const lacks of [{has: false}, {links: false}]) {
    lay(LENS, lacks);
    const before = [table.scale, table.x, table.y];
    table.lookAround();
    assert.equal(table.looksAround, false);
    assert.equal(pressed(), null);
    assert.deepEqual([table.scale, table.x, table.y], before);
  }
});

test("an ordinary plate has nothing to look around in", () => {
  ({root} = layTable());
  table = new LightTable(root);
  table.lookAround();
  assert.equal(table.looksAround, false);
});

test("what is drawn in pixels of the plate follows the view, and is put back", () => {
  table.lookAround();
  const mapped = path.getAttribute("d");
  assert.match(mapped, /^M\d+(\.\d+)? 312L412 312L\d+(\.\d+)? 312$/);
  table.around.yaw += 0.1;
  table.zoom(1);
  assert.notEqual(path.getAttribute("d"), mapped);
  table.lookAround(false);
  assert.equal(path.getAttribute("d"), FLAT);
});

test("the wheel narrows the view, F makes it level and as wide as at first", () => {
  table.lookAround();
  root.tell("wheel", {deltaY: -400, ...at(0, 0)});
  assert.ok(table.around.wide < 0.95);
  // What the view shows is larger too, which the sizes of marks go by.
  near([table.scale], [412 / Math.tan(table.around.wide / 2) / FOCAL]);
  table.around.pitch = 0.4;
  page.tell("keydown", {key: "f", target: new Element()});
  assert.deepEqual([table.around.pitch, table.around.wide], [0, 1.4]);
});

test("a drag turns the view as often as the screen draws, coarser only where that is slow", () => {
  table.lookAround();
  const held = table.toPlate(at(412, 312));
  const drag = x => root.tell("pointermove", at(x, 312));
  root.tell("pointerdown", {button: 1, pointerId: 1, ...at(412, 312)});
  card.drawn = 0;
  drag(430);
  drag(452);
  assert.equal(card.drawn, 0);
  picture();
  assert.equal(card.drawn, 1);
  near(table.toScreen(held), [452, 312]);
  assert.deepEqual(card.viewport, [0, 0, 824, 624]);
  for (let x = 453; x < 470; x += 1) {
    drag(x);
    picture(90);
  }
  assert.deepEqual(card.viewport, [0, 0, 412, 312]);
  root.tell("pointerup");
  assert.deepEqual(card.viewport, [0, 0, 824, 624]);
  assert.equal(table.panning, null);
});

test("the card is told the lens and the way that is looked", () => {
  table.lookAround();
  assert.deepEqual(card.centre, [1000, 500]);
  assert.deepEqual([card.perTurn, card.cylinder, card.count], [FOCAL, 0, 0]);
  // Column by column: of a view to the right the axis that looks ahead is the third one.
  Object.assign(table.around, {yaw: Math.PI / 2, pitch: 0});
  table.zoom(1);
  near(card.turn, [0, 0, 1, 0, 1, 0, -1, 0, 0]);
});

test("of a panorama in pieces each has its middle and its turn, by which places are found", () => {
  const ahead = [1, 0, 0, 0, 1, 0, 0, 0, 1],
    right = [0, 0, -1, 0, 1, 0, 1, 0, 0]; // turned so that −Z looks along +X
  const pieces = [
    {middle: [-1, 0], turn: ahead},
    {middle: [1, 0], turn: right},
  ];
  lay({projection: "cube", focal: 400, centre: [1000, 500], pieces, half: 1});
  table.lookAround();
  assert.equal(card.count, 2);
  assert.deepEqual(card.middles, [-1, 0, 1, 0]);
  near(table.around.direction([600, 500]), [0, 0, -1]);
  near(
    table.around.direction([1400, 500]),
    right.filter((_, i) => i % 3 === 2).map(v => -v),
  );
  for (const place of [
    [700, 350],
    [1250, 640],
  ]) {
    const d = table.around.direction(place);
    Object.assign(table.around, {yaw: Math.atan2(d[0], -d[2]), pitch: Math.asin(d[1])});
    table.zoom(1);
    near(table.around.pixel(412, 312), place);
  }
  assert.ok(table.around.direction([1000, 1400]).every(Number.isNaN)); // beside all pieces
  const {yaw} = table.around;
  table.frame([[1000, 1400]]);
  assert.equal(table.around.yaw, yaw);
  table.frame([
    [600, 500],
    [1400, 500],
  ]);
  near([table.around.yaw, table.around.pitch], [Math.PI / 4, 0]);
});

test("marks on both sides of the seam are framed at the seam", () => {
  const marks = [
    [1980, 480],
    [20, 520],
  ];
  table.frame(marks);
  const [left, right] = marks.map(mark => table.toScreen(mark));
  near([(left[0] + right[0]) / 2, (left[1] + right[1]) / 2], [412, 312]);
  assert.ok(table.scale > 5, `${table.scale}`); // they are 40 px apart, not 1960
  table.lookAround();
  table.frame(marks);
  for (const mark of marks) assert.ok(table.around.place(mark)[2], "before the eye");
  near([Math.abs(table.around.yaw)], [Math.PI]);
});
