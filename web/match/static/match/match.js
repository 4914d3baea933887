// The Match step: puts its parts together. Every consequence (fit, grid, figures) comes from the
// server's core.

import {notice, watchJob} from "../ui/app.js";
import {startStrip} from "../plates/strip.js";
import {LightTable} from "../ui/table.js";
import {Aids} from "./aids.js";
import {Asking} from "./asking.js";
import {Beside} from "./beside.js";
import {pointsOf} from "./geometry.js";
import {PathGuides} from "./guides.js";
import {Keys} from "./keys.js";
import {Leaves} from "./leaves.js";
import {Pen} from "./pen.js";
import {Proposing} from "./proposing.js";
import {Shown} from "./shown.js";
import {TrackLayer} from "./tracks.js";
import {View} from "./view.js";

// Parts of the state that the page shows by its report and marks alone, and those that it doesn't
// show.
const HERE = new Set(
  `marks facts planes drafts survey tracks path_facts path exposure focus pupil look white stand_ins
  left_out stereo range`.split(/\s+/),
);
const sheet = document.getElementById("sheet"),
  root = document.getElementById("light-table");

if (root) start(JSON.parse(document.getElementById("page-data").textContent));

function start(data) {
  const table = new LightTable(root),
    shown = new Shown(data);
  // Made below, after the leaves, which call them.
  let view = null,
    tracks = null;
  const aids = new Aids(table, () => {
    asking.refresh();
    guides.refresh();
  });
  const leaves = new Leaves(sheet, {
    hiddenChanged: () => view.redraw(),
    opened: () => {
      view?.redraw();
      tracks?.settle();
      tracks?.draw();
    },
    filled: () => {
      asking.showMark();
      view.redraw();
      tracks?.settle();
    },
  });
  const pen = new Pen({root, sheet, table, shown, aids, leaves});
  const proposing = new Proposing(sheet, {
    changed: () => view.redraw(),
    take: body => asking.ask(sheet.dataset.take, () => body),
  });
  view = new View({table, shown, aids, leaves, tools: pen, proposing});
  const asking = new Asking({sheet, root, shown, aids, leaves, view, pen});
  pen.connect(view, asking);

  function refine() {
    if (!shown.chosen.size) {
      return notice("Choose a mark first (Shift + click for several), then refine it.");
    }
    if (shown.locked) return notice("This camera or draft is locked. Unlock it to refine.");
    const ids = [...shown.chosen];
    return asking.ask(sheet.dataset.refine, () => ({ids}));
  }
  function zoomTo() {
    const points = shown.those.flatMap(pointsOf);
    if (points.length) table.frame(points);
  }
  const others = {
    c: zoomTo,
    g: () => aids.toggle("guides"),
    m: () => aids.toggle("map"),
    p: () => proposing.toggle(),
    r: refine,
    u: () => aids.toggle("straight"),
    v: () => pen.placeNext(),
    w: () => aids.toggle("walls"),
  };
  new Keys({root, shown, view, asking, pen, others});
  tracks = sheet.dataset.arrays
    ? new TrackLayer(table, sheet, {
        open: () => leaves.open === "tracks",
        send: async (url, body) => {
          await asking.ask(url, body);
          return asking.answer;
        },
        go: number => strip.frames.show(number),
        residuals: curve => strip.lay(curve),
        tiles: number => strip.frames.tilesOf(number),
      })
    : null;
  const pans = table.panWithLeft;
  table.panWithLeft = event => !tracks?.takes(event) && pans(event);
  const beside = new Beside(sheet, sheet.dataset.besideUrl, found => {
    shown.beside = found;
    const place = document.getElementById("beside");
    if (place) place.innerHTML = found?.html || "";
    view.paint();
  });
  const guides = new PathGuides(sheet.dataset.pathGuides, shown, aids, () => view.paint());
  const strip = startStrip(table, {
    draws: true,
    keeps: ["g", "m", "w"],
    shows: strip => {
      tracks?.show(strip.frames.at, strip.frames.frame);
      guides.show(strip);
    },
  });

  // Work that was begun here is followed here, and what it made is shown without loading the page
  // anew, which takes longer than many a path.
  let watched = null;
  async function showWork() {
    guides.renew(strip);
    await tracks?.fetch();
  }
  const renew = () => asking.renew().then(showWork);
  function watch() {
    const job = document.getElementById("job");
    if (!job || job === watched) return;
    watched = job;
    watchJob(job, renew);
  }
  sheet.addEventListener("begun", ({detail}) => {
    // What has ended by now is shown at once, and the rest when it ends.
    detail.taken = asking.renew().then(() => document.getElementById("job") || showWork());
  });
  // Somebody else's marks and facts come in under what is drawn here; another picture or camera is
  // another page.
  document.addEventListener("elsewhere", ({detail}) => {
    if (!detail.parts?.every(part => HERE.has(part))) return;
    const drawn = ["tracks", "path"].some(part => detail.parts.includes(part));
    detail.taken = drawn ? renew() : asking.renew();
  });

  new MutationObserver(watch).observe(sheet, {childList: true, subtree: true});
  watch();

  document.querySelector("[data-act=refine]").addEventListener("click", refine);
  sheet.addEventListener("click", event => {
    const pick = event.target.closest("[data-pick]"),
      surveyed = event.target.closest("[data-survey]");
    const draft = event.target.closest("button[data-beside]");
    if (pick) pen.choose(pick.dataset.pick, 0, event.shiftKey);
    if (surveyed) pen.placeNext(surveyed.dataset.survey);
    const range = event.target.closest("[data-range]");
    if (range) strip.markRange(range.dataset.range.split(" ").map(Number));
    if (draft) beside.press(draft);
  });

  pen.take("choose");
  view.paint();
  table.onView(() => view.redraw());
}
