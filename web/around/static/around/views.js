// The views of a panorama: their borders and names over it.

import {watchJob} from "../ui/app.js";
import {drawPaths, svg} from "../ui/draw.js";
import {LightTable} from "../ui/table.js";

watchJob();
const root = document.getElementById("light-table");
if (root) {
  const page = JSON.parse(document.getElementById("page-data").textContent),
    table = new LightTable(root),
    labels = document.getElementById("labels");
  table.panWithLeft = event => event.button === 0;
  drawPaths(table, page.paths);
  table.onView(() => {
    labels.replaceChildren();
    for (const {at, text} of page.labels) {
      const [x, y] = table.toScreen(at);
      svg("text", {x, y, class: "text-label", "text-anchor": "middle"}, labels).textContent = text;
    }
  });
}
