// Stereo over the plate: the set as both eyes see it, and by how much toeing in lifts one over the
// other.

import {startStrip} from "../plates/strip.js";
import {watchJob} from "../ui/app.js";
import {svg} from "../ui/draw.js";
import {LightTable} from "../ui/table.js";

watchJob();
const root = document.getElementById("light-table");
const LONGER = 10; // times, arrows of vertical parallax
if (root) {
  const page = JSON.parse(document.getElementById("page-data").textContent),
    table = new LightTable(root),
    layer = document.getElementById("marks");
  table.panWithLeft = event => event.button === 0;
  startStrip(table, {});
  table.onView(() => {
    layer.replaceChildren();
    const group = svg("g", {transform: table.over.getAttribute("transform") || ""}, layer);
    for (const eye of ["left", "right"])
      for (const flat of page[eye]) {
        const d = table.d(flat);
        svg("path", {d, class: "wire-case"}, group);
        svg("path", {d, class: `wire eye-${eye}`}, group);
      }
    for (const [x, y, dx, dy] of page.arrows) {
      const [x1, y1] = table.toScreen([x, y]),
        [x2, y2] = table.toScreen([x + LONGER * dx, y + LONGER * dy]);
      for (const kind of ["miss-case", "miss"]) svg("line", {x1, y1, x2, y2, class: kind}, layer);
    }
  });
}
