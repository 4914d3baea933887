// Edits and links of the Set page's report without loading the page anew: the parts that changed are
// swapped, the views stay as they are. Where more than the report changed, the page is loaded.

import {edit, notice} from "../ui/app.js";

const PARTS = ["#report", "#history", "#steps"];
// What is chosen in the table's own lists may differ.
const plain = table => table.innerHTML.replaceAll(' selected=""', "");

export class Swap {
  /**
   * @param {HTMLElement} table  what has to be the same for a swap to do
   * @param {(page: object) => boolean} onPage  takes the page's new data; false where it can't
   */
  constructor(table, onPage) {
    this.table = table;
    this.served = plain(table);
    this.onPage = onPage;
    document.addEventListener("submit", event => this.#submit(event));
    document.addEventListener("click", event => this.#click(event));
    window.addEventListener("popstate", () => location.reload());
  }

  /** Show what a link of this page leads to. */
  async get(url) {
    await edit(this.#ask(url, {}, true));
  }

  #submit(event) {
    const form = event.target,
      inReport = form.closest("#report");
    if (!inReport || form.method !== "post" || form.enctype === "multipart/form-data") return;
    event.preventDefault();
    const action =
      event.submitter?.getAttribute("formaction") || form.getAttribute("action") || location.href;
    edit(this.#ask(action, {method: "POST", body: new FormData(form, event.submitter)}, false));
  }

  #click(event) {
    const link = event.target.closest('#report a[href^="?"]');
    if (!link || event.button || event.ctrlKey || event.metaKey || event.shiftKey) return;
    event.preventDefault();
    this.get(link.href);
  }

  async #ask(url, options, push) {
    this.table.classList.add("waiting");
    try {
      const response = await fetch(url, {
        ...options,
        headers: {Accept: "application/json, text/html"},
      });
      if (response.headers.get("Content-Type")?.includes("json")) {
        const answer = await response.json();
        if (response.ok) return await this.#ask(location.href, {}, false);
        return notice(answer.problem, "bad", answer);
      }
      this.#take(await response.text(), response.redirected || push ? response.url : null, push);
    } catch {
      notice("The server does not answer. What you typed is still here; try again when it runs.");
    } finally {
      this.table.classList.remove("waiting");
    }
  }

  #take(html, url, push) {
    const fresh = new DOMParser().parseFromString(html, "text/html");
    const data = fresh.getElementById("page-data"),
      table = fresh.getElementById(this.table.id);
    const here = new URL(url || location.href);
    if (!data || plain(table) !== this.served || !this.onPage(JSON.parse(data.textContent))) {
      return location.assign(here);
    }
    for (const list of table.querySelectorAll("select"))
      document.getElementById(list.id).value = list.value;
    const top = document.getElementById("report").scrollTop;
    for (const part of PARTS) document.querySelector(part).replaceWith(fresh.querySelector(part));
    document.getElementById("report").scrollTop = push ? 0 : top;
    history[push ? "pushState" : "replaceState"](null, "", here);
  }
}
