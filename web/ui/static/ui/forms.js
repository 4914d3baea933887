// A form marked `data-stays` stays as it was filled in when the server refuses it: it is sent from
// here, and the sentence is shown over it.

import {edit, notice} from "./app.js";

const sending = new WeakSet();

document.addEventListener("submit", event => {
  const form = event.target;
  if (event.defaultPrevented || !form.matches("[data-stays]")) return;
  event.preventDefault();
  if (sending.has(form)) return;
  sending.add(form);
  edit(send(form, event.submitter).finally(() => sending.delete(form)));
});

async function send(form, button) {
  const url = button?.getAttribute("formaction") || form.getAttribute("action") || location.href;
  let answer;
  try {
    const headers = {"X-Form": "1"}; // the server then tells where to go, and leads nowhere
    answer = await fetch(url, {method: "POST", body: new FormData(form, button), headers});
  } catch {
    return notice("The server does not answer. Nothing was changed.");
  }
  const said = answer.redirected ? {to: answer.url} : await answer.json().catch(() => null);
  if (said?.to) await done(form, new URL(said.to, location.href));
  else if (said?.problem) notice(said.problem, "bad", said);
  else if (answer.status < 500)
    form.submit(); // a page is answered, which takes this one's place
  else notice("The server could not do that.");
}

/**
 * The server has done what a form asks. Of a form marked `data-begins`, which begins long work, a
 * page that shows that by itself takes the event `begun`, and gives it a promise; else another page
 * follows.
 */
async function done(form, to) {
  const detail = {taken: null};
  if (form.matches("[data-begins]"))
    form.dispatchEvent(new CustomEvent("begun", {detail, bubbles: true}));
  return detail.taken ?? go(to);
}

/** To an address that differs from this one in its fragment at most, which wouldn't load it. */
function go(to) {
  const here = to.pathname + to.search === location.pathname + location.search;
  if (!here) return location.assign(to);
  location.hash = to.hash;
  location.reload();
}
