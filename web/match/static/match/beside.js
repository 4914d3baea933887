// Another draft's floor and figures beside those on screen.

import {notice} from "../ui/app.js";

export class Beside {
  /** `url`: where a draft is asked for by its name; `laid(found)`: a draft is there, or null. */
  constructor(sheet, url, laid) {
    Object.assign(this, {sheet, url, laid, wanted: null});
  }

  /** Lay the draft of a button beside, or take it away where it lies there. */
  async press(button) {
    const on = button.getAttribute("aria-pressed") !== "true";
    // Of two that were pressed in a row only the later one is laid, whichever comes first.
    const wanted = on ? button : null;
    this.wanted = wanted;
    this.#show();
    try {
      const found = on ? await this.#ask(button.dataset.beside) : null;
      if (this.wanted === wanted) this.laid(found);
    } catch (error) {
      if (this.wanted !== wanted) return;
      this.wanted = null;
      this.#show();
      this.laid(null);
      notice(error.message);
    }
  }

  #show() {
    for (const one of this.sheet.querySelectorAll("button[data-beside]"))
      one.setAttribute("aria-pressed", one === this.wanted);
  }

  async #ask(name) {
    let response;
    try {
      const headers = {Accept: "application/json"};
      response = await fetch(`${this.url}?name=${encodeURIComponent(name)}`, {headers});
    } catch {
      throw new Error("The server does not answer. Try again when it runs.");
    }
    const answer = await response.json().catch(() => ({}));
    if (!response.ok) throw new Error(answer.problem || "The server could not do that.");
    return answer;
  }
}
