// The set from outside: every camera with its glass, its planes of focus and its facts, panoramas
// that stand around theirs, and the plate on the stand-ins that wear it.

import assert from "node:assert/strict";
import {beforeEach, test} from "node:test";

import {Element, fresh} from "./page.js";
import {pencil} from "./pencil.js";

const {WebGLRenderer} = await import("./three.js");
const THREE = await import("../../web/ui/static/vendor/three.module.js");
const {SetView} = await import("../../web/stage/static/stage/set-view.js");

const END = [
  [-1, 2, -4],
  [1, 2, -4],
  [1, 0, -4],
  [-1, 0, -4],
];
const CAMERA = {
  eye: [0, 1, 0],
  end: END,
  right: [1, 0, 0],
  facts: [],
  focus: null,
  limits: [],
  chosen: true,
  opacity: 0.1,
  side: "facing",
};
const CRATE = {
  points: [0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0],
  faces: [0, 1, 2, 0, 2, 3],
  lines: [0, 1],
};

let written;

function seen(cameras, more = {}) {
  fresh();
  written = pencil();
  Object.assign(written, {measureText: text => ({width: 10 * text.length})});
  Element.prototype.getContext = () => written;
  const world = {eye: [0, 1, 6], up: "Y", right: [1, 0, 0], spacing: 1, spots: [], card: null};
  const place = new Element("div", {width: 400, height: 300});
  return new SetView(place, {...world, solids: {crate: CRATE}, cameras, ...more});
}

const all = (group, kind) => {
  const found = [];
  group.traverse(thing => thing instanceof kind && found.push(thing));
  return found;
};
const corners = thing => {
  const at = thing.geometry.getAttribute("position");
  return Array.from({length: at.count}, (_, i) => [at.getX(i), at.getY(i), at.getZ(i)]);
};
/** Where the face of a sign looks. */
const facing = sign =>
  new THREE.Vector3(0, 0, 1)
    .applyQuaternion(sign.quaternion)
    .toArray()
    .map(value => Math.round(1000 * value) / 1000 + 0);
const signs = set =>
  all(set.cameraGroup, THREE.Mesh).filter(one => one.geometry.type === "PlaneGeometry");

let set;
beforeEach(() => {
  set = seen([CAMERA]);
});

test("a camera is a frustum from its eye to its end, of glass as strong as is asked for", () => {
  const [lines] = all(set.cameraGroup, THREE.LineSegments);
  const from = corners(lines).filter((_, index) => index % 4 === 0);
  assert.deepEqual(from, Array(4).fill(CAMERA.eye));
  const [glass] = all(set.cameraGroup, THREE.Mesh);
  assert.equal(glass.material.opacity, 0.1);
  assert.equal(glass.geometry.index.count, 12); // four sides
});

test("the plane of focus and both ends of what is sharp stand in it", () => {
  const at = z => END.map(([x, y]) => [x, y, z]);
  set = seen([{...CAMERA, focus: at(-3), limits: [at(-2), at(-3.5)]}]);
  const loops = all(set.cameraGroup, THREE.LineLoop).map(loop => corners(loop)[0][2]);
  assert.deepEqual(loops, [-3, -2, -3.5]);
  const planes = all(set.cameraGroup, THREE.Mesh).filter(one => one.material.opacity === 0.18);
  assert.deepEqual(planes.map(corners), [at(-3)]);
});

test("its facts stand on a sign beside it, the first line bold, as large as it is far", () => {
  set = seen([{...CAMERA, facts: ["LT040 match", "28.0 mm"], side: "right"}]);
  assert.deepEqual(written.texts(), ["LT040 match", "28.0 mm"]);
  const fonts = written.drawn.filter(([, name]) => name === "font").map(([, , font]) => font);
  assert.deepEqual(
    fonts.slice(-2).map(font => font.slice(0, 3)),
    ["700", "400"],
  );
  const [sign] = signs(set);
  const {width, height} = sign.geometry.parameters;
  assert.ok(Math.abs(width - Math.hypot(1, 6) / 2) < 1e-9);
  assert.ok(height < width && sign.position.y > CAMERA.eye[1] + height / 2);
});

test("a sign faces the side that is chosen, or whoever looks", () => {
  const sides = {front: [0, 0, -1], back: [0, 0, 1], right: [1, 0, 0], left: [-1, 0, 0]};
  for (const [side, direction] of Object.entries({...sides, above: [0, 1, 0]})) {
    set = seen([{...CAMERA, facts: ["A"], side}]);
    assert.deepEqual(facing(signs(set)[0]), direction, side);
  }
  set = seen([{...CAMERA, facts: ["A"]}]);
  set.look("side");
  assert.deepEqual(facing(signs(set)[0]), [1, 0, 0]);
  set.look("front");
  assert.deepEqual(facing(signs(set)[0]), [0, 0, 1]);
});

test("a camera that looks down has its sign upright", () => {
  const down = END.map(([x, , z]) => [x, 1 + z, z]); // 45° down
  set = seen([{...CAMERA, end: down, facts: ["A"], side: "front"}]);
  assert.deepEqual(facing(signs(set)[0]), [0, 0, -1]);
});

test("a panorama stands around its camera, its picture seen from outside only if asked", () => {
  const dome = {
    points: [0, 0, -1, 1, 0, 0, 0, 1, 0],
    at: [0, 0, 1, 0, 0, 1],
    lines: [0, 1],
    faces: [0, 1, 2],
  };
  set = seen([{...CAMERA, dome: {...dome, shows: true}, facts: ["A"]}]);
  assert.equal(all(set.cameraGroup, THREE.LineSegments)[0].geometry.index.count, 2);
  const picture = () =>
    all(set.cameraGroup, THREE.Mesh).filter(one => one.geometry.getAttribute("uv").count === 3);
  assert.equal(picture().length, 1);
  set.ghost(0.5);
  assert.equal(picture()[0].material.opacity, 0.46);
  assert.equal(signs(set).length, 1);
  set = seen([{...CAMERA, dome: {...dome, shows: false}}]);
  assert.equal(picture().length, 0);
});

test("a stand-in wears the plate: plain where seen, striped where not, without its colour", () => {
  const bodies = () => all(set.group, THREE.Mesh).length;
  set.solids(set.world.solids, null);
  assert.equal(bodies(), 1);
  const worn = {
    points: CRATE.points,
    at: [0, 0, 1, 0, 1, 1, 0, 1],
    faces: [[0, 1, 2], [], [0, 2, 3]],
  };
  set.wear({crate: worn, gone: worn}); // one of them was taken away meanwhile
  set.solids(set.world.solids, null);
  assert.equal(bodies(), 0);
  const faces = all(set.wornGroup, THREE.Mesh);
  assert.deepEqual(
    faces.map(one => [...one.geometry.index.array]),
    [
      [0, 1, 2],
      [0, 2, 3],
    ],
  );
  const striped = one => one.material.customProgramCacheKey().startsWith("striped");
  assert.deepEqual(faces.map(striped), [false, true]);
  const shader = {fragmentShader: "#include <opaque_fragment>"};
  faces[1].material.onBeforeCompile(shader);
  assert.match(shader.fragmentShader, /mod\(gl_FragCoord\.x \+ -1\.0 \* gl_FragCoord\.y/);
});

test("without its marks what the plate can't show is one colour", () => {
  const worn = {points: CRATE.points, at: [], faces: [[], [0, 1, 2], [0, 2, 3]]};
  set.wear({crate: worn});
  const keys = () =>
    all(set.wornGroup, THREE.Mesh).map(one => one.material.customProgramCacheKey());
  assert.deepEqual(keys(), ["striped 1 #8A5A00", "striped -1 #9B2F22"]);
  set.marksOn = false;
  set.redress();
  assert.deepEqual(
    keys().map(key => key.startsWith("striped")),
    [false, true],
  );
  assert.equal(keys()[1], "striped -1 #8d8a80");
});

test("what is drawn anew leaves nothing of its old self on the graphics card", () => {
  let freed = 0;
  for (const thing of all(set.cameraGroup, THREE.Mesh))
    thing.geometry.addEventListener("dispose", () => {
      freed += 1;
    });
  const before = set.cameraGroup.children.length;
  set.cameras();
  assert.equal(freed, 1);
  assert.equal(set.cameraGroup.children.length, before);
});

test("a window without size draws nothing, and one that gets one does", () => {
  set.place.clientWidth = 0;
  const {drawn} = WebGLRenderer.last;
  set.resize();
  assert.equal(WebGLRenderer.last.drawn, drawn);
  set.place.clientWidth = 600;
  set.resize();
  assert.deepEqual(set.renderer.size, [600, 300]);
  assert.equal(set.perspective.aspect, 2);
});
