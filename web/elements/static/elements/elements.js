// The Elements step: the layers of a render on the table.

import {typing, watchJob} from "../ui/app.js";
import {LightTable} from "../ui/table.js";

const root = document.getElementById("light-table"),
  layers = document.getElementById("layers");

if (root) {
  const table = new LightTable(root);
  table.panWithLeft = event => event.button === 0;
  const choose = document.getElementById("look");
  if (layers) {
    const picture = table.lay(layers.dataset.folder + choose.value);
    picture.style.background = "#000";
    const frame = document.getElementById("frame");
    const show = () => {
      picture.src = layers.dataset.folder + choose.value + (frame ? `?frame=${frame.value}` : "");
      sessionStorage.setItem("look", choose.value);
      if (frame) {
        document.getElementById("frame-number").value = frame.value;
        document.querySelectorAll("[data-save]").forEach(link => {
          link.href = `${link.dataset.save}&frame=${frame.value}`;
        });
      }
    };
    frame?.addEventListener("input", show);
    const last = sessionStorage.getItem("look");
    if ([...choose.options].some(option => option.value === last)) {
      choose.value = last;
      show();
    }
    choose.addEventListener("change", show);
    document.addEventListener("keydown", event => {
      if (typing(event) || event.ctrlKey || event.metaKey) return;
      const step = {",": -1, ".": 1}[event.key],
        count = choose.options.length;
      const way = {"[": -1, "]": 1}[event.key];
      if (way && frame) {
        frame.value = +frame.value + way;
        show();
      }
      if (step) {
        choose.selectedIndex = (choose.selectedIndex + step + count) % count;
        show();
      }
    });
  }
}

watchJob();
