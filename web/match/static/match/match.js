// The Match step: draws and drags marks. Every consequence (fit, grid, figures) comes from the server's core.

import {notice, post, typing} from "../ui/app.js";
import {drawPaths, LightTable, newestOnly, svg} from "../ui/table.js";
import {Aids} from "./aids.js";
import {Drawing, kindOf, nameOf, pointsOf} from "./drawing.js";
import {Leaves} from "./leaves.js";
import {putBack, queueBehind, typedIn} from "./typed.js";

const data = JSON.parse(document.getElementById("page-data").textContent);
const sheet = document.getElementById("sheet"), root = document.getElementById("light-table");
const HINTS = {
  choose: "drag a point to move it, drag the table to pan", across: "drag along an edge that runs across, or click its points", up: "drag along an edge that runs up, or click its points",
  along: "drag along an edge that runs along, or click its points", bow: "click along something straight, Enter ends it", origin: "click where 0, 0, 0 is",
  spot: "click on a point", survey: "click where the surveyed point is seen", figure: "click on the floor", cube: "click on the floor", room: "drag from one corner of the floor to the far one",
};
const LINES = ["across", "up", "along", "bow"], ON_FLOOR = ["figure", "cube", "room"], REACH = 11;

if (root) start();

function start() {
  const table = new LightTable(root), drawing = new Drawing(table);
  let {marks, overlay, residuals, revision, locked, survey} = data;
  let tool = "choose", chosen = new Set(), point = 0, drag = null, line = null, saving = Promise.resolve(), proposals = null, shown = false, beside = null, wanted = null;
  let known = new Set([...marks, ...data.facts].map(item => item.id)); // marks that the server has
  let pending = 0, busy = false; // edits on their way; whether one of them makes marks of its own

  const find = id => marks.find(mark => mark.id === id);
  const only = () => chosen.size === 1 ? find([...chosen][0]) : null;
  const clone = value => structuredClone(value);
  const freshId = letter => { for (let n = 1; ; n++) if (![...marks, ...data.facts].some(item => item.id === letter + n)) return letter + n; };
  const aids = new Aids(table, () => refresh());
  const leaves = new Leaves(sheet, {hiddenChanged: redraw});

  // Drawing ---------------------------------------------------------------------------------------------------------
  function redraw() {
    drawing.clear();
    table.over.style.display = aids.guides ? "" : "none";
    if (aids.guides) for (const label of overlay.labels) {
      const trust = label.class.startsWith("trust");
      drawing.text(label.x, label.y, label.text, label.class, trust ? 0 : 7, trust ? (label.class.endsWith("below") ? 13 : -1) : -5);
    }
    hint();
    if (!aids.straight) {
      if (shown && proposals) drawing.proposals(proposals.segments);
      for (const mark of marks) if (!leaves.hidden.has(kindOf(mark))) drawing.mark(mark, {chosen: chosen.has(mark.id), point, residual: residuals[mark.id]});
      for (const one of survey) if (one.ellipse && (tool === "survey" || leaves.open === "survey")) drawing.expected(one, one.name === wanted);
    }
    document.querySelectorAll("#evidence [data-id]").forEach(row => row.classList.toggle("chosen", chosen.has(row.dataset.id)));
    document.querySelectorAll("[data-survey]").forEach(button => button.setAttribute("aria-pressed", button.dataset.survey === wanted));
  }
  function hint() {
    const told = tool === "survey" && wanted ? `click where ${wanted} is seen` : HINTS[tool];
    document.getElementById("hint").textContent = [told, chosen.size > 1 && `${chosen.size} marks chosen`, aids.guides && overlay.says].filter(Boolean).join(" · ");
  }
  function paint() {
    drawPaths(table, overlay.paths);
    if (beside && !aids.straight) for (const path of beside.overlay.paths) svg("path", {d: path.d, class: `${path.class} beside`}, table.over);
    redraw();
  }
  function take(answer) {
    ({marks, overlay, residuals, revision, locked, survey} = answer);
    data.facts = answer.facts;
    known = new Set([...(answer.saved || marks), ...answer.facts].map(item => item.id));
    chosen = new Set([...chosen].filter(id => find(id) || data.facts.some(fact => fact.id === id)));
    if (wanted && survey.find(one => one.name === wanted)?.placed) wanted = nextSurveyed();
    paint();
  }

  // Talking to the server -------------------------------------------------------------------------------------------
  const preview = newestOnly(async wish => {
    const began = performance.now();
    const answer = await post(sheet.dataset.preview, {marks: wish, aids: aids.wish});
    if (!drag) return;
    overlay = answer.overlay;
    residuals = answer.residuals;
    paint();
    const figures = document.getElementById("figures");
    if (figures) figures.outerHTML = answer.figures;
    window.dispatchEvent(new CustomEvent("previewed", {detail: performance.now() - began}));
  });
  function renew(answer) {
    // What was drawn since it was sent is not in the answer, and is on its way or under the pointer.
    const newer = !busy && (drag || line || pending > 1);
    take(newer ? {...answer, marks, saved: answer.marks} : answer);
    const typed = typedIn(sheet);
    sheet.innerHTML = answer.report;
    putBack(sheet, typed);
    document.querySelector("header #history").replaceWith(sheet.querySelector("#history"));
    document.querySelector(".frame > #steps").replaceWith(sheet.querySelector("#steps"));
    window.htmx?.process(sheet);
    leaves.settle();
    showMark();
    redraw();
    if (answer.says) notice(answer.says, "good");
  }
  /** Ask the server for an edit, after those that are still under way. `own`: the marks are already here as they will be. */
  function ask(url, body, own = false) {
    preview.clear();
    pending += 1;
    if (!own) { busy = true; root.classList.add("waiting"); }
    saving = saving.then(async () => {
      try {
        renew(await post(url, {...body(), base: revision, aids: aids.wish}));
      } catch (error) {
        notice(error.message, "bad", error);
        if (!error.newest) await refresh();
      } finally {
        pending -= 1;
        if (!own) { busy = false; root.classList.remove("waiting"); }
      }
    });
    return saving;
  }
  /** `run`: small edits of one kind that follow each other are one revision. */
  const save = (label, run = "") => { const wish = clone(marks); return ask(sheet.dataset.save, () => ({marks: wish, label, run}), true); };
  const held = () => { if (busy) notice("One moment: the last step is still under way.", "good"); return busy; };
  queueBehind(sheet, () => pending > 0, () => saving);
  async function refresh() {
    try {
      take(await post(sheet.dataset.state, {aids: aids.wish, straight: aids.straight}));
    } catch (error) { notice(error.message); }
  }
  function showMark() {
    const place = document.getElementById("mark"), mark = [...chosen].at(-1);
    if (!place) return;
    place.replaceChildren();
    if (mark && chosen.size === 1 && known.has(mark)) window.htmx?.ajax("GET", sheet.dataset.mark.replace("ID", mark), {target: "#mark", swap: "innerHTML"});
  }
  document.body.addEventListener("evidence-changed", () => refresh().then(showMark));
  window.addEventListener("load", () => showMark());

  // Tools -----------------------------------------------------------------------------------------------------------
  function setTool(next) {
    if (locked && next !== "choose" && !ON_FLOOR.includes(next)) return notice("This camera or draft is locked. Unlock it to draw.");
    if (line) endLine();
    if (aids.straight && next !== "choose") aids.set("straight", false);
    tool = next;
    document.querySelector(".aids").open = false;
    document.querySelectorAll("[data-tool]").forEach(button => button.setAttribute("aria-pressed", button.dataset.tool === tool));
    root.classList.toggle("drawing", tool !== "choose");
    redraw();
    if (tool === "choose") table.hideLoupe();
  }
  function choose(id, which = 0, more = false) {
    if (more) chosen.has(id) ? chosen.delete(id) : chosen.add(id);
    else if (!chosen.has(id) || chosen.size > 1) chosen = new Set([id]);
    point = which;
    redraw();
    showMark();
  }
  function setPoint(mark, index, at) {
    if (mark.kind === "spot") mark.at = at; else mark.points[index] = at;
  }
  function newLine(at) {
    const bow = tool === "bow", mark = {id: freshId(bow ? "b" : "e"), kind: bow ? "bow" : "edge", ...(bow ? {} : {axis: tool}), points: [at, [...at]], sigma_px: 0.5};
    marks.push(mark);
    chosen = new Set([mark.id]);
    return mark;
  }
  /** A line drawn by clicks: its last point follows the pointer until Enter or a double click. */
  function endLine() {
    const {mark, before} = line, points = mark.points.slice(0, -1); // the last one follows the pointer
    line = null;
    const least = mark.kind === "bow" ? 3 : 2;
    if (points.length < least) {
      marks = before;
      chosen = new Set();
      redraw();
      return notice(mark.kind === "bow" ? "A bow needs three points or more: click along the thing that is straight in life." :
        "That edge has no length: press at one end, drag to the other, and let go.");
    }
    mark.points = points;
    return save(`Drew ${mark.id} ${mark.axis || "bow"}`).then(showMark);
  }
  /** Whether a press lies on the point that was placed last. */
  function onLastPoint(at) {
    const last = line.mark.points.at(-2);
    return Math.hypot(last[0] - at[0], last[1] - at[1]) * table.scale < 4;
  }
  /** Backspace while a line is drawn: its last point goes, the rest stays. */
  function takeBackPoint() {
    const {mark, before} = line;
    mark.points.splice(-2, 1);
    if (mark.points.length < 2) { marks = before; line = null; chosen = new Set(); }
    redraw();
  }
  function chooseAll(those = marks.filter(mark => !leaves.hidden.has(kindOf(mark)))) {
    chosen = new Set(those.map(mark => mark.id));
    redraw();
    showMark();
  }
  const nextSurveyed = () => (survey.find(one => !one.placed && one.ellipse) || survey.find(one => !one.placed))?.name || null;
  function placeNext(name = nextSurveyed()) {
    if (!survey.length) return notice("There is no survey yet: take a table on the Survey leaf.");
    if (!name) return notice("Every point of the survey is placed.", "good");
    wanted = name;
    setTool("survey");
  }
  async function onFloor(at) { return (await (await fetch(`${sheet.dataset.floor}?x=${at[0]}&y=${at[1]}`, {headers: {Accept: "application/json"}})).json()); }
  const dragRoom = newestOnly(async at => {
    const {at: corner} = await onFloor(at);
    if (!corner || !aids.wish.room) return;
    aids.wish.room = {...aids.wish.room, to: corner, height: aids.height};
    await refresh();
  });
  async function aidAt(at) {
    const answer = await onFloor(at);
    if (!answer.at) return notice(answer.problem);
    if (tool === "room") aids.wish.room = {from: answer.at, to: answer.at, height: aids.height};
    else aids.wish[tool === "figure" ? "figures" : "cubes"].push(answer.at);
    await refresh();
  }
  table.panWithLeft = event => event.button === 0 && tool === "choose" && !event.shiftKey && !event.target.closest("[data-mark], [data-proposal]");

  // Pointer ---------------------------------------------------------------------------------------------------------
  root.addEventListener("pointerdown", event => {
    if (event.button !== 0) return;
    root.focus({preventScroll: true});
    if (held()) return;
    const at = table.toPlate(event), before = clone(marks);
    if (ON_FLOOR.includes(tool)) {
      aidAt(at);
      if (tool === "room") { drag = {room: true}; root.setPointerCapture(event.pointerId); }
      return;
    }
    const offered = event.target.closest("[data-proposal]");
    if (offered && tool === "choose") return void ask(sheet.dataset.take, () => ({index: +offered.dataset.proposal}));
    const hit = event.target.closest("[data-mark]");
    if (tool === "choose" && !hit && event.shiftKey) {
      drag = {box: true, from: at, to: at};
      root.setPointerCapture(event.pointerId);
      return;
    }
    if (tool === "choose") {
      if (!hit) return;
      const mark = find(hit.dataset.mark), which = hit.dataset.point === undefined ? point : +hit.dataset.point;
      if (event.altKey && mark.kind !== "spot") return addPoint(mark, at);
      if (event.shiftKey) return choose(mark.id, which, true);
      const several = chosen.has(mark.id) && chosen.size > 1;
      if (!several) choose(mark.id, which);
      if (locked) return;
      const together = several ? marks.filter(m => chosen.has(m.id)) : [mark];
      drag = several || hit.dataset.point === undefined
        ? {together, whole: together.map(m => clone(pointsOf(m))), from: at, before, label: several ? `Moved ${together.length} marks` : `Moved ${nameOf(mark)}`}
        : {mark, index: +hit.dataset.point, before, label: `Moved ${nameOf(mark)}`};
      // A point grabbed beside its centre keeps its distance to the pointer: nothing jumps.
      if (drag.mark) { const held = pointsOf(mark)[drag.index]; drag.off = [held[0] - at[0], held[1] - at[1]]; }
    } else if (line && onLastPoint(at)) {
      endLine(); // a double click, or a second one on the last point
      return;
    } else if (line) {
      line.mark.points.push([...at]);
      line.mark.points[line.mark.points.length - 2] = at;
      drag = {clicking: true};
    } else if (tool === "survey") {
      if (wanted) drag = {survey: wanted, at};
    } else if (tool === "origin" || tool === "spot") {
      const origin = tool === "origin" ? marks.find(m => m.kind === "spot" && m.world?.every(v => v === 0)) : null;
      const mark = origin || {id: freshId("s"), kind: "spot", at, sigma_px: 0.5, ...(tool === "origin" ? {name: "origin", world: [0, 0, 0]} : {})};
      if (!origin) marks.push(mark); else mark.at = at;
      chosen = new Set([mark.id]); point = 0;
      drag = {mark, index: 0, before, fresh: true, label: tool === "origin" ? "Placed the origin" : `Placed ${nameOf(mark)}`};
    } else {
      const mark = newLine(at);
      point = 1;
      drag = {mark, index: 1, before, fresh: true, drawing: true, label: `Drew ${mark.id} ${tool}`};
    }
    root.setPointerCapture(event.pointerId);
    table.showLoupe(drag?.off ? pointsOf(drag.mark)[drag.index] : at, event);
    redraw();
  });
  root.addEventListener("pointermove", event => {
    if (table.panning) return;
    const at = table.toPlate(event);
    if (drag?.room) return void dragRoom(at);
    if (drag?.box) { drag.to = at; redraw(); return drawing.box(drag.from, at); }
    if (line && !drag) line.mark.points[line.mark.points.length - 1] = at;
    if (!drag || drag.clicking) {
      if (tool !== "choose" && !ON_FLOOR.includes(tool)) table.showLoupe(at, event);
      if (line) redraw();
      return;
    }
    if (drag.survey) drag.at = at;
    else if (drag.together) drag.together.forEach((mark, m) => pointsOf(mark).forEach((_, i) => setPoint(mark, i, drag.whole[m][i].map((v, k) => v + at[k] - drag.from[k]))));
    else setPoint(drag.mark, drag.index, drag.off ? at.map((v, k) => v + drag.off[k]) : at);
    drag.moved = true;
    table.showLoupe(drag.off ? pointsOf(drag.mark)[drag.index] : at, event);
    redraw();
    if (!drag.survey && (!drag.drawing || length(drag.mark) > REACH) && drag.mark?.kind !== "bow") preview(marks);
  });
  function inBox(a, b) {
    const within = p => [0, 1].every(k => p[k] >= Math.min(a[k], b[k]) && p[k] <= Math.max(a[k], b[k]));
    return marks.filter(mark => !leaves.hidden.has(kindOf(mark)) && pointsOf(mark).every(within));
  }
  const length = mark => Math.hypot(...[0, 1].map(k => (mark.points[0][k] - mark.points.at(-1)[k]) * table.scale));
  root.addEventListener("pointerup", () => {
    if (!drag) return;
    const done = drag;
    drag = null;
    if (done.room || done.clicking) return;
    if (done.box) return chooseAll(inBox(done.from, done.to));
    if (tool === "choose") table.hideLoupe();
    if (done.survey) return void ask(sheet.dataset.place, () => ({name: done.survey, at: done.at}));
    if (done.drawing && (length(done.mark) < REACH || done.mark.kind === "bow")) {  // a click: the line is drawn point by point
      line = {mark: done.mark, before: done.before};
      if (length(done.mark) >= REACH) line.mark.points.push([...line.mark.points.at(-1)]);
      redraw();
      return;
    }
    const run = done.fresh ? "" : `drag ${(done.together || [done.mark]).map(mark => mark.id).join(" ")}`;
    if (done.moved || done.fresh) save(done.label, run).then(() => { if (done.fresh) showMark(); });
  });
  root.addEventListener("pointercancel", () => { if (drag?.before) marks = drag.before; drag = null; redraw(); });
  root.addEventListener("pointerleave", () => { if (!drag) table.hideLoupe(); });

  function addPoint(mark, at) {
    if (locked) return;
    const distance = i => {
      const [a, b] = [mark.points[i], mark.points[i + 1]], d = [b[0] - a[0], b[1] - a[1]];
      const t = Math.min(1, Math.max(0, ((at[0] - a[0]) * d[0] + (at[1] - a[1]) * d[1]) / (d[0] ** 2 + d[1] ** 2 || 1)));
      return Math.hypot(a[0] + t * d[0] - at[0], a[1] + t * d[1] - at[1]);
    };
    const nearest = [...mark.points.keys()].slice(0, -1).sort((i, j) => distance(i) - distance(j))[0];
    mark.points.splice(nearest + 1, 0, at);
    chosen = new Set([mark.id]);
    point = nearest + 1;
    save(`Point put into ${nameOf(mark)}`);
  }

  // Buttons ---------------------------------------------------------------------------------------------------------
  document.querySelectorAll("[data-tool]").forEach(button => button.addEventListener("click", () => setTool(button.dataset.tool)));
  document.querySelector("[data-act=refine]").addEventListener("click", refine);
  document.querySelector("[data-act=proposals]").addEventListener("click", propose);
  sheet.addEventListener("click", async event => {
    const pick = event.target.closest("[data-pick]"), surveyed = event.target.closest("[data-survey]"), other = event.target.closest("button[data-beside]");
    if (pick) choose(pick.dataset.pick, 0, event.shiftKey);
    if (surveyed) placeNext(surveyed.dataset.survey);
    if (event.target.closest("[data-leaf]")) redraw();
    if (other) {
      const on = other.getAttribute("aria-pressed") !== "true";
      sheet.querySelectorAll("button[data-beside]").forEach(button => button.setAttribute("aria-pressed", on && button === other));
      const response = on ? await fetch(`${sheet.dataset.besideUrl}?name=${encodeURIComponent(other.dataset.beside)}`, {headers: {Accept: "application/json"}}) : null;
      beside = response?.ok ? await response.json() : null;
      document.getElementById("beside").innerHTML = beside?.html || "";
      paint();
    }
  });
  function refine() {
    if (!chosen.size) return notice("Choose a mark first (Shift + click for several), then refine it.");
    if (locked) return notice("This camera or draft is locked. Unlock it to refine.");
    const ids = [...chosen];
    return ask(sheet.dataset.refine, () => ({ids}));
  }
  async function propose() {
    shown = !shown;
    document.querySelector("[data-act=proposals]").setAttribute("aria-pressed", shown);
    const bar = document.getElementById("proposal-bar"), says = document.getElementById("proposal-says"), groups = document.getElementById("proposal-groups");
    bar.hidden = !shown;
    if (shown) {
      const answer = await found(says, groups);
      if (!answer) return;
      if (answer.problem) says.textContent = answer.problem;
      else {
        proposals = answer;
        says.textContent = answer.says;
        bar.dataset.trust = answer.trust;
        groups.replaceChildren(Object.assign(document.createElement("span"), {className: "on-table", textContent: "Click one, or take the best of"}));
        for (const [axis, words] of [["across", "X"], ["up", "Y"], ["along", "Z"], ["all", ""]]) {
          const button = Object.assign(document.createElement("button"), {className: "button small", textContent: `${words} ${axis}${answer.counts[axis] === undefined ? "" : ` (${answer.counts[axis]})`}`});
          button.addEventListener("click", () => { if (shown) propose(); ask(sheet.dataset.take, () => ({axis})); });
          groups.append(button);
        }
      }
    }
    redraw();
  }
  /** The server's proposals, with progress and a way to stop; null where it was stopped. */
  async function found(says, groups) {
    const stop = new AbortController(), cancel = Object.assign(document.createElement("button"), {className: "button small", textContent: "Stop looking"});
    cancel.addEventListener("click", () => stop.abort());
    says.textContent = "Looking for straight edges …";
    groups.replaceChildren(document.createElement("progress"), cancel);
    try {
      const response = await fetch(sheet.dataset.proposals, {headers: {Accept: "application/json"}, signal: stop.signal});
      return await response.json();
    } catch (error) {
      if (error.name !== "AbortError") notice("The server does not answer. Try again when it runs.");
      if (shown) propose();
      return null;
    } finally { groups.replaceChildren(); }
  }
  function zoomTo() {
    const some = marks.filter(mark => chosen.has(mark.id)).flatMap(pointsOf);
    if (some.length) table.frame(some);
  }

  // Keys ------------------------------------------------------------------------------------------------------------
  const toolKeys = {x: "across", y: "up", z: "along", b: "bow", o: "origin", s: "spot", escape: "choose"};
  const otherKeys = {g: () => aids.toggle("guides"), w: () => aids.toggle("walls"), m: () => aids.toggle("map"), u: () => aids.toggle("straight"), r: refine, p: propose, v: () => placeNext(), c: zoomTo};
  let nudging = null;
  document.addEventListener("keydown", event => {
    if (typing(event) || event.altKey) return;
    const key = event.key.toLowerCase();
    if (event.ctrlKey || event.metaKey) {
      if (key === "a" && tool === "choose") { event.preventDefault(); chooseAll(); }
      return;
    }
    if (key === "backspace" && line) { event.preventDefault(); return takeBackPoint(); }
    if (key === "enter" && line) { event.preventDefault(); return endLine(); }
    if (key === "escape" && (drag?.before || line)) { marks = (drag || line).before; drag = line = null; chosen = new Set(); table.hideLoupe(); return redraw(); }
    if (toolKeys[key]) return setTool(toolKeys[key]);
    if (otherKeys[key]) return otherKeys[key]();
    if (key === "[" || key === "]") {
      if (!marks.length) return;
      const at = marks.findIndex(m => chosen.has(m.id)), step = key === "]" ? 1 : -1;
      chosen = new Set();
      return choose(marks[(at + step + marks.length) % marks.length].id);
    }
    const those = marks.filter(mark => chosen.has(mark.id));
    if (!those.length) return;
    const mark = only();
    if (key === "tab" && document.activeElement === root && mark && mark.kind !== "spot") { event.preventDefault(); point = (point + 1) % mark.points.length; return redraw(); }
    if (locked && (key.startsWith("arrow") || key === "delete")) { event.preventDefault(); return notice("This camera or draft is locked. Unlock it to change its marks."); }
    if (key === "delete" || key === "backspace") {
      if (held()) return;
      marks = marks.filter(m => !chosen.has(m.id));
      chosen = new Set();
      return save(those.length > 1 ? `Removed ${those.length} marks` : `Removed ${nameOf(those[0])}`).then(showMark);
    }
    const way = {arrowleft: [-1, 0], arrowright: [1, 0], arrowup: [0, -1], arrowdown: [0, 1]}[key];
    if (!way) return;
    event.preventDefault();
    if (held()) return;
    const step = event.shiftKey ? 0.1 : 1, moved = old => old.map((v, k) => +(v + way[k] * step).toFixed(4));
    if (mark) setPoint(mark, point, moved(pointsOf(mark)[point] || pointsOf(mark)[0]));
    else those.forEach(one => pointsOf(one).forEach((old, i) => setPoint(one, i, moved(old))));
    redraw();
    clearTimeout(nudging); // a run of nudges is one edit
    nudging = setTimeout(() => { nudging = null; nudged(those); }, 250);
  });
  function nudged(those) {
    const label = those.length === 1 ? `Nudged ${nameOf(those[0])}` : `Nudged ${those.length} marks`;
    return save(label, `nudge ${those.map(mark => mark.id).join(" ")}`);
  }
  window.addEventListener("pagehide", () => { if (nudging) nudged(marks.filter(mark => chosen.has(mark.id))); });

  setTool("choose");
  paint();
  table.onView(redraw);
}
