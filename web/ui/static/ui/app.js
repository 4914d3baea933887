// What every page has: talking to the server, undo and redo, the sheet of keys, sentences that must
// be seen.

export const csrf = document.querySelector("meta[name=csrf]").content;

/**
 * POST to the server and get JSON back. Throws an Error with the server's sentence. Where the shot
 * has moved on since the page
 * was made, the error's `newest` is the number it has now, and `kept` the one under which a refused
 * version was kept.
 */
export async function post(url, body) {
  busy(1);
  try {
    return await ask(url, body);
  } finally {
    busy(-1);
  }
}

let asked = 0; // questions that the server has not answered yet

/** `aria-busy` on the page tells screen readers, and our tests, that something is under way. */
function busy(change) {
  asked += change;
  if (asked) document.body.setAttribute("aria-busy", "true");
  else document.body.removeAttribute("aria-busy");
}
document.addEventListener("htmx:beforeRequest", event => {
  const {xhr} = event.detail;
  const ended = new Promise(done => {
    xhr.addEventListener("loadend", () => setTimeout(done)); // htmx has swapped by then
  });
  edit(ended);
});

async function ask(url, body) {
  let response;
  try {
    response = await fetch(url, {
      method: "POST",
      body: JSON.stringify(body),
      headers: {
        "X-CSRFToken": csrf,
        "Content-Type": "application/json",
        Accept: "application/json",
      },
    });
  } catch {
    throw new Error(
      "The server does not answer. What you drew is still here; try again when it runs.",
    );
  }
  const answer = await response.json().catch(() => ({problem: "The server could not do that."}));
  if (!response.ok)
    throw Object.assign(new Error(answer.problem || "The server could not do that."), {
      kept: answer.kept,
      newest: answer.newest,
    });
  return answer;
}

/**
 * Show a sentence until it is put away; of what was refused because the shot has moved on, offer
 * both versions.
 */
export function notice(text, kind = "bad", {kept, newest} = {}) {
  document.querySelector(".notice")?.remove();
  const box = document.createElement("div");
  box.className = `notice ${kind}`;
  box.setAttribute("role", "alert");
  box.append(Object.assign(document.createElement("span"), {textContent: text}));
  const button = (label, act) => {
    const b = Object.assign(document.createElement("button"), {
      className: "button small",
      textContent: label,
    });
    b.addEventListener("click", act);
    box.append(b);
  };
  if (newest) button("Show the newer", () => location.reload());
  if (kept) {
    button("Take mine instead", () => {
      const url = document.querySelector(".frame").dataset.restore.replace(/0$/, kept);
      post(url, {base: newest}).then(
        () => location.reload(),
        error => notice(error.message, "bad", error),
      );
    });
  }
  if (!newest) button("Close", () => box.remove());
  document.body.append(box);
}

/** Whether keys now belong to a field that is being typed in. */
export const typing = event =>
  event.target.closest?.("input:not([type=range]), textarea, select, dialog[open]");

// What the artist has unfolded stays so when a fresh report takes the place of the old one, but for
// forms, which the server folds once they are through.
if (window.Idiomorph)
  window.Idiomorph.defaults.callbacks.beforeAttributeUpdated = (name, element, change) =>
    !(name === "open" && change === "remove" && element.matches("details:not(.choose)"));

// Edits whose answer the page has not taken yet.
const underWay = new Set();

/**
 * Note an edit: undo and redo wait until `promise`, the edit and the page's renewal, has settled.
 */
export function edit(promise) {
  underWay.add(promise);
  busy(1);
  const done = () => {
    underWay.delete(promise);
    busy(-1);
  };
  promise.then(done, done);
  return promise;
}

/**
 * All edits are saved and shown, also those that pages hold back to join them ("flush" asks for
 * them); `each` is called after every one.
 */
export async function settled(each = () => {}) {
  document.dispatchEvent(new Event("flush"));
  while (underWay.size) {
    await Promise.race([...underWay].map(one => one.catch(() => {})));
    each();
  }
}

// Undo and redo asked for and not answered yet: each goes from where the last one led.
const moves = [];

async function move(which) {
  if (!document.querySelector(".frame")) return;
  moves.push(which);
  if (moves.length > 1) return;
  await settled(); // which may put another history into the head
  const shown = document.getElementById("revision"),
    began = shown.textContent;
  try {
    for (; moves.length; moves.shift()) {
      const url = document.querySelector(".frame").dataset[moves[0]];
      const {says, revision} = await post(url, {base: +shown.textContent});
      // What is asked for before the page is loaded anew goes on from here.
      shown.textContent = revision;
      sessionStorage.setItem("says", says);
    }
  } catch (error) {
    moves.length = 0;
    if (shown.textContent === began) return notice(error.message, "bad", error);
    // The earlier ones were done, and have to be shown.
    sessionStorage.setItem("says", error.message);
  }
  location.reload();
}

document.addEventListener("click", event => {
  const history = event.target.closest("[data-history]");
  if (history) move(history.dataset.history);
  if (event.target.closest("[data-keys]")) document.getElementById("keys").showModal();
});
document.addEventListener("keydown", event => {
  if (typing(event)) return;
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z") {
    event.preventDefault();
    move(event.shiftKey ? "redo" : "undo");
  } else if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "y") {
    event.preventDefault();
    move("redo");
  } else if (event.key === "?") document.getElementById("keys").showModal();
  else if (event.key === "Delete") document.querySelector("[data-delete]")?.click();
});

document.addEventListener("htmx:beforeSwap", event => {
  // A form with sentences beside its fields comes as HTML with status 422; anything else is a
  // Problem as JSON.
  const {xhr} = event.detail;
  if (xhr.status === 422 && xhr.getResponseHeader("Content-Type").startsWith("text/html")) {
    event.detail.shouldSwap = true;
    event.detail.isError = false;
  } else if (xhr.status >= 400) {
    event.detail.shouldSwap = false;
    let answer = {};
    try {
      answer = JSON.parse(xhr.responseText);
    } catch {
      /* not ours */
    }
    notice(answer.problem || "The server could not do that.", "bad", answer);
  }
});
document.addEventListener("htmx:sendError", () =>
  notice("The server does not answer. Try again when it runs."),
);

/** Whether this page took its own place: by a reload, or by a form of it. */
export const loadedAnew = () =>
  performance.getEntriesByType("navigation")[0]?.type === "reload" ||
  document.referrer.split(/[?#]/)[0] === location.origin + location.pathname;

// Going back in the browser shows what is saved, never the page as it was left.
window.addEventListener("pageshow", event => {
  if (event.persisted) location.reload();
});

const says = sessionStorage.getItem("says");
if (says) {
  sessionStorage.removeItem("says");
  notice(says, "good");
  setTimeout(() => document.querySelector(".notice.good")?.remove(), 2500);
}

const AGAIN_MS = 3000; // after which a server that doesn't answer is asked again
// How often work is asked about: short work often, as somebody waits for it.
const SOON_MS = 100,
  LATER_MS = 400,
  SHORT_MS = 2000;
// What long work made is told before the work itself says that it ended: by so much, at most.
const TOLD_BEFORE_MS = 1500;
const followed = new Set();

/** Load the page anew; never settles, as nothing is to follow. */
export function loadAnew() {
  location.reload();
  return new Promise(() => {});
}

/** The long work that this page follows has ended and is shown, or a little while has passed. */
export function workShown() {
  if (!followed.size) return null;
  const passed = new Promise(done => setTimeout(done, TOLD_BEFORE_MS));
  return Promise.race([Promise.all(followed), passed]);
}

/**
 * Where the page shows long work, follow it; `ended` is called then, or else the page is loaded
 * anew. A server that is started anew meanwhile is asked until it answers.
 */
export function watchJob(job = document.getElementById("job"), ended = loadAnew) {
  if (!job) return;
  const bar = job.querySelector("progress"),
    began = performance.now();
  let shown;
  const end = new Promise(done => (shown = done));
  followed.add(end);
  const ask = async () => {
    let answer;
    try {
      answer = await (await fetch(job.dataset.progress)).json();
    } catch {
      return void setTimeout(ask, AGAIN_MS);
    }
    bar.value = answer.progress;
    job.querySelector("#job-says").textContent = answer.says;
    if (answer.state === "running")
      job.querySelector("b").textContent = job.dataset.doing || "Rendering";
    if (answer.state === "running" || answer.state === "waiting") {
      const short = performance.now() - began < SHORT_MS;
      return void setTimeout(ask, short ? SOON_MS : LATER_MS);
    }
    await ended();
    followed.delete(end);
    shown();
  };
  setTimeout(ask, SOON_MS);
}
