// What others do to the shot while its page is open: who is there, and what they change.

import {notice, settled, typing} from "./app.js";

const frame = document.querySelector(".frame[data-events]");
let source = null,
  pressed = false;

/** Whether nothing would be lost if the page were shown anew: nothing is typed, dragged, or asked for. */
function idle() {
  const field = document.activeElement;
  const typed = typing({target: field}) && field.value !== field.defaultValue;
  return !(
    pressed ||
    typed ||
    document.querySelector("dialog[open], .notice.bad, [aria-busy=true]")
  );
}

async function moved({number, by, label}) {
  await settled(); // the page's own edits come back here too
  const shown = document.getElementById("revision");
  if (!shown || number === +shown.textContent) return;
  const says = `${by || "Another window"}: ${label}`;
  if (!idle()) return notice(says, "note", {newest: number});
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
