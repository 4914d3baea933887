// The Match step: draws and drags marks. Every consequence (fit, grid, figures) comes from the server's core.

import {notice, post, typing} from "../ui/app.js";
import {drawPaths, LightTable, newestOnly, svg} from "../ui/table.js";

const data = JSON.parse(document.getElementById("page-data").textContent);
const sheet = document.getElementById("sheet"), root = document.getElementById("light-table");
const HINTS = {
  choose: "drag a point to move it, drag the table to pan", across: "drag along an edge that runs across", up: "drag along an edge that runs up",
  along: "drag along an edge that runs along", origin: "click where 0, 0, 0 is", spot: "click on a point",
};
const REACH = 11;

if (root) start();

function start() {
  const table = new LightTable(root);
  const layer = document.getElementById("marks"), labels = document.getElementById("labels");
  let {marks, overlay, residuals, revision, locked} = data;
  let tool = "choose", chosen = null, point = 0, drag = null, guides = true, saving = Promise.resolve();

  const pointsOf = mark => mark.kind === "spot" ? [mark.at] : mark.points;
  const find = id => marks.find(mark => mark.id === id);
  const clone = value => structuredClone(value);
  const freshId = letter => { for (let n = 1; ; n++) if (!marks.some(mark => mark.id === letter + n)) return letter + n; };
  const nameOf = mark => mark.name || mark.id;

  // Drawing ---------------------------------------------------------------------------------------------------------
  function redraw() {
    layer.replaceChildren();
    labels.replaceChildren();
    table.over.style.display = guides ? "" : "none";
    if (guides) for (const label of overlay.labels) text(label.x, label.y, label.text, label.class, 7, -5);
    hint();
    for (const mark of marks) mark.kind === "spot" ? drawSpot(mark) : drawLine(mark);
    document.querySelectorAll("#evidence [data-id]").forEach(row => row.classList.toggle("chosen", row.dataset.id === chosen));
  }
  function hint() {
    document.getElementById("hint").textContent = [HINTS[tool], guides && overlay.says].filter(Boolean).join(" · ");
  }
  function text(x, y, content, kind, dx = 0, dy = 0) {
    const [sx, sy] = table.toScreen([x, y]);
    svg("text", {x: sx + dx, y: sy + dy, class: `text-label ${kind || ""}`}, labels).textContent = content;
  }
  function drawLine(mark) {
    const group = svg("g", {class: mark.off ? "is-off-mark" : ""}, layer);
    const d = "M" + mark.points.map(p => table.toScreen(p).join(" ")).join("L");
    if (mark.id === chosen) svg("path", {d, class: "casing chosen-line"}, group);
    svg("path", {d, class: "casing"}, group);
    svg("path", {d, class: `edge ${mark.axis || "bow"}`}, group);
    svg("path", {d, class: "hit", "data-mark": mark.id}, group);
    mark.points.forEach((p, index) => {
      const [cx, cy] = table.toScreen(p);
      svg("circle", {cx, cy, r: mark.id === chosen && index === point ? 7 : 5, class: `end ${mark.axis || ""}`, "data-mark": mark.id, "data-point": index}, group);
    });
    const [a, b] = [mark.points[0], mark.points.at(-1)];
    const off = residuals[mark.id], letter = {across: "X", up: "Y", along: "Z"}[mark.axis];
    text((a[0] + b[0]) / 2, (a[1] + b[1]) / 2, `${letter} ${off === undefined || mark.off ? "" : off.toFixed(1)}`, "res", 5, -7);
  }
  function drawSpot(mark) {
    const [x, y] = table.toScreen(mark.at), d = `M${x - 9} ${y}h18M${x} ${y - 9}v18`;
    const group = svg("g", {class: mark.off ? "is-off-mark" : ""}, layer);
    if (mark.id === chosen) svg("circle", {cx: x, cy: y, r: 13, class: "casing chosen-line"}, group);
    svg("path", {d, class: "spot-case"}, group);
    svg("path", {d, class: "spot-mark"}, group);
    svg("circle", {cx: x, cy: y, r: 10, class: "hit", fill: "transparent", "data-mark": mark.id, "data-point": 0}, group);
    text(mark.at[0], mark.at[1], nameOf(mark), "", 11, 16);
  }
  function take(answer) {
    ({marks, overlay, residuals, revision, locked} = answer);
    if (chosen && !find(chosen)) chosen = null;
    drawPaths(table, overlay.paths);
    redraw();
  }

  // Talking to the server -------------------------------------------------------------------------------------------
  const preview = newestOnly(async wanted => {
    const began = performance.now();
    const answer = await post(sheet.dataset.preview, {marks: wanted});
    if (!drag) return;
    overlay = answer.overlay;
    residuals = answer.residuals;
    drawPaths(table, overlay.paths);
    redraw();
    const figures = document.getElementById("figures");
    if (figures) figures.outerHTML = answer.figures;
    window.dispatchEvent(new CustomEvent("previewed", {detail: performance.now() - began}));
  });
  function save(label) {
    preview.clear();
    const wanted = clone(marks);
    saving = saving.then(async () => {
      try {
        const answer = await post(sheet.dataset.save, {marks: wanted, base: revision, label});
        take(answer);
        sheet.innerHTML = answer.report;
        document.querySelector("header #history").replaceWith(sheet.querySelector("#history"));
        document.querySelector(".frame > #steps").replaceWith(sheet.querySelector("#steps"));
        window.htmx?.process(sheet);
        showMark();
      } catch (error) {
        notice(error.message, "bad", error.kept);
        if (error.kept === undefined) reload();
      }
    });
    return saving;
  }
  async function reload() {
    take(await (await fetch(sheet.dataset.state)).json());
    showMark();
  }
  function showMark() {
    const place = document.getElementById("mark");
    if (!place) return;
    place.replaceChildren();
    if (chosen && find(chosen)) window.htmx?.ajax("GET", sheet.dataset.mark.replace("ID", chosen), {target: "#mark", swap: "innerHTML"});
  }
  document.body.addEventListener("evidence-changed", reload);
  window.addEventListener("load", () => showMark());

  // Tools -----------------------------------------------------------------------------------------------------------
  function setTool(next) {
    if (locked && next !== "choose") return notice("The camera of this shot is locked. Unlock it to draw.");
    tool = next;
    document.querySelectorAll("[data-tool]").forEach(button => button.setAttribute("aria-pressed", button.dataset.tool === tool));
    root.classList.toggle("drawing", tool !== "choose");
    hint();
    if (tool === "choose") table.hideLoupe();
  }
  function choose(id, which = 0) {
    const changed = id !== chosen;
    chosen = id; point = which;
    redraw();
    if (changed) showMark();
  }
  function setPoint(mark, index, at) {
    if (mark.kind === "spot") mark.at = at; else mark.points[index] = at;
  }
  table.panWithLeft = event => event.button === 0 && tool === "choose" && !event.target.closest("[data-mark]");

  root.addEventListener("pointerdown", event => {
    if (event.button !== 0) return;
    root.focus({preventScroll: true});
    const at = table.toPlate(event), before = clone(marks);
    const hit = event.target.closest("[data-mark]");
    if (tool === "choose") {
      if (!hit) return;
      const mark = find(hit.dataset.mark);
      choose(mark.id, hit.dataset.point === undefined ? point : +hit.dataset.point);
      if (locked) return;
      drag = hit.dataset.point === undefined
        ? {mark, whole: clone(pointsOf(mark)), from: at, before, label: `Moved ${nameOf(mark)}`}
        : {mark, index: +hit.dataset.point, before, label: `Moved ${nameOf(mark)}`};
    } else if (tool === "origin" || tool === "spot") {
      const origin = tool === "origin" ? marks.find(m => m.kind === "spot" && m.world?.every(v => v === 0)) : null;
      const mark = origin || {id: freshId("s"), kind: "spot", at, sigma_px: 0.5, ...(tool === "origin" ? {name: "origin", world: [0, 0, 0]} : {})};
      if (!origin) marks.push(mark); else mark.at = at;
      chosen = mark.id; point = 0;
      drag = {mark, index: 0, before, fresh: true, label: tool === "origin" ? "Placed the origin" : `Placed ${nameOf(mark)}`};
    } else {
      const mark = {id: freshId("e"), kind: "edge", axis: tool, points: [at, [...at]], sigma_px: 0.5};
      marks.push(mark);
      chosen = mark.id; point = 1;
      drag = {mark, index: 1, before, fresh: true, drawing: true, label: `Drew ${mark.id} ${tool}`};
    }
    root.setPointerCapture(event.pointerId);
    table.showLoupe(at, event);
    redraw();
  });
  root.addEventListener("pointermove", event => {
    if (table.panning) return;
    const at = table.toPlate(event);
    if (!drag) { if (tool !== "choose") table.showLoupe(at, event); return; }
    if (drag.whole) pointsOf(drag.mark).forEach((p, i) => setPoint(drag.mark, i, drag.whole[i].map((v, k) => v + at[k] - drag.from[k])));
    else setPoint(drag.mark, drag.index, at);
    drag.moved = true;
    table.showLoupe(at, event);
    redraw();
    if (!drag.drawing || length(drag.mark) > REACH) preview(marks);
  });
  const length = mark => Math.hypot(...[0, 1].map(k => (mark.points[0][k] - mark.points.at(-1)[k]) * table.scale));
  root.addEventListener("pointerup", () => {
    if (!drag) return;
    const done = drag;
    drag = null;
    if (tool === "choose") table.hideLoupe();
    if (done.drawing && length(done.mark) < REACH) {
      marks = done.before;
      chosen = null;
      redraw();
      notice("That edge has no length: press at one end, drag to the other, and let go.");
      return;
    }
    if (done.moved || done.fresh) save(done.label).then(() => { if (done.fresh) showMark(); });
  });
  root.addEventListener("pointercancel", () => { if (drag) { marks = drag.before; drag = null; redraw(); } });
  root.addEventListener("pointerleave", () => { if (!drag) table.hideLoupe(); });
  document.querySelectorAll("[data-tool]").forEach(button => button.addEventListener("click", () => setTool(button.dataset.tool)));
  sheet.addEventListener("click", event => {
    const pick = event.target.closest("[data-pick]");
    if (pick) choose(pick.dataset.pick);
  });
  document.getElementById("ghost").addEventListener("input", event => { table.image.style.opacity = event.target.value; table.canvas.style.opacity = event.target.value; });

  // Keys ------------------------------------------------------------------------------------------------------------
  const toolKeys = {x: "across", y: "up", z: "along", o: "origin", s: "spot", escape: "choose"};
  let nudging = null;
  document.addEventListener("keydown", event => {
    if (typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
    const key = event.key.toLowerCase(), mark = chosen && find(chosen);
    if (key === "escape" && drag) { marks = drag.before; drag = null; table.hideLoupe(); redraw(); return; }
    if (toolKeys[key]) return setTool(toolKeys[key]);
    if (key === "g") { guides = !guides; return redraw(); }
    if (key === "[" || key === "]") {
      if (!marks.length) return;
      const at = marks.findIndex(m => m.id === chosen), step = key === "]" ? 1 : -1;
      return choose(marks[(at + step + marks.length) % marks.length].id);
    }
    if (!mark) return;
    if (key === "tab" && document.activeElement === root && mark.kind !== "spot") { event.preventDefault(); point = (point + 1) % mark.points.length; return redraw(); }
    if (locked && (key.startsWith("arrow") || key === "delete")) { event.preventDefault(); return notice("The camera of this shot is locked. Unlock it to change its marks."); }
    if (key === "delete" || key === "backspace") {
      marks = marks.filter(m => m !== mark);
      chosen = null;
      return save(`Removed ${nameOf(mark)}`).then(showMark);
    }
    const way = {arrowleft: [-1, 0], arrowright: [1, 0], arrowup: [0, -1], arrowdown: [0, 1]}[key];
    if (!way) return;
    event.preventDefault();
    const step = event.shiftKey ? 0.1 : 1, old = pointsOf(mark)[point] || pointsOf(mark)[0];
    setPoint(mark, point, old.map((v, k) => +(v + way[k] * step).toFixed(4)));
    redraw();
    clearTimeout(nudging); // a run of nudges is one edit
    nudging = setTimeout(() => { nudging = null; save(`Nudged ${nameOf(mark)}`); }, 250);
  });
  window.addEventListener("pagehide", () => { if (nudging) save("Nudged"); });

  setTool("choose");
  drawPaths(table, overlay.paths);
  table.onView(redraw);
}
