// Edits that a page's script saves: one after the other, as each begins from the revision that the
// last one made.

import {edit, post} from "./app.js";

let last = Promise.resolve(); // the edit that was begun last; never rejected

/**
 * Post an edit once those before it are answered; returns the server's answer, with the page's
 * revision, its forms and its undo as the answer has them. `body()` is asked when its turn has
 * come. Throws as `post`, and the edits behind it go on.
 */
export function save(url, body) {
  const saved = last.then(async () => {
    const revision = document.getElementById("revision"),
      answer = await post(url, {...body(), base: +revision.textContent});
    revision.textContent = answer.revision;
    for (const input of document.querySelectorAll("input[name=base]"))
      input.value = answer.revision;
    const undo = document.querySelector("#history [data-history=undo]");
    undo.disabled = false;
    undo.title = `Undo: ${answer.undo_label} (Ctrl+Z)`;
    return answer;
  });
  last = saved.catch(() => {});
  return edit(saved);
}
