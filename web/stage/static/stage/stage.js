// The Set step: stand-ins through the lens, and the same from outside. Where a drag takes one is
// computed by the server's core.

import {startStrip} from "../plates/strip.js";
import {edit, notice, post, typing} from "../ui/app.js";
import {drawPaths, newestOnly, svg} from "../ui/draw.js";
import {LightTable} from "../ui/table.js";
import {SetView} from "./set-view.js";
import {Along} from "./along.js";
import {Swap} from "./swap.js";

const root = document.getElementById("light-table");
const HINTS = {
  choose: "drag a handle; drag the table to pan",
  place: "click on the floor or on a face: it stands there",
  plan: "click the floor's corners in order, Enter closes it, Backspace takes one back",
};
const TITLES = {
  move: "move (with Ctrl: without snapping)",
  corner: "width and depth",
  top: "height",
  turn: "turn",
  across: "move across only",
  up: "move up only",
  along: "move along only",
};

function start(page) {
  const swap = new Swap(document.getElementById("table"), renew);
  document.addEventListener("elsewhere", ({detail}) => {
    if (detail.idle && !drag && !nudging) detail.taken = swap.renew();
  });
  // The lens view has the size of the picture of the camera that it looks through, and a view of
  // its own.
  [root.dataset.width, root.dataset.height] = page.picture;
  if (page.through !== "match") root.dataset.proxy += `#${page.through}`;
  root.classList.toggle("no-plate", page.card !== true);
  const table = new LightTable(root),
    layer = document.getElementById("marks");
  const form = () => document.getElementById("item-form"),
    outside = document.getElementById("set-view");
  const setView = page.world ? new SetView(outside, page.world) : null;
  let tool = "choose",
    kept = null, // the page's own drawing while another frame's is shown
    wandered = false, // whether a stand-in is drawn outside where it is on another frame
    drag = null,
    nudging = null,
    timer = null,
    corners = [];

  const hung = Array.isArray(page.card) ? hang(page.card) : null;

  /** The plate where it hangs in space: its own px go to the picture's by the map. */
  function hang(map) {
    const image = Object.assign(document.createElement("img"), {
      className: "laid",
      src: outside.dataset.plate,
      alt: "",
      draggable: false,
    });
    Object.assign(image.style, {width: `${page.plate[0]}px`, height: `${page.plate[1]}px`});
    root.querySelector("svg").before(image);
    const [a, b, c, d, e, f, g, h, i] = map,
      matrix = `matrix3d(${[a, d, 0, g, b, e, 0, h, 0, 0, 1, 0, c, f, 0, i].join(",")})`;
    return {
      image,
      /** Hang a canvas, as large as the small pictures are, in the plate's place. */
      add: canvas => {
        canvas.classList.add("laid");
        Object.assign(canvas.style, {width: `${page.plate[0]}px`, height: `${page.plate[1]}px`});
        image.after(canvas);
        hung.frames = canvas;
        hung.place();
      },
      place: () => {
        const laid = `translate(${table.x}px, ${table.y}px) scale(${table.scale}) ${matrix}`;
        for (const element of [image, hung?.frames]) if (element) element.style.transform = laid;
      },
    };
  }
  const stroke = (points, cls) =>
    svg(
      "polyline",
      {points: points.map(at => table.toScreen(at).join(",")).join(" "), class: cls, fill: "none"},
      layer,
    );
  async function wear() {
    if (!outside.dataset.worn) return;
    try {
      setView?.wear(await (await fetch(outside.dataset.worn)).json());
      setView?.solids(page.world.solids, page.chosen);
    } catch {
      /* drawn plain */
    }
  }
  function redraw() {
    layer.replaceChildren();
    hung?.place();
    for (const item of page.lens) {
      const group = svg("g", {transform: table.over.getAttribute("transform") || ""}, layer);
      const d = table.d(item.d);
      svg("path", {d, class: "wire-case"}, group);
      svg("path", {d, class: `wire ${item.id === page.chosen ? "chosen-box" : ""}`}, group);
      const hit = svg(
        "path",
        {d, class: "hit", "data-item": item.id, "vector-effect": "non-scaling-stroke"},
        group,
      );
      svg("title", {}, hit).textContent = item.locked ? `${item.name}, locked` : item.name;
    }
    const places = page.handles[page.chosen] || {};
    for (const name of ["across", "up", "along"]) {
      if (!places[name] || !places.move) continue;
      const [[x1, y1], [x2, y2]] = [table.toScreen(places.move), table.toScreen(places[name])];
      svg("line", {x1, y1, x2, y2, class: "wire-case", "stroke-width": 5}, layer);
      svg("line", {x1, y1, x2, y2, class: `arrow ${name}`}, layer);
    }
    for (const [name, at] of Object.entries(places)) {
      const [x, y] = table.toScreen(at);
      if (["across", "up", "along"].includes(name)) {
        const tip = svg(
          "circle",
          {cx: x, cy: y, r: 6, class: `handle arrow-tip ${name}`, "data-handle": name},
          layer,
        );
        svg("title", {}, tip).textContent = TITLES[name];
        continue;
      }
      const shape =
        name === "turn"
          ? svg("circle", {cx: x, cy: y, r: 7, class: "handle", "data-handle": name}, layer)
          : name === "top"
            ? svg(
                "path",
                {
                  d: `M${x - 8} ${y + 5}L${x} ${y - 8}L${x + 8} ${y + 5}Z`,
                  class: "handle",
                  "data-handle": name,
                },
                layer,
              )
            : svg(
                "rect",
                {
                  x: x - 6,
                  y: y - 6,
                  width: 12,
                  height: 12,
                  class: "handle",
                  "data-handle": name,
                  ...(name === "corner" ? {transform: `rotate(45 ${x} ${y})`} : {}),
                },
                layer,
              );
      svg("title", {}, shape).textContent = TITLES[name];
    }
    if (corners.length) {
      stroke(corners, "wire-case");
      stroke(corners, "wire chosen-box");
      for (const at of corners) {
        const [x, y] = table.toScreen(at);
        svg("circle", {cx: x, cy: y, r: 5, class: "handle"}, layer);
      }
    }
  }
  function take({lens, handles, solids, figures, moved, ...answer}) {
    if (solids) {
      // only what moves, while a drag lasts
      const byId = Object.fromEntries(lens.map(item => [item.id, item]));
      page.lens = page.lens.map(item => byId[item.id] || item);
      Object.assign(page.handles, handles);
      Object.assign(page.world.solids, solids);
    } else Object.assign(page, {lens, handles}, answer);
    for (const [name, value] of Object.entries(figures || {}))
      if (form().elements[name]) form().elements[name].value = value;
    document.querySelectorAll("input[name=base]").forEach(input => {
      input.value = page.revision;
    });
    const shown = document.getElementById("revision");
    if (shown) shown.textContent = page.revision;
    if (drag || nudging) document.getElementById("hint").textContent = moved || HINTS.choose;
    drawPaths(table, page.paths);
    redraw();
    if (setView) {
      setView.world.solids = page.world.solids;
      setView.solids(page.world.solids, page.chosen);
    }
  }
  /** Draw what another frame's camera sees; null: the page's own again. */
  function layAlong(drawn) {
    kept ||= {lens: page.lens, handles: page.handles, paths: page.paths};
    Object.assign(page, drawn || kept);
    if (!drawn) kept = null;
    drawPaths(table, page.paths);
    redraw();
    const moved = drawn?.moved || {};
    if (setView && (wandered || Object.keys(moved).length)) {
      setView.world.solids = {...page.world.solids, ...moved};
      setView.solids(setView.world.solids, page.chosen);
    }
    wandered = Object.keys(moved).length > 0;
  }
  /**
   * Take the page's data after an edit; false where the world beside the stand-ins is another one.
   */
  function renew(fresh) {
    const around = ({world, through}) => JSON.stringify([{...world, solids: null}, through]);
    if (around(fresh) !== around(page)) return false;
    kept = null;
    for (const key of Object.keys(page)) delete page[key];
    take(fresh);
    along.forget();
    wear();
    return true;
  }
  const preview = newestOnly(async wanted => {
    try {
      const answer = await post(form().dataset.drag, {...wanted, through: page.through});
      if (drag || nudging) take(answer);
    } catch (error) {
      notice(error.message);
    }
  });
  const finish = async wanted => {
    preview.clear();
    try {
      take(
        await post(form().dataset.drag, {
          ...wanted,
          done: true,
          base: page.revision,
          through: page.through,
        }),
      );
      document.querySelector("[data-history=undo]").disabled = false;
      wear();
      // One that moves may have another key now.
      if (page.items.find(item => item.id === wanted.id)?.way) await swap.renew();
    } catch (error) {
      notice(error.message, "bad", error);
      if (!error.newest) setTimeout(() => location.reload(), 1800);
    }
  };
  const go = async (url, wanted) => {
    try {
      await swap.get(
        (await post(url, {...wanted, base: page.revision, through: page.through})).url,
      );
      setTool("choose");
    } catch (error) {
      notice(error.message, "bad", error);
    }
  };
  const looking = () =>
    page.through === "match" ? "" : `&through=${encodeURIComponent(page.through)}`;
  const kind = document.getElementById("kind"),
    drawn = () => ["block", "room"].includes(kind.value);
  const setTool = next => {
    tool = next;
    if (tool !== "plan") corners = [];
    document
      .querySelectorAll("[data-tool]")
      .forEach(button =>
        button.setAttribute(
          "aria-pressed",
          (button.dataset.tool === "place") === (tool !== "choose"),
        ),
      );
    root.classList.toggle("drawing", tool !== "choose");
    document.getElementById("hint").textContent = HINTS[tool];
    if (tool === "choose") table.loupe.hide();
    redraw();
  };
  const begin = () => setTool(drawn() ? "plan" : "place");
  const typedHeight = () =>
    page.chosen ? page.sizes[kind.value][1] : form().elements.height.value;
  const close = () => {
    const wanted = corners;
    corners = [];
    edit(go(form().dataset.plan, {corners: wanted, kind: kind.value, height: typedHeight()}));
  };

  table.panWithLeft = event =>
    event.button === 0 && tool === "choose" && !event.target.closest("[data-handle], [data-item]");
  root.addEventListener("pointerdown", event => {
    if (event.button !== 0) return;
    const at = table.toPlate(event),
      handle = event.target.closest("[data-handle]"),
      item = event.target.closest("[data-item]");
    if (tool === "plan") {
      corners.push(at);
      redraw();
    } else if (tool === "place") {
      const names = ["name", "width", "height", "depth", "turn"],
        [width, height, depth] = page.sizes[kind.value];
      const typed = page.chosen
        ? {width, height, depth}
        : Object.fromEntries(names.map(name => [name, form().elements[name].value]));
      edit(go(form().dataset.place, {at, typed: {...typed, kind: kind.value}}));
    } else if (handle) {
      drag = {id: page.chosen, handle: handle.dataset.handle, at};
      root.setPointerCapture(event.pointerId);
    } else if (item && item.dataset.item !== page.chosen)
      swap.get(`?item=${item.dataset.item}${looking()}`);
  });
  root.addEventListener("pointermove", event => {
    const at = table.toPlate(event);
    if (drag) {
      Object.assign(drag, {at, moved: true, snap: !event.ctrlKey});
      preview({...drag});
    } else if (tool !== "choose" && page.card === true) table.loupe.show(at, event);
  });
  root.addEventListener("pointerup", () => {
    const done = drag;
    drag = null;
    if (done?.moved) edit(finish(done));
  });
  document
    .querySelectorAll("[data-tool]")
    .forEach(button =>
      button.addEventListener("click", () =>
        button.dataset.tool === "place" ? begin() : setTool("choose"),
      ),
    );
  kind.addEventListener("change", () => {
    if (page.chosen) begin();
    else location.assign(`?kind=${kind.value}${looking()}#new`);
  });

  // Lens view and set view: either alone, or both with a divider between them.
  const lens = document.getElementById("lens-view"),
    divider = document.getElementById("divider"),
    views = ["both", "lens", "set"];
  function show(view, share = +(sessionStorage.getItem("set-share") || 50)) {
    sessionStorage.setItem("set-views", view);
    sessionStorage.setItem("set-share", share);
    lens.style.width = view === "both" ? `${share}%` : "100%";
    outside.style.width = view === "both" ? `${100 - share}%` : "100%";
    divider.style.left = `${share}%`;
    divider.style.display = view === "both" ? "" : "none";
    lens.style.visibility = view === "set" ? "hidden" : "";
    outside.style.display = view === "lens" ? "none" : "";
    document.getElementById("looks").style.display = view === "lens" ? "none" : "";
    setView?.resize();
  }
  const next = () =>
    show(views[(views.indexOf(sessionStorage.getItem("set-views") || "both") + 1) % 3]);
  document.getElementById("views").addEventListener("click", next);
  divider.addEventListener("pointerdown", event => divider.setPointerCapture(event.pointerId));
  divider.addEventListener("pointermove", event => {
    if (!divider.hasPointerCapture(event.pointerId)) return;
    const {left, width} = divider.parentElement.getBoundingClientRect();
    show("both", Math.min(85, Math.max(15, ((event.clientX - left) / width) * 100)));
  });
  divider.addEventListener("keydown", event => {
    const step = {ArrowLeft: -2, ArrowRight: 2}[event.key];
    if (step) {
      event.stopPropagation();
      show("both", Math.min(85, Math.max(15, +(sessionStorage.getItem("set-share") || 50) + step)));
    }
  });
  document
    .getElementById("looks")
    .addEventListener("change", event => setView?.look(event.target.value));
  document.getElementById("card-ghost").addEventListener("input", event => {
    setView?.ghost(+event.target.value);
    for (const image of [table.image, table.canvas, hung?.image, ...root.querySelectorAll(".laid")])
      if (image) image.style.opacity = event.target.value;
  });
  const through = document.getElementById("through");
  const lookThrough = id => {
    const to = new URL(location);
    to.searchParams.set("through", id);
    location.assign(to);
  };
  through?.addEventListener("change", () => lookThrough(through.value));
  const marks = document.getElementById("marks-on");
  const turnMarks = () => {
    setView.marksOn = !setView.marksOn;
    marks.setAttribute("aria-pressed", setView.marksOn);
    setView.redress();
  };
  marks?.addEventListener("click", turnMarks);

  document.addEventListener("keydown", event => {
    if (typing(event) || event.ctrlKey || event.metaKey) return;
    const key = event.key.toLowerCase();
    if (key === "b") begin();
    if (key === "escape") setTool("choose");
    if (key === "v") next();
    if (key === "m" && marks) turnMarks();
    if (key === "l" && through)
      lookThrough(through.options[(through.selectedIndex + 1) % through.options.length].value);
    if (key === "d" && page.chosen) document.getElementById("duplicate")?.click();
    if (key === "h" && page.chosen) document.getElementById("hide")?.click();
    if (key === "k" && page.chosen) document.getElementById("key-here")?.click();
    if (tool === "plan" && key === "enter") {
      event.preventDefault();
      close();
    }
    if (tool === "plan" && key === "backspace") {
      event.preventDefault();
      corners.pop();
      redraw();
    }
    const way = {arrowleft: [-1, 0], arrowright: [1, 0], arrowup: [0, -1], arrowdown: [0, 1]}[key],
      place = page.handles[page.chosen]?.move;
    if (!way || !place) return;
    event.preventDefault();
    const step = event.shiftKey ? 0.1 : 1;
    if (nudging && nudging.id !== page.chosen) saveNudges(); // a run is of one stand-in
    nudging = {
      id: page.chosen,
      handle: "move",
      at: (nudging?.at || place).map((v, k) => v + way[k] * step),
    };
    preview({...nudging});
    clearTimeout(timer);
    timer = setTimeout(saveNudges, 300);
  });
  const saveNudges = () => {
    clearTimeout(timer);
    const done = nudging;
    nudging = null;
    if (done) edit(finish(done));
  };
  document.addEventListener("flush", saveNudges);

  // Large meshes take a while: how long is said before one is sent.
  document.addEventListener("change", event => {
    if (event.target.id !== "mesh_file") return;
    const mb = (event.target.files[0]?.size || 0) / 1e6,
      seconds = Math.ceil(mb * page.seconds_per_mb);
    document.getElementById("mesh-says").textContent =
      mb < 5 ? "" : `${mb.toFixed(0)} MB: about ${seconds} s.`;
  });

  // The plate plays on its card, through the lens and outside; where the lens view has no card,
  // only outside.
  const {seen, path} = outside.dataset,
    along = new Along({seen: page.through === "match" ? seen : "", path}, layAlong, setView);
  startStrip(table, {
    lay: page.card === true ? null : canvas => hung?.add(canvas),
    shows: strip => {
      along.show(strip);
      setView?.frame(strip.away ? strip.laid : null);
    },
  });
  setTool("choose");
  drawPaths(table, page.paths);
  table.onView(redraw);
  redraw();
  setView?.solids(page.world.solids, page.chosen);
  show(sessionStorage.getItem("set-views") || "both");
  wear();
  if (location.hash === "#new") {
    history.replaceState(null, "", location.pathname + location.search);
    begin();
  }
}

if (root) start(JSON.parse(document.getElementById("page-data").textContent));
