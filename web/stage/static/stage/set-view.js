// The set from outside: floor grid, stand-ins, the plate on them, surveyed spots with their ±,
// cameras with their frusta, the plate card. Drawn when something changes.

import * as THREE from "three";
import {OrbitControls} from "../vendor/OrbitControls.js";
import {empty, striped} from "./materials.js";

const AXES = ["#E0A526", "#B58CF2", "#3CC7A5"];

export class SetView {
  constructor(place, world) {
    this.place = place;
    this.world = world;
    this.renderer = new THREE.WebGLRenderer({antialias: true});
    this.renderer.setPixelRatio(devicePixelRatio);
    this.renderer.domElement.setAttribute("aria-label", "The set from outside");
    place.prepend(this.renderer.domElement);
    this.scene = new THREE.Scene();
    this.scene.background = new THREE.Color("#5A5B5C");
    this.scene.add(new THREE.HemisphereLight("#ffffff", "#8a8578", 2.2));
    const sun = new THREE.DirectionalLight("#ffffff", 1.4);
    sun.position.set(0.45, 0.8, 0.4);
    this.scene.add(sun);
    this.eye = new THREE.Vector3(...world.eye);
    this.up = new THREE.Vector3(...(world.up === "Z" ? [0, 0, 1] : [0, 1, 0]));
    this.perspective = new THREE.PerspectiveCamera(
      40,
      1,
      Math.max(this.eye.length(), 1) / 200,
      Math.max(this.eye.length(), 1) * 60,
    );
    this.flat = new THREE.OrthographicCamera(-1, 1, 1, -1, -2000, 2000);
    [this.group, this.cardGroup, this.cameraGroup, this.wornGroup] = [0, 0, 0, 0].map(
      () => new THREE.Group(),
    );
    this.pathGroup = new THREE.Group();
    this.walkGroup = new THREE.Group();
    this.scene.add(this.group, this.cardGroup, this.cameraGroup, this.wornGroup);
    this.scene.add(this.pathGroup, this.walkGroup);
    this.texture = place.dataset.plate
      ? new THREE.TextureLoader().load(place.dataset.plate, () => this.draw())
      : null;
    if (this.texture) this.texture.colorSpace = THREE.SRGBColorSpace;
    this.worn = {};
    this.marksOn = true;
    this.grid(world, this.eye.length() || 5);
    this.spots(world.spots);
    this.ball = new THREE.Sphere().setFromPoints(
      [
        ...world.cameras.flatMap(({eye, end}) => [eye, ...end]),
        ...(world.card || []),
        [0, 0, 0],
      ].map(at => new THREE.Vector3(...at)),
    );
    this.ghost(1);
    this.cameras();
    this.look("orbit");
    new ResizeObserver(() => this.resize()).observe(place);
    this.resize();
  }

  /**
   * From around, or straight from above, from the front or the side: `which` is orbit, plan, front
   * or side.
   */
  look(which) {
    const middle = this.ball.center,
      radius = this.ball.radius,
      side = new THREE.Vector3(...this.world.right);
    side.addScaledVector(this.up, -side.dot(this.up)).normalize();
    const back = new THREE.Vector3().crossVectors(side, this.up);
    this.view = which === "orbit" ? this.perspective : this.flat;
    const from = which === "plan" ? this.up : which === "front" ? back : side;
    const around = side
      .clone()
      .multiplyScalar(0.75)
      .addScaledVector(this.up, 0.75)
      .addScaledVector(back, 0.55)
      .normalize();
    this.view.up.copy(which === "plan" ? back.clone().negate() : this.up);
    const narrow = Math.min(1, (this.place.clientWidth || 1) / (this.place.clientHeight || 1));
    this.view.position
      .copy(middle)
      .addScaledVector(
        which === "orbit" ? around : from,
        (radius * 2.7) / (which === "orbit" ? narrow : 1),
      );
    if (this.view === this.flat) this.flat.zoom = 1;
    this.controls?.dispose();
    this.controls = new OrbitControls(this.view, this.renderer.domElement);
    this.controls.enableRotate = which === "orbit";
    if (which !== "orbit") this.controls.mouseButtons.LEFT = THREE.MOUSE.PAN;
    this.controls.target.copy(middle);
    this.controls.addEventListener("change", () => {
      this.turnFacts();
      this.draw();
    });
    this.controls.update();
    this.resize();
  }

  line(points, color, closed = false, opacity = 1) {
    const geometry = new THREE.BufferGeometry().setFromPoints(points);
    const material = new THREE.LineBasicMaterial({color, transparent: opacity < 1, opacity});
    return new (closed ? THREE.LineLoop : THREE.LineSegments)(geometry, material);
  }

  grid({spacing, up}, reach) {
    const cells = Math.min(60, Math.max(10, Math.ceil((reach * 1.2) / spacing))),
      points = [],
      half = cells * spacing;
    const at = (a, b) => (up === "Z" ? new THREE.Vector3(a, b, 0) : new THREE.Vector3(a, 0, b));
    for (let i = -cells; i <= cells; i++)
      points.push(
        at(i * spacing, -half),
        at(i * spacing, half),
        at(-half, i * spacing),
        at(half, i * spacing),
      );
    this.scene.add(this.line(points, "#ffffff", false, 0.22));
    const origin = new THREE.Vector3();
    const ends =
      up === "Z"
        ? [
            [1, 0, 0],
            [0, 0, 1],
            [0, -1, 0],
          ]
        : [
            [1, 0, 0],
            [0, 1, 0],
            [0, 0, 1],
          ];
    ends.forEach((end, i) =>
      this.scene.add(
        this.line([origin, new THREE.Vector3(...end).multiplyScalar(spacing * 1.5)], AXES[i]),
      ),
    );
  }

  spots(all) {
    // An ellipsoid of 2 ±, never too small to be seen; and a stroke to the floor.
    const least = this.world.spacing * 0.03,
      up = this.up;
    for (const {at, plus_minus} of all) {
      const centre = new THREE.Vector3(...at),
        ball = new THREE.Mesh(
          new THREE.SphereGeometry(1, 16, 10),
          new THREE.MeshBasicMaterial({color: "#f5f2ea"}),
        );
      ball.position.copy(centre);
      ball.scale.set(...plus_minus.map(value => Math.max(2 * value, least)));
      this.scene.add(
        ball,
        this.line(
          [centre, centre.clone().addScaledVector(up, -centre.dot(up))],
          "#f5f2ea",
          false,
          0.5,
        ),
      );
    }
  }

  /**
   * The way of a camera that moved, with the points that it was solved from, each as large as twice
   * its ±.
   */
  path(path) {
    this.way = path;
    empty(this.pathGroup);
    const eyes = path.eyes.map(at => new THREE.Vector3(...at));
    const line = new THREE.Line(
      new THREE.BufferGeometry().setFromPoints(eyes),
      new THREE.LineBasicMaterial({color: "#dff3f8"}),
    );
    const every = new THREE.Points(
      new THREE.BufferGeometry().setFromPoints(eyes),
      new THREE.PointsMaterial({color: "#dff3f8", size: 3, sizeAttenuation: false}),
    );
    const count = path.points.length / 3,
      least = this.world.spacing * 0.012,
      balls = new THREE.InstancedMesh(
        new THREE.SphereGeometry(1, 8, 6),
        new THREE.MeshBasicMaterial({color: "#3CC7A5"}),
        count,
      ),
      place = new THREE.Matrix4();
    for (let i = 0; i < count; i += 1) {
      const size = path.plus_minus.slice(3 * i, 3 * i + 3).map(v => Math.max(2 * v, least));
      place.makeScale(...size).setPosition(...path.points.slice(3 * i, 3 * i + 3));
      balls.setMatrixAt(i, place);
    }
    this.pathGroup.add(line, every, balls);
    this.draw();
  }

  /**
   * The camera of the path, and the plate's card, on a picture; null: on the one that is worked on.
   */
  at(number) {
    if (!this.way) return;
    empty(this.walkGroup);
    const index = number === null ? -1 : this.way.numbers.indexOf(number);
    this.cardNow = index < 0 ? null : this.way.cards[index];
    this.ghost(this.ghosted);
    if (index >= 0) {
      const eye = new THREE.Vector3(...this.way.eyes[index]),
        corners = this.cardNow.map(at => new THREE.Vector3(...at));
      this.walkGroup.add(
        this.line(
          corners.flatMap((corner, i) => [eye, corner, corner, corners[(i + 1) % 4]]),
          "#dff3f8",
        ),
      );
    }
    this.draw();
  }

  /**
   * What the plate card shows: a canvas with another frame, which may have changed; null: the
   * plate.
   */
  frame(canvas) {
    if (canvas && !this.frames) {
      this.frames = new THREE.CanvasTexture(canvas);
      this.frames.colorSpace = THREE.SRGBColorSpace;
    }
    if (canvas) this.frames.needsUpdate = true;
    const shown = canvas ? this.frames : this.texture;
    if (!canvas && this.card?.material.map === shown) return;
    if (this.card) this.card.material.map = shown;
    this.shown = shown;
    this.draw();
  }

  /** The plate card, so strong. */
  ghost(opacity) {
    empty(this.cardGroup);
    this.ghosted = opacity;
    if (this.dome) this.dome.opacity = opacity * 0.92;
    if (this.world.card) {
      const corners = (this.cardNow || this.world.card).map(at => new THREE.Vector3(...at)),
        geometry = new THREE.BufferGeometry();
      geometry.setFromPoints([corners[0], corners[3], corners[1], corners[2]]);
      geometry.setAttribute("uv", new THREE.Float32BufferAttribute([0, 1, 0, 0, 1, 1, 1, 0], 2));
      geometry.setIndex([0, 1, 2, 2, 1, 3]);
      const card = new THREE.Mesh(
        geometry,
        new THREE.MeshBasicMaterial({
          map: this.shown || this.texture,
          side: THREE.DoubleSide,
          transparent: true,
          opacity: opacity * 0.92,
        }),
      );
      this.card = card;
      this.cardGroup.add(card, this.line(corners, "#f5f2ea", true));
    }
    this.draw();
  }

  /**
   * Every camera: its frustum, the planes of focus and of depth of field in it, and its plate of
   * facts.
   */
  cameras() {
    empty(this.cameraGroup);
    this.facts = [];
    for (const one of this.world.cameras) {
      const eye = new THREE.Vector3(...one.eye),
        ink = one.chosen ? "#dff3f8" : "#f5f2ea";
      const pyramid = corners =>
        corners.flatMap((corner, i) => [eye, corner, corner, corners[(i + 1) % 4]]);
      const end = one.end.map(at => new THREE.Vector3(...at));
      if (one.dome) {
        this.around(one, ink);
        if (one.facts.length) this.plateOfFacts(one, eye, end);
        continue;
      }
      this.cameraGroup.add(this.line(pyramid(end), ink, false, one.chosen ? 1 : 0.75));
      const sides = new THREE.BufferGeometry().setFromPoints([eye, ...end]);
      sides.setIndex([0, 1, 2, 0, 2, 3, 0, 3, 4, 0, 4, 1]);
      const glass = {color: ink, side: THREE.DoubleSide, transparent: true, depthWrite: false};
      this.cameraGroup.add(
        new THREE.Mesh(sides, new THREE.MeshBasicMaterial({...glass, opacity: one.opacity})),
      );
      if (one.focus) {
        const corners = one.focus.map(at => new THREE.Vector3(...at)),
          plane = new THREE.BufferGeometry().setFromPoints(corners);
        plane.setIndex([0, 1, 2, 0, 2, 3]);
        this.cameraGroup.add(
          this.line(corners, "#3CC7A5", true),
          new THREE.Mesh(
            plane,
            new THREE.MeshBasicMaterial({...glass, color: "#3CC7A5", opacity: 0.18}),
          ),
        );
      }
      for (const limit of one.limits)
        this.cameraGroup.add(
          this.line(
            limit.map(at => new THREE.Vector3(...at)),
            "#3CC7A5",
            true,
            0.55,
          ),
        );
      if (one.facts.length) this.plateOfFacts(one, eye, end);
    }
    this.turnFacts();
  }

  /** A panorama's picture stands around its camera; from outside one sees into its far half. */
  around({dome}, ink) {
    const position = new THREE.Float32BufferAttribute(dome.points, 3),
      lines = new THREE.BufferGeometry(),
      faces = new THREE.BufferGeometry();
    for (const [geometry, index] of [
      [lines, dome.lines],
      [faces, dome.faces],
    ]) {
      geometry.setAttribute("position", position);
      geometry.setIndex(index);
    }
    faces.setAttribute("uv", new THREE.Float32BufferAttribute(dome.at, 2));
    const thin = new THREE.LineBasicMaterial({color: ink, transparent: true, opacity: 0.3});
    this.cameraGroup.add(new THREE.LineSegments(lines, thin));
    if (!dome.shows) return;
    this.dome = new THREE.MeshBasicMaterial({
      map: this.shown || this.texture,
      transparent: true,
      opacity: (this.ghosted ?? 1) * 0.92,
      depthWrite: false,
    });
    this.cameraGroup.add(new THREE.Mesh(faces, this.dome));
  }

  plateOfFacts(one, eye, end) {
    const canvas = document.createElement("canvas"),
      size = 34,
      pad = 14,
      context = canvas.getContext("2d");
    const font = bold =>
      `${bold ? 700 : 400} ${size}px "Atkinson Hyperlegible Next Variable", "Atkinson Hyperlegible Next", sans-serif`;
    const wide = Math.max(
      ...one.facts.map((text, i) => {
        context.font = font(!i);
        return context.measureText(text).width;
      }),
    );
    canvas.width = Math.ceil(wide + 2 * pad);
    canvas.height = Math.ceil(one.facts.length * size * 1.3 + 2 * pad);
    context.fillStyle = "#fcfaf5";
    context.fillRect(0, 0, canvas.width, canvas.height);
    context.fillStyle = "#1f262b";
    one.facts.forEach((text, i) => {
      context.font = font(!i);
      context.fillText(text, pad, pad + size * (1.3 * i + 0.9));
    });
    const map = new THREE.CanvasTexture(canvas),
      width = Math.max(this.eye.length(), 1) * 0.5,
      height = (width * canvas.height) / canvas.width;
    map.colorSpace = THREE.SRGBColorSpace;
    const plate = new THREE.Mesh(
      new THREE.PlaneGeometry(width, height),
      new THREE.MeshBasicMaterial({map, side: THREE.DoubleSide}),
    );
    plate.position
      .copy(eye)
      .addScaledVector(this.up, height * 0.5 + Math.max(this.eye.length(), 1) * 0.05);
    const right = new THREE.Vector3(...one.right),
      ahead = end
        .reduce((sum, at) => sum.add(at), new THREE.Vector3())
        .multiplyScalar(0.25)
        .sub(eye);
    for (const way of [right, ahead]) way.addScaledVector(this.up, -way.dot(this.up)).normalize();
    const facing = {
      front: ahead,
      back: ahead.clone().negate(),
      right,
      left: right.clone().negate(),
      above: this.up,
    }[one.side];
    this.cameraGroup.add(plate);
    if (!facing) this.facts.push(plate);
    else plate.quaternion.copy(this.toward(facing, one.side === "above" ? ahead : this.up));
  }

  /** The turn that makes a plane face a way, its top toward `top`. */
  toward(facing, top) {
    return new THREE.Quaternion().setFromRotationMatrix(
      new THREE.Matrix4().lookAt(facing, new THREE.Vector3(), top),
    );
  }

  /** Plates of facts that face whoever looks. */
  turnFacts() {
    if (this.view) for (const plate of this.facts) plate.quaternion.copy(this.view.quaternion);
  }

  /** The plate on the stand-ins that wear it: `all` by id. */
  wear(all) {
    this.worn = all;
    this.redress();
  }

  redress() {
    empty(this.wornGroup);
    for (const [id, {points, at, faces}] of Object.entries(this.worn)) {
      if (!this.world.solids[id]) continue;
      const position = new THREE.Float32BufferAttribute(points, 3),
        uv = new THREE.Float32BufferAttribute(at, 2);
      const plain = {map: this.texture, polygonOffset: true, polygonOffsetFactor: 1};
      const looks = [
        new THREE.MeshBasicMaterial({...plain, side: THREE.DoubleSide}),
        this.marksOn
          ? striped(plain, 1, "#8A5A00")
          : new THREE.MeshBasicMaterial({...plain, side: THREE.DoubleSide}),
        striped(
          {color: "#8d8a80", polygonOffset: true, polygonOffsetFactor: 1},
          -1,
          this.marksOn ? "#9B2F22" : "#8d8a80",
        ),
      ];
      faces.forEach((index, mark) => {
        const geometry = new THREE.BufferGeometry();
        geometry.setAttribute("position", position);
        geometry.setAttribute("uv", uv);
        geometry.setIndex(index);
        if (index.length) this.wornGroup.add(new THREE.Mesh(geometry, looks[mark]));
      });
    }
    this.draw();
  }

  solids(all, chosen) {
    empty(this.group);
    for (const [id, {points, faces, lines}] of Object.entries(all)) {
      const geometry = new THREE.BufferGeometry(),
        ink = id === chosen ? "#dff3f8" : "#101416";
      geometry.setAttribute("position", new THREE.Float32BufferAttribute(points, 3));
      if (faces.length && !this.worn[id]) {
        geometry.setIndex(faces);
        const flat = geometry.toNonIndexed();
        flat.computeVertexNormals();
        this.group.add(
          new THREE.Mesh(
            flat,
            new THREE.MeshLambertMaterial({
              color: id === chosen ? "#8fd3e6" : "#d8d2c4",
              side: THREE.DoubleSide,
              transparent: true,
              opacity: 0.8,
              polygonOffset: true,
              polygonOffsetFactor: 1,
            }),
          ),
        );
      }
      const drawn = new THREE.BufferGeometry();
      drawn.setAttribute("position", geometry.getAttribute("position"));
      drawn.setIndex(lines);
      this.group.add(new THREE.LineSegments(drawn, new THREE.LineBasicMaterial({color: ink})));
    }
    this.draw();
  }

  resize() {
    const {clientWidth: w, clientHeight: h} = this.place;
    if (!w || !h) return;
    this.renderer.setSize(w, h);
    this.perspective.aspect = w / h;
    const half = (this.ball.radius * 1.15) / Math.min(1, w / h);
    Object.assign(this.flat, {
      left: (-half * w) / h,
      right: (half * w) / h,
      top: half,
      bottom: -half,
    });
    for (const view of [this.perspective, this.flat]) view.updateProjectionMatrix();
    this.draw();
  }

  draw() {
    if (this.view) this.renderer.render(this.scene, this.view);
  }
}
