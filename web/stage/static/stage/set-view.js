// The set from outside: floor grid, stand-ins, surveyed spots with their ±, the camera's frustum and the plate card. Drawn when something changes.

import * as THREE from "three";
import {OrbitControls} from "../vendor/OrbitControls.js";

const AXES = ["#E0A526", "#B58CF2", "#3CC7A5"];

export class SetView {
  constructor(place, world, card) {
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
    this.eye = new THREE.Vector3(...world.camera);
    this.up = new THREE.Vector3(...(world.up === "Z" ? [0, 0, 1] : [0, 1, 0]));
    this.perspective = new THREE.PerspectiveCamera(40, 1, Math.max(this.eye.length(), 1) / 200, Math.max(this.eye.length(), 1) * 60);
    this.flat = new THREE.OrthographicCamera(-1, 1, 1, -1, -2000, 2000);
    this.group = new THREE.Group();
    this.cardGroup = new THREE.Group();
    this.scene.add(this.group, this.cardGroup);
    this.texture = new THREE.TextureLoader().load(place.dataset.plate, () => this.draw());
    this.texture.colorSpace = THREE.SRGBColorSpace;
    this.grid(world, this.eye.length() || 5);
    this.spots(world.spots);
    this.card(card, 0.92);
    this.look("orbit");
    new ResizeObserver(() => this.resize()).observe(place);
    this.resize();
  }

  /** From around, or straight from above, from the front or the side: `which` is orbit, plan, front or side. */
  look(which) {
    const middle = this.ball.center, radius = this.ball.radius, side = new THREE.Vector3(...this.world.right);
    side.addScaledVector(this.up, -side.dot(this.up)).normalize();
    const back = new THREE.Vector3().crossVectors(side, this.up);
    this.view = which === "orbit" ? this.perspective : this.flat;
    const from = which === "plan" ? this.up : which === "front" ? back : side;
    const around = side.clone().multiplyScalar(0.75).addScaledVector(this.up, 0.75).addScaledVector(back, 0.55).normalize();
    this.view.up.copy(which === "plan" ? back.clone().negate() : this.up);
    this.view.position.copy(middle).addScaledVector(which === "orbit" ? around : from, radius * 3);
    if (this.view === this.flat) this.flat.zoom = 1;
    this.controls?.dispose();
    this.controls = new OrbitControls(this.view, this.renderer.domElement);
    this.controls.enableRotate = which === "orbit";
    if (which !== "orbit") this.controls.mouseButtons.LEFT = THREE.MOUSE.PAN;
    this.controls.target.copy(middle);
    this.controls.addEventListener("change", () => this.draw());
    this.controls.update();
    this.resize();
  }

  line(points, color, closed = false, opacity = 1) {
    const geometry = new THREE.BufferGeometry().setFromPoints(points);
    const material = new THREE.LineBasicMaterial({color, transparent: opacity < 1, opacity});
    return new (closed ? THREE.LineLoop : THREE.LineSegments)(geometry, material);
  }

  grid({spacing, up}, reach) {
    const cells = Math.min(60, Math.max(10, Math.ceil(reach * 1.2 / spacing))), points = [], half = cells * spacing;
    const at = (a, b) => up === "Z" ? new THREE.Vector3(a, b, 0) : new THREE.Vector3(a, 0, b);
    for (let i = -cells; i <= cells; i++) points.push(at(i * spacing, -half), at(i * spacing, half), at(-half, i * spacing), at(half, i * spacing));
    this.scene.add(this.line(points, "#ffffff", false, 0.22));
    const origin = new THREE.Vector3();
    const ends = up === "Z" ? [[1, 0, 0], [0, 0, 1], [0, -1, 0]] : [[1, 0, 0], [0, 1, 0], [0, 0, 1]];
    ends.forEach((end, i) => this.scene.add(this.line([origin, new THREE.Vector3(...end).multiplyScalar(spacing * 1.5)], AXES[i])));
  }

  spots(all) {
    // An ellipsoid of 2 ±, never too small to be seen; and a stroke to the floor.
    const least = this.world.spacing * 0.03, up = this.up;
    for (const {at, plus_minus} of all) {
      const centre = new THREE.Vector3(...at), ball = new THREE.Mesh(new THREE.SphereGeometry(1, 16, 10), new THREE.MeshBasicMaterial({color: "#f5f2ea"}));
      ball.position.copy(centre);
      ball.scale.set(...plus_minus.map(value => Math.max(2 * value, least)));
      this.scene.add(ball, this.line([centre, centre.clone().addScaledVector(up, -centre.dot(up))], "#f5f2ea", false, 0.5));
    }
  }

  /** The plate at `distance` metres along the axis, filling the frustum. */
  card(distance, opacity) {
    this.cardGroup.clear();
    const corners = this.world.unit_card.map(ray => new THREE.Vector3(...ray).multiplyScalar(distance).add(this.eye)), points = [];
    corners.forEach((corner, i) => points.push(this.eye, corner, corner, corners[(i + 1) % 4]));
    this.cardGroup.add(this.line(points, "#f5f2ea"));
    const geometry = new THREE.BufferGeometry().setFromPoints([corners[0], corners[3], corners[1], corners[2]]);
    geometry.setAttribute("uv", new THREE.Float32BufferAttribute([0, 1, 0, 0, 1, 1, 1, 0], 2));
    geometry.setIndex([0, 1, 2, 2, 1, 3]);
    this.cardGroup.add(new THREE.Mesh(geometry, new THREE.MeshBasicMaterial({map: this.texture, side: THREE.DoubleSide, transparent: true, opacity})));
    this.ball = new THREE.Sphere().setFromPoints([this.eye, ...corners]);
    this.draw();
  }

  solids(all, chosen) {
    this.group.clear();
    for (const [id, {points, faces, lines}] of Object.entries(all)) {
      const geometry = new THREE.BufferGeometry(), ink = id === chosen ? "#dff3f8" : "#101416";
      geometry.setAttribute("position", new THREE.Float32BufferAttribute(points, 3));
      if (faces.length) {
        geometry.setIndex(faces);
        const flat = geometry.toNonIndexed();
        flat.computeVertexNormals();
        this.group.add(new THREE.Mesh(flat, new THREE.MeshLambertMaterial({
          color: id === chosen ? "#8fd3e6" : "#d8d2c4", side: THREE.DoubleSide, transparent: true, opacity: 0.8, polygonOffset: true, polygonOffsetFactor: 1})));
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
    const half = this.ball.radius * 1.15;
    Object.assign(this.flat, {left: -half * w / h, right: half * w / h, top: half, bottom: -half});
    for (const view of [this.perspective, this.flat]) view.updateProjectionMatrix();
    this.draw();
  }

  draw() { if (this.view) this.renderer.render(this.scene, this.view); }
}
