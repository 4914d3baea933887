// The Line-up step: a render over the plate, wiped at any angle, ghosted, flickering, as a
// difference; its alpha, the wireframe, and what is off.

import {followClicks, showPlayhead} from "../plates/curves.js";
import {Layer} from "../plates/layer.js";
import {startStrip} from "../plates/strip.js";
import {Along} from "../stage/along.js";
import {notice, typing, watchJob} from "../ui/app.js";
import {newestOnly, svg} from "../ui/draw.js";
import {LightTable} from "../ui/table.js";

const root = document.getElementById("light-table"),
  ARROW_SCALE = 20;

function start(page) {
  const table = new LightTable(root),
    layer = document.getElementById("marks");
  table.panWithLeft = event => event.button === 0;
  // From a curve to its frame.
  const report = document.querySelector(".report"),
    go = frame => strip?.frames.show(frame - strip.frames.offset);
  let strip = null;
  followClicks(report, go);
  report.addEventListener("click", event => {
    const button = event.target.closest("[data-frame]");
    if (button) go(+button.dataset.frame);
  });
  if (!page.render) {
    strip = startStrip(table, {shows: ({frames: at}) => showPlayhead(at.frame)});
    return;
  }
  const hint = document.getElementById("hint");
  // Another render lies on the plate where the chosen one isn't shown: wiped away, or in the other
  // half of the flicker.
  const other = page.against ? table.lay(page.against) : null;
  document.getElementById("against")?.addEventListener("change", event => {
    const to = new URL(location);
    to.searchParams.set("against", event.target.value);
    location.assign(to);
  });
  const query = frame =>
    new URLSearchParams({
      ...(page.returned ? {returned: page.returned} : {}),
      ...(page.frames.length ? {frame: frame - page.shift} : {}),
    });
  const layers = [page.shade, page.render, page.alpha].map(
    url => url && new Layer(table, frame => `${url}?${query(frame)}`, page.frames),
  );
  const [shade, render, alpha] = layers.map(layer => layer?.element);
  if (shade) shade.style.mixBlendMode = "multiply";
  alpha.style.visibility = "hidden"; // not fetched until it is looked at
  const [wipe, angle, ghost, rate] = ["wipe", "angle", "ghost", "rate"].map(id =>
    document.getElementById(id),
  );
  const shown = {wire: false, arrows: page.arrows.length > 0};
  let look = "over",
    on = true,
    timer = null,
    edges = null, // of the frame that is shown
    wire = page.wire, // likewise
    frame = page.frames[0];

  // The half of the picture that the render keeps: a large polygon whose edge stands at the angle
  // and at the wipe's share of the way across.
  function half(kept = true) {
    const turn = (+angle.value * Math.PI) / 180,
      [w, h] = [table.width, table.height];
    const across = [Math.cos(turn), Math.sin(turn)],
      along = [-across[1], across[0]];
    const reach = (Math.abs(across[0]) * w + Math.abs(across[1]) * h) / 2,
      edge = (2 * wipe.value - 1) * reach,
      far = w + h;
    const at = (a, b) =>
      `${w / 2 + across[0] * a + along[0] * b}px ${h / 2 + across[1] * a + along[1] * b}px`;
    const side = kept ? -far : far;
    return +wipe.value >= 1
      ? "none"
      : `polygon(${at(edge, -far)}, ${at(edge, far)}, ${at(side, far)}, ${at(side, -far)})`;
  }
  function update() {
    const visible = {over: on, difference: true, flicker: on, plate: false, alpha: false}[look];
    for (const image of [render, shade])
      if (image) image.style.visibility = visible ? "" : "hidden";
    if (other) {
      other.style.visibility = {
        over: +wipe.value < 1 || +ghost.value < 1,
        difference: true,
        flicker: !on,
        plate: false,
        alpha: false,
      }[look]
        ? ""
        : "hidden";
      other.style.clipPath = look === "over" ? half(false) : "none";
    }
    alpha.style.visibility = look === "alpha" ? "" : "hidden";
    render.style.mixBlendMode = look === "difference" ? "difference" : "";
    for (const image of [render, alpha, shade])
      if (image) {
        image.style.clipPath = half();
        image.style.opacity = image === alpha ? 1 : ghost.value;
      }
    angle.parentElement.hidden = +wipe.value >= 1;
    rate.parentElement.hidden = look !== "flicker";
    document
      .querySelectorAll("[data-look]")
      .forEach(button => button.setAttribute("aria-pressed", button.dataset.look === look));
    document
      .querySelectorAll("[data-layer]")
      .forEach(button => button.setAttribute("aria-pressed", shown[button.dataset.layer]));
    for (const layer of layers)
      if (layer && page.frames.length && layer.element.style.visibility !== "hidden")
        layer.show(frame);
    draw();
  }
  function draw() {
    layer.replaceChildren();
    if (shown.wire) {
      const group = svg("g", {transform: table.over.getAttribute("transform") || ""}, layer);
      for (const d of wire.map(flat => table.d(flat))) {
        svg("path", {d, class: "wire-case"}, group);
        svg("path", {d, class: "wire"}, group);
      }
    }
    const arrows = [
      ...(shown.arrows && (page.arrows_frame ?? frame) === frame ? page.arrows : []),
      ...(edges?.on ? edges.arrows : []),
    ];
    if (arrows.length) {
      for (const [x, y, dx, dy] of arrows) {
        const [x1, y1] = table.toScreen([x, y]),
          [x2, y2] = [x1 + dx * ARROW_SCALE, y1 + dy * ARROW_SCALE];
        svg("line", {x1, y1, x2, y2, class: "miss-case"}, layer);
        svg("line", {x1, y1, x2, y2, class: "miss"}, layer);
      }
    }
  }
  function choose(next) {
    look = look === next && next !== "over" ? "over" : next;
    clearInterval(timer);
    on = true;
    if (look === "flicker")
      timer = setInterval(() => {
        on = !on;
        update();
      }, 500 / rate.value);
    update();
  }
  // What both pictures have under the pointer, while the loupe is out.
  const ask = newestOnly(async ([x, y]) => {
    const asked = query(frame);
    asked.set("x", x);
    asked.set("y", y);
    if (strip) asked.set("at", strip.frames.frame);
    const answer = await fetch(`${page.values}?${asked}`);
    if (table.loupeOn) hint.textContent = answer.ok ? await answer.text() : "";
  });
  root.addEventListener("pointermove", event => {
    if (table.loupeOn) ask(table.toPlate(event));
  });

  // A sequence: another frame of the same pictures.
  const slider = document.getElementById("frame");
  function toFrame(next, soon = []) {
    frame = next;
    document.getElementById("kept-frame").value = frame - page.shift;
    document.querySelectorAll("#burn-in div").forEach(line => {
      line.textContent = line.textContent.replace(/ frame -?\d+ /, ` frame ${frame} `);
    });
    for (const layer of layers)
      if (layer && layer.element.style.visibility !== "hidden") layer.show(frame, soon);
    if (!page.frames.includes(frame)) hint.textContent = `The render has no frame ${frame}.`;
    else if (hint.textContent.startsWith("The render has no")) hint.textContent = "";
    draw();
  }
  const slide = by => {
    if (strip) return strip.frames.step(by);
    if (!slider) return;
    slider.value = +slider.value + by;
    document.getElementById("frame-number").value = page.frames[+slider.value];
    toFrame(page.frames[+slider.value]);
  };
  slider?.addEventListener("input", () => slide(0));

  // The plate's own edges, measured when they are asked for.
  const edgesButton = document.getElementById("edges"),
    edgesSays = document.getElementById("edges-says");
  let measuring = false;
  async function toggleEdges() {
    if (measuring) return;
    if (!edges) {
      measuring = true;
      edgesSays.hidden = false;
      const stop = new AbortController(),
        cancel = Object.assign(document.createElement("button"), {
          className: "button small",
          textContent: "Stop",
        });
      cancel.addEventListener("click", () => stop.abort());
      edgesSays.replaceChildren(
        "Measuring the plate’s edges… ",
        document.createElement("progress"),
        " ",
        cancel,
      );
      try {
        const at = strip?.frames.frame,
          url = at === undefined ? page.edges : `${page.edges}?at=${at}`,
          answer = await (await fetch(url, {signal: stop.signal})).json();
        if (answer.problem) throw new Error(answer.problem);
        if (at === strip?.frames.frame) edges = {...answer, on: false};
      } catch (error) {
        if (error.name !== "AbortError") notice(error.message);
      } finally {
        measuring = false;
      }
      if (!edges) {
        edgesSays.hidden = true; // stopped, failed, or another frame is shown by now
        return;
      }
    }
    edges.on = !edges.on;
    edgesButton.setAttribute("aria-pressed", edges.on);
    edgesSays.hidden = !edges.on;
    edgesSays.replaceChildren(
      Object.assign(document.createElement("b"), {textContent: "The plate’s edges"}),
      `${edges.says} Measured: ${edges.names.join(", ")}. The arrows are ${ARROW_SCALE} times as long.`,
    );
    draw();
  }
  edgesButton?.addEventListener("click", toggleEdges);
  // Another frame is shown: its edges haven't been measured.
  let edgesAt = null;
  const dropEdges = () => {
    edges = null;
    edgesSays.hidden = true;
    edgesButton.setAttribute("aria-pressed", false);
    draw();
  };
  const burnIn = document.getElementById("burn-in"),
    burn = document.getElementById("burn");
  const toggleBurn = () => {
    burnIn.hidden = !burnIn.hidden;
    burn.setAttribute("aria-pressed", !burnIn.hidden);
  };
  burn.addEventListener("click", toggleBurn);
  const toggle = name => {
    shown[name] = !shown[name];
    update();
  };
  for (const input of [wipe, angle, ghost]) input.addEventListener("input", update);
  rate.addEventListener("input", () => {
    if (look === "flicker") {
      look = "over";
      choose("flicker");
    }
  });
  document
    .querySelectorAll("[data-look]")
    .forEach(button => button.addEventListener("click", () => choose(button.dataset.look)));
  document
    .querySelectorAll("[data-layer]")
    .forEach(button => button.addEventListener("click", () => toggle(button.dataset.layer)));
  const keys = {o: "over", p: "plate", a: "alpha", x: "difference", k: "flicker"},
    drawn = {w: "wire", m: "arrows"};
  document.addEventListener("keydown", event => {
    if (typing(event) || event.ctrlKey || event.metaKey) return;
    const key = event.key.toLowerCase();
    if (keys[key]) choose(keys[key]);
    if (drawn[key]) toggle(drawn[key]);
    if (key === "e" && edgesButton) toggleEdges();
    if (key === "b") toggleBurn();
    if (key === "l") table.toggleLoupe();
    if (key === "j" || key === "u") slide(key === "u" ? 1 : -1);
    if (key === "," || key === ".") {
      wipe.value = +wipe.value + (key === "." ? 0.01 : -0.01);
      update();
    }
    if (key === "[" || key === "]") {
      angle.value = +angle.value + (key === "]" ? 5 : -5);
      update();
    }
  });
  table.onView(draw);
  const along = new Along(
    {seen: page.seen},
    drawn => {
      wire = drawn ? drawn.lens.map(one => one.d) : page.wire;
      draw();
    },
    null,
  );
  strip = startStrip(table, {
    shows: strip => {
      const {frames: at} = strip;
      along.show(strip);
      document.getElementById("kept-at").value = at.frame;
      showPlayhead(at.frame);
      if (edges && edgesAt !== at.frame) dropEdges();
      edgesAt = at.frame;
      if (page.frames.length)
        toFrame(at.frame, at.playing ? at.soon().map(number => number + at.offset) : []);
    },
  });
  if (page.frames.length && !strip) toFrame(frame);
  if (page.arrows.length)
    hint.textContent = `arrows are ${ARROW_SCALE} times as long as what is off`;
  update();
}

if (root) start(JSON.parse(document.getElementById("page-data").textContent));
watchJob();
