// The Line-up step: a render over the plate, wiped, ghosted, or its alpha alone.

import {typing, watchJob} from "../ui/app.js";
import {LightTable} from "../ui/table.js";

const root = document.getElementById("light-table"), layers = document.getElementById("layers");

if (root) {
  const table = new LightTable(root);
  table.panWithLeft = event => event.button === 0;
  if (layers) {
    const render = table.lay(layers.dataset.render), alpha = table.lay(layers.dataset.alpha);
    const wipe = document.getElementById("wipe"), ghost = document.getElementById("ghost");
    let look = "over";
    const update = () => {
      render.style.visibility = look === "over" ? "" : "hidden";
      alpha.style.visibility = look === "alpha" ? "" : "hidden";
      for (const image of [render, alpha]) image.style.clipPath = `inset(0 ${(1 - wipe.value) * 100}% 0 0)`;
      render.style.opacity = ghost.value;
      document.querySelectorAll("[data-look]").forEach(button => button.setAttribute("aria-pressed", button.dataset.look === look));
    };
    for (const input of [wipe, ghost]) input.addEventListener("input", update);
    const choose = next => { look = look === next ? "over" : next; update(); };
    document.querySelectorAll("[data-look]").forEach(button => button.addEventListener("click", () => { look = button.dataset.look; update(); }));
    document.addEventListener("keydown", event => {
      if (typing(event) || event.ctrlKey || event.metaKey) return;
      const key = event.key.toLowerCase();
      if (key === "a") choose("alpha");
      if (key === "p") choose("plate");
      if (key === "," || key === ".") { wipe.value = +wipe.value + (key === "." ? 0.01 : -0.01); update(); }
    });
    update();
  }
}

watchJob();
