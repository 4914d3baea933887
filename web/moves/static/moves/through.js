// Looking through a drawn move's camera, and flying it: with keys and pointer, in metres per
// second.

import * as THREE from "three";
import {drawTurned, Pictures} from "../plates/frames.js";
import {typing} from "../ui/app.js";

const WAYS = {
    ArrowUp: [0, 0, -1],
    ArrowDown: [0, 0, 1],
    ArrowLeft: [-1, 0, 0],
    ArrowRight: [1, 0, 0],
    PageUp: [0, 1, 0],
    PageDown: [0, -1, 0],
  },
  TURN = 0.25, // degrees for each pixel of a drag
  SETTLE = 0.18, // seconds in which a key's speed is reached, and lost again
  LEAST = 0.004, // metres per second: slower than that it stands
  ORBIT_M = 4, // how far ahead lies what is orbited, where nothing is looked at
  GRID_M = 12;

/** The plate of the frame that is shown, behind what the camera sees. */
class PlateBehind {
  constructor(app, place) {
    Object.assign(this, {app, on: true, size: [0, 0]});
    this.canvas = place.querySelector(".plate-behind");
    this.button = document.getElementById("plate-behind");
    this.button?.addEventListener("click", () => this.switch());
    const {strip, photograph} = app.data;
    this.offset = strip?.offset || 0;
    this.way = strip?.way || {flip: false, quarters: 0};
    this.pictures = new Pictures(
      number => (strip ? `/films/${strip.digest}/small/${number}.jpg` : photograph),
      () => this.#paint(),
    );
  }

  switch() {
    if (!this.button) return;
    this.on = !this.on;
    this.button.setAttribute("aria-pressed", this.on);
    this.#paint();
  }

  /** As large as the picture is drawn, in CSS pixels. */
  draw(width, height) {
    this.size = [width, height];
    this.#paint();
  }

  get #number() {
    const {strip} = this.app.data;
    return strip ? Math.max(strip.first, Math.min(strip.last, this.app.frame - this.offset)) : 0;
  }

  #paint() {
    const [width, height] = this.size,
      ratio = devicePixelRatio;
    if (!this.button || !width) return;
    this.canvas.width = Math.round(width * ratio);
    this.canvas.height = Math.round(height * ratio);
    this.canvas.style.width = `${width}px`;
    this.canvas.style.height = `${height}px`;
    const picture = this.on && this.pictures.get(this.#number);
    if (picture)
      drawTurned(
        this.canvas.getContext("2d"),
        picture,
        [0, 0, this.canvas.width, this.canvas.height],
        this.way,
      );
    else if (this.on) this.pictures.fetch(this.#number);
  }
}

export class Through {
  constructor(app, place) {
    Object.assign(this, {app, place, loose: false, held: new Set(), drag: null, recording: null});
    this.velocity = new THREE.Vector3();
    this.plate = new PlateBehind(app, place);
    this.renderer = new THREE.WebGLRenderer({antialias: true, alpha: true});
    this.renderer.setPixelRatio(devicePixelRatio);
    this.renderer.domElement.setAttribute("aria-label", "What the camera sees");
    place.prepend(this.renderer.domElement);
    this.scene = new THREE.Scene();
    this.camera = new THREE.PerspectiveCamera(40, 16 / 9, 0.02, 5000);
    this.#set();
    this.#listen();
    new ResizeObserver(() => this.draw()).observe(place);
  }

  #set() {
    const line = (points, color) => {
      const geometry = new THREE.BufferGeometry();
      geometry.setAttribute("position", new THREE.Float32BufferAttribute(points, 3));
      this.scene.add(new THREE.LineSegments(geometry, new THREE.LineBasicMaterial({color})));
    };
    const floor = [];
    for (let i = -GRID_M; i <= GRID_M; i += 1)
      floor.push(i, 0, -GRID_M, i, 0, GRID_M, -GRID_M, 0, i, GRID_M, 0, i);
    line(floor, "#d8d2c4");
    for (const {points, lines} of this.app.data.solids)
      line(
        lines.flatMap(([a, b]) => [...points[a], ...points[b]]),
        "#1f262b",
      );
  }

  /** The camera stands where the move has it on a frame, unless it was flown off. */
  follow() {
    if (!this.loose) {
      const {made, index} = this.app,
        turn = made.turns[index],
        matrix = new THREE.Matrix4().set(
          ...[turn[0], turn[1], turn[2], 0],
          ...[turn[3], turn[4], turn[5], 0],
          ...[turn[6], turn[7], turn[8], 0],
          ...[0, 0, 0, 1],
        );
      this.camera.position.set(...made.eyes[index]);
      this.camera.quaternion.setFromRotationMatrix(matrix);
    }
    this.draw();
  }

  /** Back onto the move. */
  back() {
    this.loose = false;
    this.follow();
  }

  /** World from camera, row by row. */
  pose() {
    this.camera.updateMatrixWorld();
    return this.camera.matrixWorld.clone().transpose().toArray();
  }

  draw() {
    const {clientWidth: width, clientHeight: height} = this.place;
    if (!width || !height) return;
    const [halfX, halfY] = this.app.made.half[this.app.index];
    this.renderer.setSize(width, height);
    // The picture's whole width or height fits; what is beyond it is shown quiet by the frame's
    // lines.
    this.camera.aspect = width / height;
    const tall = Math.max(halfY, halfX / this.camera.aspect);
    this.camera.fov = (2 * Math.atan(tall) * 180) / Math.PI;
    this.camera.updateProjectionMatrix();
    this.renderer.render(this.scene, this.camera);
    const frame = this.place.querySelector(".picture-frame"),
      across = (width * halfX) / (tall * this.camera.aspect),
      down = (height * halfY) / tall;
    frame.style.width = `${across}px`;
    frame.style.height = `${down}px`;
    this.plate.draw(across, down);
    this.place.classList.toggle("loose", this.loose);
  }

  #turn(dx, dy) {
    const euler = new THREE.Euler().setFromQuaternion(this.camera.quaternion, "YXZ");
    euler.y += (dx * TURN * Math.PI) / 180;
    euler.x = Math.max(-1.55, Math.min(1.55, euler.x + (dy * TURN * Math.PI) / 180));
    this.camera.quaternion.setFromEuler(euler);
  }

  #orbit(dx, dy) {
    const ahead = new THREE.Vector3(0, 0, -ORBIT_M).applyQuaternion(this.camera.quaternion),
      at = this.app.target
        ? new THREE.Vector3(...this.app.target)
        : this.camera.position.clone().add(ahead),
      away = this.camera.position.clone().sub(at),
      around = new THREE.Spherical().setFromVector3(away);
    around.theta -= (dx * TURN * Math.PI) / 180;
    around.phi = Math.max(0.02, Math.min(3.12, around.phi - (dy * TURN * Math.PI) / 180));
    const moved = new THREE.Vector3().setFromSpherical(around);
    this.camera.position.copy(at).add(moved);
    this.camera.lookAt(at);
  }

  #listen() {
    const canvas = this.renderer.domElement;
    canvas.addEventListener("pointerdown", event => {
      this.drag = [event.clientX, event.clientY];
      canvas.setPointerCapture(event.pointerId);
    });
    canvas.addEventListener("pointermove", event => {
      if (!this.drag) return;
      const [dx, dy] = [event.clientX - this.drag[0], event.clientY - this.drag[1]];
      this.drag = [event.clientX, event.clientY];
      this.loose = true;
      if (event.shiftKey) this.#orbit(dx, dy);
      else this.#turn(dx, dy);
      this.draw();
    });
    for (const name of ["pointerup", "pointercancel"])
      canvas.addEventListener(name, () => {
        this.drag = null;
      });
    canvas.addEventListener(
      "wheel",
      event => {
        event.preventDefault();
        this.loose = true;
        this.camera.translateZ(Math.sign(event.deltaY) * 0.1 * this.app.flySpeed);
        this.draw();
      },
      {passive: false},
    );
    document.addEventListener("keydown", event => {
      if (!WAYS[event.key] || typing(event) || event.target.type === "range") return;
      if (event.ctrlKey || event.metaKey || event.altKey) return;
      event.preventDefault();
      this.held.add(event.key);
      if (!this.flies && !this.recording) this.#run();
    });
    document.addEventListener("keyup", event => this.held.delete(event.key));
    window.addEventListener("blur", () => this.held.clear());
  }

  /** Fly as long as a key is held, and until it has come to rest. */
  #run() {
    let before = performance.now();
    this.flies = true;
    const step = now => {
      const seconds = Math.min(0.1, (now - before) / 1000);
      before = now;
      this.#go(seconds);
      this.flies = this.held.size > 0 || this.velocity.length() > LEAST;
      if (this.flies && !this.recording) requestAnimationFrame(step);
      else this.flies = false;
    };
    requestAnimationFrame(step);
  }

  /** Level across and along, up and down by the world; a camera has a mass. */
  #go(seconds) {
    if (!this.held.size && this.velocity.length() <= LEAST) return this.velocity.set(0, 0, 0);
    this.loose = true;
    const euler = new THREE.Euler().setFromQuaternion(this.camera.quaternion, "YXZ"),
      level = new THREE.Quaternion().setFromEuler(new THREE.Euler(0, euler.y, 0)),
      way = new THREE.Vector3();
    for (const key of this.held) way.add(new THREE.Vector3(...WAYS[key]));
    way.applyQuaternion(level).multiplyScalar(this.app.flySpeed);
    this.velocity.lerp(way, 1 - Math.exp(-seconds / SETTLE));
    this.camera.position.addScaledVector(this.velocity, seconds);
    this.draw();
  }

  /**
   * Record a flight from the frame that is shown on, in real time; `ended` gets seconds and poses.
   */
  record(ended) {
    const first = this.app.frame,
      seconds = [0],
      poses = [this.pose()];
    let begun = null; // the browser's clock of its first frame from now on
    this.recording = () => {
      this.recording = null;
      this.velocity.set(0, 0, 0);
      ended(first, seconds, poses);
    };
    const step = now => {
      if (!this.recording) return;
      begun ??= now;
      const at = (now - begun) / 1000;
      if (at > seconds.at(-1)) {
        this.#go(Math.min(0.1, at - seconds.at(-1)));
        seconds.push(at);
        poses.push(this.pose());
        this.app.told(first + Math.floor(at * this.app.data.rate));
      }
      requestAnimationFrame(step);
    };
    this.loose = true;
    requestAnimationFrame(step);
  }
}
