// A page that only shows the plate: it is fitted, zoomed and panned, nothing more.

import {LightTable} from "./table.js";

if (document.getElementById("light-table")) {
  const table = new LightTable();
  table.panWithLeft = event => event.button === 0;
}
