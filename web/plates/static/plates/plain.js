// A page that only shows the plate: it is fitted, zoomed, panned and played, nothing more.

import {LightTable} from "../ui/table.js";
import {startStrip} from "./strip.js";

if (document.getElementById("light-table")) {
  const table = new LightTable();
  table.panWithLeft = event => event.button === 0;
  startStrip(table);
}
