// The page of moves: the set over the plate as a move's camera sees it and as the shot's own does.

import {followClicks, showPlayhead} from "../plates/curves.js";
import {startStrip} from "../plates/strip.js";
import {typing, watchJob} from "../ui/app.js";
import {LightTable} from "../ui/table.js";
import {Over} from "./over.js";

const KEYS = {o: "ours", m: "arrows"};

function start() {
  const table = new LightTable(),
    data = document.getElementById("page-data");
  table.panWithLeft = event => event.button === 0;
  if (!data) return startStrip(table);
  const page = JSON.parse(data.textContent),
    over = new Over(table, page);
  table.onView(() => over.draw());
  document.addEventListener("keydown", event => {
    const name = KEYS[event.key.toLowerCase()];
    if (!name || typing(event) || event.ctrlKey || event.metaKey || event.altKey) return;
    over.switch(name);
  });
  for (const button of document.querySelectorAll("[data-layer]"))
    button.addEventListener("click", () => over.switch(button.dataset.layer));
  const strip = startStrip(table, {
    keeps: Object.keys(KEYS),
    shows: ({frames}) => {
      showPlayhead(frames.frame);
      over.show(frames.frame);
    },
  });
  if (!strip) over.show(page.frame);
  const report = document.getElementById("report"),
    go = frame => strip?.frames.show(frame - strip.frames.offset);
  followClicks(report, go);
  report.addEventListener("click", event => {
    const button = event.target.closest("[data-frame]");
    if (button) go(+button.dataset.frame);
  });
}

if (document.getElementById("light-table")) start();
watchJob();
