// The light table: panning, zooming, what goes on at the other side; and its real pixels.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {context, layTable, loaded} from "./laid.js";
import {Element, page} from "./page.js";

const {LightTable} = await import("../../web/ui/static/ui/table.js");
const {Pixels} = await import("../../web/ui/static/ui/pixels.js");

let root, table;

function laid(dataset = {}) {
  ({root} = layTable(dataset));
  return new LightTable(root);
}

beforeEach(() => {
  table = laid();
});

const at = (x, y) => ({clientX: 100 + x, clientY: 50 + y});

test("fitted, the whole picture is there, in the middle", () => {
  assert.equal(table.scale, 0.4); // (824 − 24) / 2000
  assert.deepEqual(table.toScreen([0, 0]), [12, 112]);
  assert.deepEqual(table.toScreen([2000, 1000]), [812, 512]);
  assert.deepEqual(table.toPlate(at(412, 312)), [1000, 500]);
});

test("zooming keeps what is under the pointer there, and ends at both ends", () => {
  const held = table.toPlate(at(200, 300));
  table.zoom(3, 200, 300);
  const [x, y] = table.toScreen(held);
  assert.ok(Math.abs(x - 200) < 1e-9 && Math.abs(y - 300) < 1e-9);
  table.zoom(1e9);
  assert.equal(table.scale, 64);
  table.zoom(1e-9);
  assert.equal(table.scale, 0.01);
});

test("marks that are sought fill the middle, and not more than can be seen", () => {
  table.frame([[500, 500]]);
  assert.equal(table.scale, 8);
  assert.deepEqual(table.toScreen([500, 500]), [412, 312]);
  table.frame([
    [0, 0],
    [2000, 10],
  ]);
  assert.ok(Math.abs(table.toScreen([2000, 10])[0] - table.toScreen([0, 0])[0] - 0.7 * 824) < 1e-9);
});

test("how one looked is kept for the next page", () => {
  table.zoom(4, 10, 10);
  const kept = [table.scale, table.x, table.y];
  const view = sessionStorage.getItem("view:proxy");
  const fresh = laid();
  assert.equal(fresh.fitted, true);
  sessionStorage.setItem("view:proxy", view);
  const again = new LightTable(root);
  assert.deepEqual([again.scale, again.x, again.y], kept);
});

test("a panorama that goes all around scrolls on, and its places stay within it", () => {
  const focal = 2000 / (2 * Math.PI);
  const lens = {projection: "equirectangular", focal, centre: [1000, 500], full: true};
  table = laid({around: JSON.stringify(lens)});
  table.zoom(2.5);
  const [x] = table.toPlate(at(-700, 300)); // left of the picture's left edge
  assert.ok(x > 0 && x < 2000);
  // Of both copies the one that is nearer to the middle is meant.
  const screen = table.toScreen([1990, 500])[0];
  assert.ok(Math.abs(screen - 412) <= (2000 * table.scale) / 2 + 1e-9);
});

test("the pointer's place is told, a drag pans, and the loupe waits meanwhile", () => {
  page.byId.at = new Element("output");
  root.tell("pointermove", at(412, 312));
  assert.equal(page.byId.at.textContent, "x 1000.0  y 500.0 px");
  table.toggleLoupe();
  root.tell("pointermove", at(412, 312));
  assert.deepEqual(table.loupe.at, [1000, 500]);
  const before = table.x;
  root.tell("pointerdown", {button: 1, pointerId: 1, ...at(412, 312)});
  root.tell("pointermove", at(442, 312));
  assert.equal(table.x, before + 30);
  assert.deepEqual(table.loupe.at, [1000, 500]);
  root.tell("pointerup");
  root.tell("pointerleave");
  assert.equal(table.loupe.at, null);
});

test("the left button draws, unless the page or the space key says that it pans", () => {
  root.tell("pointerdown", {button: 0, pointerId: 1, ...at(5, 5)});
  assert.equal(table.panning, undefined);
  page.tell("keydown", {key: " ", target: new Element()});
  root.tell("pointerdown", {button: 0, pointerId: 1, ...at(5, 5)});
  assert.ok(table.panning);
  root.tell("pointerup");
  page.tell("keyup", {key: " "});
  table.panWithLeft = () => true;
  root.tell("pointerdown", {button: 0, pointerId: 1, ...at(5, 5)});
  assert.ok(table.panning);
});

test("only tiles that are seen are asked for, and are drawn where they belong", () => {
  let came = 0;
  const pixels = new Pixels("/tile/0/0.png", [600, 300], () => {
    came += 1;
  });
  const canvas = context();
  pixels.paint(canvas, [250, -20], 2, [40, 80]); // 20 × 40 px of the picture, above its top too
  assert.deepEqual(
    loaded.map(image => image.src),
    ["/tile/0/0.png", "/tile/1/0.png"],
  );
  assert.deepEqual(canvas.drawn, []); // they haven't come yet
  for (const image of loaded) image.come(256);
  assert.equal(came, 2);
  pixels.paint(canvas, [250, -20], 2, [40, 80]);
  assert.deepEqual(canvas.drawn, [
    ["/tile/0/0.png", 0, 0, 256, 256, -500, 40, 512, 512],
    ["/tile/1/0.png", 0, 0, 256, 256, 12, 40, 512, 512],
  ]);
  assert.equal(canvas.imageSmoothingEnabled, false);
});

test("the tiles at the right and at the bottom are cut to the picture", () => {
  const pixels = new Pixels("/tile/0/0.png", [600, 300], () => {});
  const canvas = context();
  pixels.paint(canvas, [590, 290], 1, [500, 500]);
  loaded.at(-1).come(256);
  pixels.paint(canvas, [590, 290], 1, [500, 500]);
  assert.deepEqual(canvas.drawn, [["/tile/2/1.png", 0, 0, 88, 44, -78, -34, 88, 44]]);
});

test("another frame's pixels take the place of all that were there", () => {
  const pixels = new Pixels("/a/0/0.png", [600, 300], () => {});
  pixels.paint(context(), [0, 0], 1, [10, 10]);
  assert.equal(pixels.take("/a/0/0.png"), false);
  assert.equal(pixels.take("/b/0/0.png"), true);
  pixels.paint(context(), [0, 0], 1, [10, 10]);
  assert.equal(loaded.at(-1).src, "/b/0/0.png");
});

test("keys and buttons fit the picture, show it at its own size, and zoom by steps", () => {
  const button = view => new Element("button", {dataset: {view}});
  page.found["[data-view]"] = ["fit", "one", "loupe"].map(button);
  table = laid();
  const [fit, one, loupe] = page.found["[data-view]"];
  one.tell("click");
  assert.equal(table.scale, 1);
  fit.tell("click");
  assert.equal(table.scale, 0.4);
  loupe.tell("click");
  assert.equal(table.loupeOn, true);
  const press = (key, more) => page.tell("keydown", {key, target: new Element(), ...more});
  press("+");
  assert.ok(Math.abs(table.scale - 0.5) < 1e-12);
  press("-");
  assert.ok(Math.abs(table.scale - 0.4) < 1e-12);
  press("1");
  assert.equal(table.scale, 1);
  press("F");
  assert.equal(table.scale, 0.4);
  press("+", {ctrlKey: true}); // the browser's own zoom
  assert.equal(table.scale, 0.4);
});

test("the wheel zooms at the pointer", () => {
  const held = table.toPlate(at(700, 100));
  root.tell("wheel", {deltaY: -300, ...at(700, 100)});
  assert.ok(table.scale > 0.6);
  const [x, y] = table.toScreen(held);
  assert.ok(Math.abs(x - 700) < 1e-9 && Math.abs(y - 100) < 1e-9);
});

test("what is laid over the plate moves with it, and is drawn into copies as it looks", () => {
  root.found.svg = new Element("svg");
  const over = table.lay("/render.png");
  assert.deepEqual(root.found.svg.ahead, [over]);
  assert.equal(over.style.transform, "translate(12px, 112px) scale(0.4)");
  const under = new Element("canvas");
  table.layElement(under, true);
  assert.deepEqual(table.canvas.ahead, [under]);
  table.zoom(10);
  assert.equal(over.style.transform, table.image.style.transform);
  assert.equal(over.style.imageRendering, "pixelated"); // each pixel can be told from the next
  Object.assign(over, {complete: true, naturalWidth: 1000});
  Object.assign(over.style, {opacity: "0.5", mixBlendMode: "difference"});
  const drawn = [];
  const canvas = {
    drawImage: image =>
      drawn.push([image.src, canvas.globalAlpha, canvas.globalCompositeOperation]),
  };
  table.drawLaid(canvas, 0, 0, 10, 10);
  over.style.visibility = "hidden";
  table.drawLaid(canvas, 0, 0, 10, 10);
  assert.deepEqual(drawn, [["/render.png", 0.5, "difference"]]); // the canvas isn't a page's here
});

test("real pixels are painted where the small picture would be seen to be one", () => {
  const asked = () => {
    loaded.length = 0;
    table.pixels.take(`/other${Math.random()}/0/0.png`);
    table.zoom(1);
    return loaded.length > 0;
  };
  assert.equal(asked(), false); // 0.4: the small picture, half as large, has enough
  table.zoom(1.4);
  assert.equal(asked(), true);
  table.image.naturalWidth = 2000;
  assert.equal(asked(), false);
  table.zoom(2);
  assert.equal(asked(), true);
});

test("another picture's pixels take the plate's place by its width, until given back", () => {
  root.dataset.tiles = "/plate/0/0.png";
  table.takeTiles("/frame/0/0.png", 500);
  table.zoom(1); // 0.4 of the plate is 800 px, more than its 500
  assert.match(loaded.at(-1).src, /^\/frame/);
  loaded.length = 0;
  table.takeTiles(null);
  assert.equal(table.wide, 0);
  table.zoom(2);
  assert.match(loaded.at(-1).src, /^\/plate/);
});

test("a panorama's pictures lie once more at both sides", () => {
  const cloned = [];
  const before = globalThis.HTMLImageElement;
  globalThis.HTMLImageElement = {[Symbol.hasInstance]: image => image.tagName === "IMG"};
  Element.prototype.cloneNode = function () {
    cloned.push(new Element("img", {src: this.src}));
    cloned.at(-1).style = {};
    return cloned.at(-1);
  };
  const lens = {projection: "equirectangular", focal: 2000 / (2 * Math.PI), centre: [1000, 500]};
  table = laid({around: JSON.stringify({...lens, full: true})});
  const left = copy => +/translate\(([-\d.]+)px/.exec(copy.style.transform)[1];
  assert.equal(cloned.length, 2);
  assert.deepEqual(cloned.map(left).map(Math.round), [12 - 800, 12 + 800]);
  assert.ok(cloned.every(copy => copy.classes.has("copy")));
  table.image.src = "/frame.jpg"; // another frame of a film
  table.zoom(2);
  assert.deepEqual(
    cloned.map(copy => copy.src),
    ["/frame.jpg", "/frame.jpg"],
  );
  const uses = root.found["#over"].ahead.map(use => use.getAttribute("transform"));
  assert.deepEqual(uses, ["translate(-1600 0)", "translate(1600 0)"]); // px of the screen
  globalThis.HTMLImageElement = before;
});
