// The Hand-off step: the frames that the files are written for, on the sheet's picture.

import {followClicks, showPlayhead} from "../plates/curves.js";
import {startStrip} from "../plates/strip.js";

const sheet = document.getElementById("sheet-picture");

if (sheet) {
  const table = {root: sheet, takeTiles() {}, relaid() {}};
  const strip = startStrip(table, {
    lay: canvas => sheet.append(canvas),
    shows: ({frames}) => showPlayhead(frames.frame),
  });
  followClicks(document.querySelector("article"), frame =>
    strip?.frames.show(frame - strip.frames.offset),
  );
}

// Another recipe fills the form anew.
document.querySelector("[data-recipe]")?.addEventListener("change", event => {
  const to = new URL(event.target.dataset.recipe, location);
  if (event.target.value) to.searchParams.set("recipe", event.target.value);
  location.assign(to);
});
