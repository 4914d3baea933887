// What others do to the shot while its page is open: who is there, and what they change.

import {notice, settled, typing, workShown} from "./app.js";

const frame = document.querySelector(".frame[data-events]");
let source = null,
  pressed = false;

// What differs between two answers of a page that shows the same.
const PASSING =
  / selected=""|<input type="hidden" name="(csrfmiddlewaretoken|base)"[^>]*>|(data-)?revision[ =]"?\d+"?|\d{4}-\d\d-\d\d \d\d:\d\d/g;
// What the table was served with, before the page's own scripts changed it; of one that no script
// draws on, nothing.
const isDrawn = document.querySelector("#table :is(canvas, #light-table)") !== null,
  tableOf = page =>
    isDrawn ? page.getElementById("table")?.innerHTML.replaceAll(PASSING, "") : "",
  served = tableOf(document);

/** What a page's scripts draw, but for the number of the revision. */
const drawn = page =>
  (page.getElementById("page-data")?.textContent || "").replace(
    /"(revision|base|head)": ?\d+/g,
    "",
  );

/**
 * Put the page as it is now in the place of what is shown; false where its table is another one,
 * which only its scripts can draw.
 */
async function renewed() {
  const answer = await fetch(location.href);
  if (!answer.ok) return false;
  const fresh = new DOMParser().parseFromString(await answer.text(), "text/html");
  if (tableOf(fresh) !== served || drawn(fresh) !== drawn(document)) return false;
  for (const place of [".head", "#steps", "#report", ...(isDrawn ? [] : ["#table"])]) {
    const now = fresh.querySelector(place),
      old = document.querySelector(place);
    if (now && old) window.Idiomorph.morph(old, now);
  }
  for (const base of document.querySelectorAll("#table [name=base]"))
    base.value = fresh.getElementById("revision").textContent;
  for (const element of document.querySelectorAll("#table [data-revision]"))
    element.dataset.revision = fresh.getElementById("revision").textContent;
  return true;
}

/**
 * Whether nothing would be lost if the page were shown anew: nothing is typed, dragged, or asked
 * for.
 */
function idle() {
  const field = document.activeElement;
  const typed = typing({target: field}) && field.value !== field.defaultValue;
  return !(
    pressed ||
    typed ||
    document.querySelector("dialog[open], .notice.bad, [aria-busy=true]")
  );
}

/**
 * Somebody else's edit. A page that can show it by itself, whatever is typed or chosen there, takes
 * the event `elsewhere`, and
 * gives it a promise; `parts`: what of the shot's state was changed, null where that isn't known;
 * `idle`: whether nothing is
 * typed or asked for. Else the report is renewed where the page is idle; it is loaded anew only
 * where its table is another one.
 */
async function moved({number, by, label, parts}) {
  const shows = () => number === +document.getElementById("revision")?.textContent;
  // The page's own edits come back here too, some while the next one is on its way.
  let own = shows();
  await settled(() => (own ||= shows()));
  if (!own) await workShown();
  own ||= shows();
  if (own || !document.getElementById("revision")) return;
  const says = `${by || "Another window"}: ${label}`;
  const detail = {number, parts, idle: idle(), taken: null};
  if (!pressed) document.dispatchEvent(new CustomEvent("elsewhere", {detail}));
  if (detail.taken) {
    await detail.taken;
    return notice(says, "good");
  }
  if (!detail.idle) return notice(says, "note", {newest: number});
  if (await renewed()) return notice(says, "good");
  sessionStorage.setItem("says", says);
  location.reload();
}

function here(others) {
  const place = document.getElementById("here");
  if (place)
    place.textContent = others.length
      ? `also here: ${others.map(({name, step}) => (step ? `${name} (${step})` : name)).join(", ")}`
      : "";
}

function listen() {
  if (document.hidden) {
    source?.close();
    source = null;
  } else if (!source) {
    const own = sessionStorage.getItem("window") || crypto.randomUUID();
    sessionStorage.setItem("window", own);
    const asked = new URLSearchParams({window: own, step: frame.dataset.step});
    source = new EventSource(`${frame.dataset.events}?${asked}`);
    source.addEventListener("moved", event => moved(JSON.parse(event.data)));
    source.addEventListener("here", event => here(JSON.parse(event.data)));
  }
}

if (frame) {
  document.addEventListener("pointerdown", () => (pressed = true), true);
  document.addEventListener("pointerup", () => (pressed = false), true);
  document.addEventListener("visibilitychange", listen);
  window.addEventListener("pagehide", () => source?.close());
  listen();
}
