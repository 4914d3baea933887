// The Elements step: the layers of a render on the table.

import {typing, watchJob} from "../ui/app.js";
import {LightTable} from "../ui/table.js";

const root = document.getElementById("light-table"), layers = document.getElementById("layers");

if (root) {
  const table = new LightTable(root);
  table.panWithLeft = event => event.button === 0;
  const choose = document.getElementById("look");
  if (layers) {
    const picture = table.lay(layers.dataset.folder + choose.value);
    picture.style.background = "#000";
    const show = () => { picture.src = layers.dataset.folder + choose.value; sessionStorage.setItem("look", choose.value); };
    const last = sessionStorage.getItem("look");
    if ([...choose.options].some(option => option.value === last)) { choose.value = last; show(); }
    choose.addEventListener("change", show);
    document.addEventListener("keydown", event => {
      if (typing(event) || event.ctrlKey || event.metaKey) return;
      const step = {",": -1, ".": 1}[event.key], count = choose.options.length;
      if (step) { choose.selectedIndex = (choose.selectedIndex + step + count) % count; show(); }
    });
  }
}

watchJob();
