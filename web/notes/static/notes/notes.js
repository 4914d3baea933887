// Notes on the plate: their pins, and a click that says where the next one goes.

import {startStrip} from "../plates/strip.js";
import {svg} from "../ui/draw.js";
import {LightTable} from "../ui/table.js";

const root = document.getElementById("light-table");
if (root) {
  const {pins} = JSON.parse(document.getElementById("page-data").textContent),
    table = new LightTable(root),
    labels = document.getElementById("labels"),
    form = document.getElementById("pin");
  let placed = null,
    down = null;
  table.panWithLeft = event => event.button === 0;
  startStrip(table, {});
  const draw = () => {
    labels.replaceChildren();
    const all = placed ? [...pins, {at: placed, text: "new", fresh: true}] : pins;
    for (const {at, text, done, fresh} of all) {
      const [x, y] = table.toScreen(at);
      const pin = svg(
        "g",
        {class: `note-pin${done ? " done" : ""}${fresh ? " fresh" : ""}`},
        labels,
      );
      svg("path", {d: `M${x} ${y}l-9-14a12 12 0 1 1 18 0z`}, pin);
      svg("text", {x, y: y - 17, "text-anchor": "middle"}, pin).textContent = text;
    }
  };
  table.onView(draw);
  // The table keeps the press for itself, to pan; it is seen before it gets there.
  const pressed = event => {
    down = [event.clientX, event.clientY];
  };
  document.addEventListener("pointerdown", pressed, true);
  root.addEventListener("click", event => {
    // A drag pans the plate; only a click pins.
    if (!form || !down || Math.hypot(event.clientX - down[0], event.clientY - down[1]) > 4) return;
    const at = table.toPlate(event);
    if (at[0] < 0 || at[1] < 0 || at[0] > table.width || at[1] > table.height) return;
    placed = at;
    [form.elements.x.value, form.elements.y.value] = at.map(value => value.toFixed(1));
    draw();
    form.elements.text.focus();
  });
}
