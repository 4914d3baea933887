// Proposals: edges that the server finds in the picture, offered to be taken.

import {notice} from "../ui/app.js";

const GROUPS = [
  ["across", "X"],
  ["up", "Y"],
  ["along", "Z"],
  ["all", ""],
];

export class Proposing {
  /**
   * `changed()` is called when what is offered changes; `take(body)` asks the server for some of
   * it.
   */
  constructor(sheet, {changed, take}) {
    Object.assign(this, {sheet, changed, take});
    this.found = null;
    this.open = false;
    this.bar = document.getElementById("proposal-bar");
    this.says = document.getElementById("proposal-says");
    this.groups = document.getElementById("proposal-groups");
    this.button = document.querySelector("[data-act=proposals]");
    this.button.addEventListener("click", () => this.toggle());
  }

  /** The segments that are offered; null while none are. */
  get segments() {
    return this.open && this.found ? this.found.segments : null;
  }

  async toggle() {
    this.open = !this.open;
    this.button.setAttribute("aria-pressed", this.open);
    this.bar.hidden = !this.open;
    if (this.open) {
      const answer = await this.#look();
      if (!answer) return;
      if (answer.problem) this.says.textContent = answer.problem;
      else this.#offer(answer);
    }
    this.changed();
  }

  #offer(answer) {
    this.found = answer;
    this.says.textContent = answer.says;
    this.bar.dataset.trust = answer.trust;
    const lead = document.createElement("span");
    lead.className = "on-table";
    lead.textContent = "Click one, or take the best of";
    this.groups.replaceChildren(lead, ...GROUPS.map(group => this.#group(...group)));
  }

  #group(axis, letter) {
    const count = this.found.counts[axis],
      button = document.createElement("button");
    button.className = "button small";
    button.textContent = `${letter} ${axis}${count === undefined ? "" : ` (${count})`}`;
    button.addEventListener("click", () => {
      if (this.open) this.toggle();
      this.take({axis});
    });
    return button;
  }

  /** The server's answer, with progress and a way to stop; null where it was stopped. */
  async #look() {
    const stop = new AbortController(),
      cancel = document.createElement("button");
    cancel.className = "button small";
    cancel.textContent = "Stop looking";
    cancel.addEventListener("click", () => stop.abort());
    this.says.textContent = "Looking for straight edges …";
    this.groups.replaceChildren(document.createElement("progress"), cancel);
    try {
      const headers = {Accept: "application/json"};
      return await (
        await fetch(this.sheet.dataset.proposals, {headers, signal: stop.signal})
      ).json();
    } catch (error) {
      if (error.name !== "AbortError")
        notice("The server does not answer. Try again when it runs.");
      if (this.open) this.toggle();
      return null;
    } finally {
      this.groups.replaceChildren();
    }
  }
}
