// The Set page's report is renewed by htmx (the attributes stand on #report). Here is what htmx
// can't know: the page's data go to the views, and where the table itself would be another one the
// page is loaded anew.

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
    document.addEventListener("htmx:beforeRequest", () => table.classList.add("waiting"));
    document.addEventListener("htmx:afterRequest", () => table.classList.remove("waiting"));
    document.addEventListener("htmx:beforeSwap", event => this.#take(event.detail));
    document.addEventListener("click", event => {
      if (event.target.closest('#report a[href^="?"]')) {
        document.getElementById("report").scrollTop = 0;
      }
    });
  }

  /** Show what an address of this page leads to. */
  async get(url) {
    await this.renew(url);
    history.pushState(null, "", url);
  }

  /** Show the page as it is now. */
  async renew(url = location.search || location.pathname) {
    const report = document.getElementById("report");
    await window.htmx.ajax("GET", url, {source: report, target: "#report"});
  }

  #take(detail) {
    if (!detail.shouldSwap || detail.target.id !== "report") return;
    const fresh = new DOMParser().parseFromString(detail.serverResponse, "text/html");
    const data = fresh.getElementById("page-data"),
      table = fresh.getElementById(this.table.id);
    if (!data || plain(table) !== this.served || !this.onPage(JSON.parse(data.textContent))) {
      detail.shouldSwap = false;
      location.assign(detail.xhr.responseURL);
      return;
    }
    for (const list of table.querySelectorAll("select")) {
      document.getElementById(list.id).value = list.value;
    }
  }
}
