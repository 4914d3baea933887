// A flash as the clapper: the lamps that were found, shown on the table, and the area in which to
// look for them.

import {svg} from "../ui/draw.js";

const RING = 22; // px on screen

export function startClapper(table, strip) {
  const layer = document.getElementById("marks"),
    form = document.getElementById("look-for-flashes"),
    field = form.elements.region,
    button = document.getElementById("flash-area"),
    whole = document.getElementById("flash-whole"),
    state = {drawing: false};
  let shown = null, // the flash that is looked at
    from = null;

  const corners = () => {
    const [left, top, right, bottom] = field.value.split(",").map(Number);
    return [
      [left * table.width, top * table.height],
      [right * table.width, bottom * table.height],
    ].map(at => table.toScreen(at));
  };
  function draw() {
    layer.replaceChildren();
    if (field.value && details.open) {
      const [[left, top], [right, bottom]] = corners();
      const box = {x: left, y: top, width: right - left, height: bottom - top, fill: "none"};
      svg("rect", {...box, class: "wire-case"}, layer);
      svg("rect", {...box, class: "wire"}, layer);
    }
    if (!shown || strip.frames.at !== shown.number) return;
    const [cx, cy] = table.toScreen(shown.at);
    svg("circle", {cx, cy, r: RING, fill: "none", class: "wire-case"}, layer);
    svg("circle", {cx, cy, r: RING, fill: "none", class: "wire"}, layer);
  }
  const details = document.getElementById("clapper");
  details.addEventListener("toggle", draw);
  table.onView(draw);
  strip.shows = draw;

  for (const one of details.querySelectorAll("[data-flash]"))
    one.addEventListener("click", () => {
      shown = {number: +one.dataset.flash, at: [+one.dataset.x, +one.dataset.y]};
      strip.frames.pause();
      strip.frames.show(shown.number);
      draw();
    });

  const setDrawing = on => {
    state.drawing = on;
    button.setAttribute("aria-pressed", on);
    table.root.classList.toggle("drawing", on);
  };
  button.addEventListener("click", () => setDrawing(!state.drawing));
  whole.addEventListener("click", () => {
    field.value = "";
    whole.hidden = true;
    draw();
  });
  table.root.addEventListener("pointerdown", event => {
    if (!state.drawing || event.button !== 0) return;
    from = table.toPlate(event);
    table.root.setPointerCapture(event.pointerId);
  });
  table.root.addEventListener("pointermove", event => {
    if (!from) return;
    const to = table.toPlate(event),
      sides = [table.width, table.height];
    const share = [0, 1].map(axis =>
      [from[axis], to[axis]]
        .map(value => Math.min(1, Math.max(0, value / sides[axis])))
        .sort((a, b) => a - b),
    );
    field.value = [share[0][0], share[1][0], share[0][1], share[1][1]]
      .map(value => value.toFixed(4))
      .join(",");
    whole.hidden = false;
    draw();
  });
  for (const name of ["pointerup", "pointercancel"])
    table.root.addEventListener(name, () => {
      if (from) setDrawing(false);
      from = null;
    });
  document.addEventListener("keydown", event => {
    if (event.key === "Escape") setDrawing(false);
  });
  return state;
}
