// The list of the tracks: by residual, by length, or by what the path leans on; a click chooses
// one.

const MOST = 15; // rows
const ORDERS = {
  residual: one => -one.residual,
  leverage: one => -one.leverage,
  length: one => one.length,
  name: one => one.order,
};

export class TrackList {
  /** `layer`: the tracks. */
  constructor(layer) {
    this.layer = layer;
    this.sort = "leverage";
    this.all = [];
    this.open = false;
    layer.sheet.addEventListener("change", event => {
      if (event.target.id !== "track-sort") return;
      this.sort = event.target.value;
      this.settle();
    });
    layer.sheet.addEventListener("click", event => {
      const row = event.target.closest("[data-track-row]");
      if (row) layer.choose([row.dataset.trackRow], event.ctrlKey || event.shiftKey);
    });
    // The list stays open when the leaf is fetched anew. The event doesn't bubble.
    layer.sheet.addEventListener(
      "toggle",
      event => {
        if (event.target.id === "track-list") this.open = event.target.open;
      },
      true,
    );
  }

  /** Take the tracks as the layer has them now. */
  fill() {
    const {ids, track, residual, leverage} = this.layer;
    this.all = ids.map((id, order) => ({
      id,
      order,
      length: 0,
      residual: -2,
      leverage: leverage[order],
    }));
    track.forEach((index, row) => {
      this.all[index].length += 1;
      this.all[index].residual = residual[row];
    });
  }

  /** Put the leaf's list into the state that this remembers. */
  settle() {
    const list = document.getElementById("track-list");
    if (!list) return;
    list.open = this.open;
    list.querySelector("#track-sort").value = this.sort;
    const rows = [...this.all].sort((a, b) => ORDERS[this.sort](a) - ORDERS[this.sort](b)),
      most = Math.max(...this.all.map(one => one.leverage), 1e-9);
    list
      .querySelector("tbody")
      .replaceChildren(...rows.slice(0, MOST).map(one => this.#row(one, most)));
  }

  #row(one, most) {
    const row = document.createElement("tr"),
      chosen = this.layer.chosen.has(one.id),
      told = this.layer.about[one.id] || {};
    row.innerHTML =
      '<td><button type="button" class="button small"></button></td><td></td><td></td>' +
      '<td><span class="bar"><svg aria-hidden="true"><rect height="100%"/></svg></span> ' +
      "<span></span></td>";
    const [name, residual, length] = row.querySelectorAll("td");
    const button = name.firstChild;
    button.textContent = one.id;
    button.dataset.trackRow = one.id;
    button.setAttribute("aria-pressed", chosen);
    residual.textContent = told.off ? "off" : one.residual < 0 ? "–" : one.residual.toFixed(3);
    length.textContent = one.length;
    row.querySelector("rect").setAttribute("width", `${(100 * one.leverage) / most}%`);
    row.querySelector("td:last-child span:last-child").textContent = one.leverage
      ? `${(100 * one.leverage).toFixed(1)} %`
      : "–";
    return row;
  }
}
