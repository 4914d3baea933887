// The leaves of the report: which is open, how evidence is listed, what is hidden on the plate.
// Survives each renewal of the report. The server is told by a cookie which leaf is open, and sends
// that one; another is fetched once it is chosen.

const COOKIE = "match_leaf";

export class Leaves {
  /** `filled`: called when a leaf has been fetched; `opened`: when another one is open. */
  constructor(sheet, {hiddenChanged, filled, opened}) {
    this.sheet = sheet;
    this.hidden = new Set();
    this.sort = "drawn";
    this.hiddenChanged = hiddenChanged;
    this.opened = opened;
    this.open = sheet.querySelector("[data-leaf][aria-selected=true]")?.dataset.leaf || "fit";
    this.show(this.open);
    sheet.addEventListener("click", event => {
      const leaf = event.target.closest("[data-leaf]"),
        kind = event.target.closest("[data-kind]");
      if (leaf) this.show(leaf.dataset.leaf);
      if (kind) {
        const name = kind.dataset.kind;
        this.hidden.has(name) ? this.hidden.delete(name) : this.hidden.add(name);
        this.settle();
        this.hiddenChanged();
      }
    });
    sheet.addEventListener("keydown", event => {
      const leaf = event.target.closest("[data-leaf]"),
        step = {ArrowRight: 1, ArrowLeft: -1}[event.key];
      if (!leaf || !step) return;
      event.preventDefault();
      event.stopPropagation();
      const all = [...sheet.querySelectorAll("[data-leaf]")],
        next = all[(all.indexOf(leaf) + step + all.length) % all.length];
      this.show(next.dataset.leaf);
      next.focus();
    });
    sheet.addEventListener("toggle", () => this.#ask(), true);
    sheet.addEventListener("change", event => {
      if (event.target.id !== "sort") return;
      this.sort = event.target.value;
      this.settle();
    });
    document.addEventListener("htmx:afterSwap", event => {
      if (event.target === sheet) this.#show();
    });
    // Only now does htmx hear what the parts of a leaf ask for.
    document.addEventListener("htmx:afterSettle", event => {
      if (event.target === sheet) return this.settle();
      if (!event.target.matches("[data-leaf-of]")) return;
      this.settle();
      filled();
    });
    // What a leaf asks for on its own is heard once htmx has read the page, which is after this.
    window.addEventListener("load", () => {
      sheet.querySelectorAll("[data-lazy]").forEach(part => {
        delete part.dataset.asked;
      });
      this.settle();
    });
  }

  show(name) {
    this.open = name;
    // biome-ignore lint/suspicious/noDocumentCookie: the other interface is younger than some browsers in use
    document.cookie = `${COOKIE}=${name};path=/;samesite=lax`;
    this.settle();
    this.opened();
  }

  /** Put a fresh report into the state that this remembers, and fetch what the open leaf lacks. */
  settle() {
    this.#show();
    this.#ask();
  }

  #ask() {
    this.sheet.querySelectorAll(`[data-leaf-of="${this.open}"] [data-lazy]`).forEach(part => {
      if (part.dataset.asked || part.closest("details:not([open])")) return;
      part.dataset.asked = "1";
      window.htmx?.trigger(part, "leaf-shown");
    });
  }

  #show() {
    const {sheet} = this;
    if (!sheet.querySelector(`[data-leaf="${this.open}"]`)) this.open = "fit";
    sheet.querySelectorAll("[data-leaf]").forEach(button => {
      button.setAttribute("aria-selected", button.dataset.leaf === this.open);
      button.tabIndex = button.dataset.leaf === this.open ? 0 : -1;
    });
    sheet.querySelectorAll("[data-leaf-of]").forEach(leaf => {
      leaf.hidden = leaf.dataset.leafOf !== this.open;
    });
    // A problem beside a field must be seen, on whichever leaf it stands.
    const wrong = sheet.querySelector("[data-leaf-of] .error");
    if (wrong?.closest("[data-leaf-of]").hidden)
      return this.show(wrong.closest("[data-leaf-of]").dataset.leafOf);
    const sort = sheet.querySelector("#sort"),
      list = sheet.querySelector("#evidence");
    if (sort) sort.value = this.sort;
    if (list) {
      const key = {
        amount: row => -row.dataset.amount,
        sigmas: row => -row.dataset.sigmas,
        leverage: row => -row.dataset.leverage,
        drawn: row => +row.dataset.order,
      }[this.sort];
      const rows = [...list.querySelectorAll("[data-id]")];
      rows.sort(
        key ? (a, b) => key(a) - key(b) : (a, b) => a.textContent.localeCompare(b.textContent),
      );
      rows.forEach(row => list.append(row));
    }
    sheet
      .querySelectorAll("[data-kind]")
      .forEach(button =>
        button.setAttribute("aria-pressed", !this.hidden.has(button.dataset.kind)),
      );
  }
}
