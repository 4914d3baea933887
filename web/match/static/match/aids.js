// Aids for the eye: what the artist wishes to see beside the marks. The server computes each; this
// keeps the wish and the looks.

const KEY = "aperture-match-looks";
const stored = () => {
  try {
    return JSON.parse(localStorage.getItem(KEY)) || {};
  } catch {
    return {};
  }
};

export class Aids {
  constructor(table, changed) {
    this.table = table;
    this.changed = changed;
    this.wish = {walls: false, map: false, figures: [], cubes: [], room: null};
    this.guides = true;
    this.straight = false;
    for (const box of document.querySelectorAll("[data-aid]"))
      box.addEventListener("change", () => this.set(box.dataset.aid, box.checked));
    const colour = document.getElementById("guide-colour"),
      width = document.getElementById("guide-width"),
      looks = stored();
    if (looks.colour) colour.value = looks.colour;
    if (looks.width) width.value = looks.width;
    const settle = () => {
      table.over.style.setProperty("--guide", colour.value);
      table.over.style.setProperty("--guide-width", width.value);
      try {
        localStorage.setItem(KEY, JSON.stringify({colour: colour.value, width: width.value}));
      } catch {
        /* private windows keep nothing */
      }
    };
    colour.addEventListener("input", settle);
    width.addEventListener("input", settle);
    settle();
    document.getElementById("ghost").addEventListener("input", event => {
      for (const picture of [table.image, table.canvas]) picture.style.opacity = event.target.value;
    });
    document.querySelector("[data-act=clear-aids]").addEventListener("click", () => {
      Object.assign(this.wish, {walls: false, map: false, figures: [], cubes: [], room: null});
      document.querySelectorAll("[data-aid=walls], [data-aid=map]").forEach(box => {
        box.checked = false;
      });
      this.changed();
    });
  }

  get height() {
    const [, number, unit = "m"] =
      document
        .getElementById("room-height")
        .value.replace(",", ".")
        .match(/([\d.]+)\s*(mm|cm|m|in|ft)?/) || [];
    return (+number || 2.5) * {mm: 0.001, cm: 0.01, m: 1, in: 0.0254, ft: 0.3048}[unit];
  }

  set(name, on) {
    const box = document.querySelector(`[data-aid=${name}]`);
    box.checked = on;
    if (name === "guides") this.guides = on;
    else if (name === "straight") this.straight = on;
    else this.wish[name] = on;
    if (name === "straight") {
      const {image, canvas} = this.table;
      canvas.style.visibility = on ? "hidden" : "";
      image.src = on
        ? `${document.getElementById("sheet").dataset.straight}?at=${Date.now()}`
        : image.closest("[data-proxy]").dataset.proxy;
    }
    this.changed();
  }

  toggle(name) {
    this.set(name, !document.querySelector(`[data-aid=${name}]`).checked);
  }
}
