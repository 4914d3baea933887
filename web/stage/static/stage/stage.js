// The Set step: boxes through the lens, and the same from outside. Where a drag takes a box is computed by the server's core.

import * as THREE from "three";
import {OrbitControls} from "../vendor/OrbitControls.js";
import {notice, post, typing} from "../ui/app.js";
import {drawPaths, LightTable, newestOnly, svg} from "../ui/table.js";

const root = document.getElementById("light-table");
function start(page) {
  const table = new LightTable(root), layer = document.getElementById("marks");
  const form = document.getElementById("box-form");
  const setView = page.world ? new SetView(document.getElementById("set-view"), page.world) : null;
  const TITLES = {move: "move", corner: "width and depth", top: "height", turn: "turn"};
  let tool = "choose", drag = null, nudging = null, timer = null;

  function redraw() {
    layer.replaceChildren();
    for (const box of page.lens) {
      const transform = table.over.getAttribute("transform");
      const group = svg("g", {transform}, layer);
      svg("path", {d: box.d, class: "wire-case"}, group);
      svg("path", {d: box.d, class: `wire ${box.id === page.chosen ? "chosen-box" : ""}`}, group);
      const hit = svg("path", {d: box.d, class: "hit", "data-box": box.id, "vector-effect": "non-scaling-stroke"}, group);
      svg("title", {}, hit).textContent = box.name;
    }
    const places = page.handles[page.chosen] || {};
    for (const [name, at] of Object.entries(places)) {
      const [x, y] = table.toScreen(at);
      const shape = name === "turn" ? svg("circle", {cx: x, cy: y, r: 7, class: "handle", "data-handle": name}, layer)
        : name === "top" ? svg("path", {d: `M${x - 8} ${y + 5}L${x} ${y - 8}L${x + 8} ${y + 5}Z`, class: "handle", "data-handle": name}, layer)
        : svg("rect", {x: x - 6, y: y - 6, width: 12, height: 12, class: "handle", "data-handle": name, ...(name === "corner" ? {transform: `rotate(45 ${x} ${y})`} : {})}, layer);
      svg("title", {}, shape).textContent = TITLES[name];
    }
  }
  function take(answer) {
    const {chosen} = page;
    Object.assign(page, answer, {chosen});
    for (const [name, value] of Object.entries(answer.figures || {})) if (form.elements[name]) form.elements[name].value = value;
    if (form.elements.base) form.elements.base.value = page.revision;
    const shown = document.getElementById("revision");
    if (shown) shown.textContent = page.revision;
    drawPaths(table, page.paths);
    redraw();
    setView?.boxes(page.world.boxes, page.chosen);
  }
  const preview = newestOnly(async wanted => { const answer = await post(form.dataset.drag, wanted); if (drag || nudging) take(answer); });
  const finish = async wanted => {
    preview.clear();
    try {
      take(await post(form.dataset.drag, {...wanted, done: true, base: page.revision}));
      document.querySelector("[data-history=undo]").disabled = false;
    } catch (error) { notice(error.message, "bad", error.kept); if (error.kept === undefined) setTimeout(() => location.reload(), 1800); }
  };
  const setTool = next => {
    tool = next;
    document.querySelectorAll("[data-tool]").forEach(button => button.setAttribute("aria-pressed", button.dataset.tool === tool));
    root.classList.toggle("drawing", tool === "box");
    document.getElementById("hint").textContent = tool === "box" ? "click on the floor: the box stands there" : "drag a handle; drag the table to pan";
    if (tool !== "box") table.hideLoupe();
  };

  table.panWithLeft = event => event.button === 0 && tool === "choose" && !event.target.closest("[data-handle], [data-box]");
  root.addEventListener("pointerdown", async event => {
    if (event.button !== 0) return;
    const at = table.toPlate(event), handle = event.target.closest("[data-handle]"), box = event.target.closest("[data-box]");
    if (tool === "box") {
      const names = ["name", "width", "height", "depth", "turn"];
      const typed = Object.fromEntries(names.map(name => [name, form.elements[name].value]));
      if (page.chosen) delete typed.name;
      try { location.assign((await post(form.dataset.place, {at, typed, base: page.revision})).url); }
      catch (error) { notice(error.message, "bad", error.kept); }
    } else if (handle) {
      drag = {id: page.chosen, handle: handle.dataset.handle, at};
      root.setPointerCapture(event.pointerId);
    } else if (box && box.dataset.box !== page.chosen) location.assign(`?box=${box.dataset.box}`);
  });
  root.addEventListener("pointermove", event => {
    const at = table.toPlate(event);
    if (drag) { drag.at = at; drag.moved = true; preview({...drag}); }
    else if (tool === "box") table.showLoupe(at, event);
  });
  root.addEventListener("pointerup", () => { const done = drag; drag = null; if (done?.moved) finish(done); });
  document.querySelectorAll("[data-tool]").forEach(button => button.addEventListener("click", () => setTool(button.dataset.tool)));

  const views = ["both", "lens", "set"];
  function show(view) {
    sessionStorage.setItem("set-views", view);
    const lens = document.getElementById("lens-view"), outside = document.getElementById("set-view");
    lens.style.width = view === "both" ? "50%" : "100%";
    outside.style.width = view === "both" ? "50%" : "100%";
    lens.style.visibility = view === "set" ? "hidden" : "";
    outside.style.display = view === "lens" ? "none" : "";
    setView?.resize();
  }
  const next = () => show(views[(views.indexOf(sessionStorage.getItem("set-views") || "both") + 1) % 3]);
  document.getElementById("views").addEventListener("click", next);
  document.addEventListener("keydown", event => {
    if (typing(event) || event.ctrlKey || event.metaKey) return;
    const key = event.key.toLowerCase();
    if (key === "b") setTool("box");
    if (key === "escape") setTool("choose");
    if (key === "v") next();
    const way = {arrowleft: [-1, 0], arrowright: [1, 0], arrowup: [0, -1], arrowdown: [0, 1]}[key], place = page.handles[page.chosen]?.move;
    if (!way || !place) return;
    event.preventDefault();
    const step = event.shiftKey ? 0.1 : 1;
    nudging = {id: page.chosen, handle: "move", at: (nudging?.at || place).map((v, k) => v + way[k] * step)};
    preview({...nudging});
    clearTimeout(timer);
    timer = setTimeout(() => { const done = nudging; nudging = null; finish(done); }, 300);
  });

  setTool("choose");
  drawPaths(table, page.paths);
  table.onView(redraw);
  setView?.boxes(page.world.boxes, page.chosen);
  show(sessionStorage.getItem("set-views") || "both");
}

/** The set from outside: floor grid, boxes, and the camera with its frustum and the plate card in it. */
class SetView {
  constructor(place, world) {
    this.place = place;
    this.renderer = new THREE.WebGLRenderer({antialias: true});
    this.renderer.setPixelRatio(devicePixelRatio);
    place.prepend(this.renderer.domElement);
    this.renderer.domElement.setAttribute("aria-label", "The set from outside");
    this.scene = new THREE.Scene();
    this.scene.background = new THREE.Color("#5A5B5C");
    THREE.Object3D.DEFAULT_UP.set(0, world.up === "Z" ? 0 : 1, world.up === "Z" ? 1 : 0);
    const eye = new THREE.Vector3(...world.camera), reach = Math.max(eye.length(), 1);
    this.view = new THREE.PerspectiveCamera(45, 1, reach / 200, reach * 60);
    const up = new THREE.Vector3(...(world.up === "Z" ? [0, 0, 1] : [0, 1, 0]));
    this.view.up.copy(up);
    const card = world.card.map(corner => new THREE.Vector3(...corner));
    const ball = new THREE.Sphere().setFromPoints([eye, ...card]), middle = ball.center;
    const side = new THREE.Vector3(...world.right), back = new THREE.Vector3().crossVectors(side, up);
    const from = new THREE.Vector3().addScaledVector(side, 0.75).addScaledVector(up, 0.75).addScaledVector(back, 0.55).normalize();
    this.view.position.copy(middle).addScaledVector(from, ball.radius * 3);
    this.controls = new OrbitControls(this.view, this.renderer.domElement);
    this.controls.target.copy(middle);
    this.controls.addEventListener("change", () => this.draw());
    this.grid(world, reach);
    this.frustum(eye, card);
    this.group = new THREE.Group();
    this.scene.add(this.group);
    new ResizeObserver(() => this.resize()).observe(place);
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
    ends.forEach((end, i) => this.scene.add(this.line([origin, new THREE.Vector3(...end).multiplyScalar(spacing * 1.5)], ["#E0A526", "#B58CF2", "#3CC7A5"][i])));
  }
  frustum(eye, card) {
    const points = [];
    card.forEach((corner, i) => points.push(eye, corner, corner, card[(i + 1) % 4]));
    this.scene.add(this.line(points, "#f5f2ea"));
    const geometry = new THREE.BufferGeometry().setFromPoints([card[0], card[3], card[1], card[2]]);
    geometry.setAttribute("uv", new THREE.Float32BufferAttribute([0, 1, 0, 0, 1, 1, 1, 0], 2));
    geometry.setIndex([0, 1, 2, 2, 1, 3]);
    const texture = new THREE.TextureLoader().load(this.place.dataset.plate, () => this.draw());
    texture.colorSpace = THREE.SRGBColorSpace;
    this.scene.add(new THREE.Mesh(geometry, new THREE.MeshBasicMaterial({map: texture, side: THREE.DoubleSide, transparent: true, opacity: 0.92})));
  }
  boxes(all, chosen) {
    this.group.clear();
    const faces = [3, 2, 1, 3, 1, 0, 4, 5, 6, 4, 6, 7, 0, 1, 5, 0, 5, 4, 1, 2, 6, 1, 6, 5, 2, 3, 7, 2, 7, 6, 3, 0, 4, 3, 4, 7];
    const edges = [0, 1, 1, 2, 2, 3, 3, 0, 4, 5, 5, 6, 6, 7, 7, 4, 0, 4, 1, 5, 2, 6, 3, 7];
    for (const [id, corners] of Object.entries(all)) {
      const points = corners.map(corner => new THREE.Vector3(...corner));
      const geometry = new THREE.BufferGeometry().setFromPoints(points);
      geometry.setIndex(faces);
      this.group.add(new THREE.Mesh(geometry, new THREE.MeshBasicMaterial({color: id === chosen ? "#8fd3e6" : "#d8d2c4", transparent: true, opacity: 0.55, polygonOffset: true, polygonOffsetFactor: 1})));
      this.group.add(this.line(edges.map(i => points[i]), id === chosen ? "#dff3f8" : "#101416"));
    }
    this.draw();
  }
  resize() {
    const {clientWidth: w, clientHeight: h} = this.place;
    if (!w || !h) return;
    this.renderer.setSize(w, h);
    this.view.aspect = w / h;
    this.view.updateProjectionMatrix();
    this.draw();
  }
  draw() { this.renderer.render(this.scene, this.view); }
}

if (root) start(JSON.parse(document.getElementById("page-data").textContent));
