// The Gate page: follow a position through all grids, switch between chain and plate, set the
// guides. Knows no rule of the job.

import {startStrip} from "../plates/strip.js";
import {notice, typing} from "../ui/app.js";
import {newestOnly, svg} from "../ui/draw.js";
import {save} from "../ui/saving.js";
import {LightTable} from "../ui/table.js";

const root = document.getElementById("gate-table");
if (root) {
  const chain = document.getElementById("chain"),
    spot = document.getElementById("chain-at"),
    says = document.getElementById("sensor-at");
  let table = null;

  const follow = newestOnly(async ({x, y, grid}) => {
    const response = await fetch(`${root.dataset.follow}?x=${x}&y=${y}&grid=${grid}`, {
      headers: {Accept: "application/json"},
    });
    if (!response.ok) return;
    const {places, mm, says: text} = await response.json();
    places.forEach((place, index) => {
      document.querySelector(`[data-place="${index}"]`).textContent = place;
    });
    says.textContent = `sensor ${text}`;
    if (mm) {
      spot.setAttribute("cx", +chain.dataset.originX + mm[0] * chain.dataset.scale);
      spot.setAttribute("cy", +chain.dataset.originY + mm[1] * chain.dataset.scale);
    }
    spot.setAttribute("visibility", mm ? "visible" : "hidden");
  });

  chain.addEventListener("pointermove", event => {
    const at = new DOMPoint(event.clientX, event.clientY).matrixTransform(
      chain.getScreenCTM().inverse(),
    );
    follow({
      x: (at.x - chain.dataset.originX) / chain.dataset.scale,
      y: (at.y - chain.dataset.originY) / chain.dataset.scale,
      grid: "sensor",
    });
  });

  // Guides over the plate.
  function drawGuides(shapes) {
    if (!table) return;
    table.over.replaceChildren();
    const labels = document.getElementById("labels");
    table.guideLabels = [];
    labels.replaceChildren();
    for (const shape of shapes) {
      if (shape.kind === "mask")
        svg(
          "path",
          {
            d: shape.d,
            style: `fill: ${shape.colour}; fill-opacity: ${shape.opacity}; fill-rule: evenodd`,
            class: "guide-mask",
          },
          table.over,
        );
      else {
        svg("path", {d: shape.d, class: "guide-case"}, table.over);
        svg("path", {d: shape.d, class: `guide ${shape.kind}`}, table.over);
      }
      if (shape.says) {
        const text = svg(
          "text",
          {
            class: "text-label",
            dx: shape.end ? -6 : 6,
            dy: shape.kind === "area" ? -6 : 16,
            "text-anchor": shape.end ? "end" : "start",
          },
          labels,
        );
        text.textContent = shape.says;
        table.guideLabels.push([text, shape.at]);
      }
    }
    placeLabels();
  }
  function placeLabels() {
    for (const [text, at] of table?.guideLabels || []) {
      const [x, y] = table.toScreen(at);
      text.setAttribute("x", x);
      text.setAttribute("y", y);
    }
  }

  function openTable() {
    if (table || !document.getElementById("light-table")) return;
    table = new LightTable();
    table.onView(placeLabels);
    startStrip(table);
    drawGuides(JSON.parse(document.getElementById("guide-shapes").textContent));
    table.panWithLeft = event => event.button === 0;
    table.root.addEventListener("pointermove", event => {
      if (table.panning) return;
      const [x, y] = table.toPlate(event);
      follow({x, y, grid: root.dataset.plate});
    });
  }

  function show(pane) {
    if (!document.querySelector(`[data-pane-of=${pane}]`)) return;
    document
      .querySelectorAll("[data-pane]")
      .forEach(button => button.setAttribute("aria-pressed", button.dataset.pane === pane));
    document.querySelectorAll("[data-pane-of]").forEach(part => {
      part.hidden = part.dataset.paneOf !== pane;
    });
    document.querySelectorAll("[data-for]").forEach(part => {
      part.hidden = part.dataset.for !== pane;
    });
    sessionStorage.setItem("gate-pane", pane);
    if (pane === "plate") openTable();
  }
  document
    .querySelectorAll("[data-pane]")
    .forEach(button => button.addEventListener("click", () => show(button.dataset.pane)));
  show(sessionStorage.getItem("gate-pane") || "chain");

  document.addEventListener("keydown", event => {
    if (typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
    const key = event.key.toLowerCase();
    if (key === "c") show("chain");
    else if (key === "p") show("plate");
    else if (key === "l") table?.toggleLoupe();
    else if (key === "[" || key === "]") {
      const rows = [...document.querySelectorAll(".ledger .num-tag a")];
      rows[+root.dataset.grid + (key === "]" ? 1 : -1)]?.click();
    }
  });

  // The form of the guides.
  const form = document.getElementById("guides");
  if (form) {
    const frames = document.getElementById("frames");
    const fill = row => {
      const {aspect, opacity, colour} = row.dataset;
      row.append(
        Object.assign(document.createElement("b"), {textContent: `${+(+aspect).toFixed(3)} : 1`}),
      );
      const strength = Object.assign(document.createElement("input"), {
        type: "range",
        min: 0,
        max: 1,
        step: 0.05,
        value: opacity,
      });
      strength.setAttribute("aria-label", `Mask of ${aspect}, opacity`);
      const tint = Object.assign(document.createElement("input"), {type: "color", value: colour});
      tint.setAttribute("aria-label", `Mask of ${aspect}, colour`);
      const away = Object.assign(document.createElement("button"), {
        type: "button",
        className: "icon",
        textContent: "✕",
        title: "Take the frame away",
      });
      away.setAttribute("aria-label", `Take the frame ${aspect} away`);
      away.addEventListener("click", () => {
        row.remove();
        saveGuides();
      });
      row.append(strength, tint, away);
    };
    const add = aspect => {
      const row = Object.assign(document.createElement("div"), {className: "guide-frame"});
      Object.assign(row.dataset, {aspect, opacity: 0.6, colour: "#000000"});
      fill(row);
      frames.append(row);
      saveGuides();
    };
    const wanted = () => ({
      frames: [...frames.children].map(row => ({
        aspect: row.dataset.aspect,
        opacity: +row.querySelector("[type=range]").value,
        colour: row.querySelector("[type=color]").value,
      })),
      ...Object.fromEntries(
        [...form.querySelectorAll("[type=checkbox]")].map(box => [box.name, box.checked]),
      ),
    });
    const error = document.getElementById("guides-error");
    const saveGuides = async () => {
      show("plate");
      try {
        const {shapes} = await save(root.dataset.guides, wanted);
        error.hidden = true;
        drawGuides(shapes);
      } catch (problem) {
        if (problem.newest) {
          notice(problem.message, "bad", problem);
          return;
        }
        error.textContent = problem.message;
        error.hidden = false;
      }
    };
    [...frames.children].forEach(fill);
    form.addEventListener("change", event => {
      if (event.target.id !== "id_frame") saveGuides();
    });
    form.addEventListener("submit", event => {
      event.preventDefault();
      document.getElementById("add-frame").click();
    });
    form
      .querySelectorAll("[data-add-frame]")
      .forEach(button => button.addEventListener("click", () => add(button.dataset.addFrame)));
    document.getElementById("add-frame").addEventListener("click", () => {
      const field = document.getElementById("id_frame"),
        text = field.value.trim().replace(",", ".");
      const [a, b = "1"] = text.split(":");
      if (!(+a > 0) || !(+b > 0)) {
        error.textContent = "The aspect can’t be read: type for example 2.2 or 11:8.";
        error.hidden = false;
        return;
      }
      field.value = "";
      add(+a / +b);
    });
  }
}

const format = document.getElementById("id_format");
if (format) {
  const settle = () => {
    for (const id of ["id_width", "id_height"])
      document.getElementById(id).disabled = format.value !== "";
  };
  format.addEventListener("change", settle);
  settle();
}
const how = document.getElementById("id_how");
if (how) {
  const settle = () => {
    for (const id of ["percent", "left", "right", "top", "bottom"]) {
      document.getElementById(`id_${id}`).closest("div").hidden =
        how.value === "percent" ? id !== "percent" : how.value === "distortion" || id === "percent";
    }
  };
  how.addEventListener("change", settle);
  settle();
}
