// The pattern of the chosen track where it was placed, beside what is seen on the frame that is
// shown: real pixels, enlarged.

const TILE = 256; // px of a picture's tiles
const ZOOM = 4;

export class Patches {
  /** `tiles(number)`: the address of a picture's first tile. */
  constructor(layer, tiles) {
    Object.assign(this, {layer, tiles});
    this.images = new Map();
  }

  /** Draw both for the one track that is chosen, or nothing. */
  show() {
    const box = document.getElementById("track-patches"),
      {layer} = this,
      id = layer.only;
    if (!box) return;
    const row = id === null ? undefined : layer.rowOf(id);
    box.hidden = id === null;
    if (id === null) return;
    // The place by hand that this stretch of the track was followed from.
    const keys = layer.keysOf(id),
      key = keys.findLast(number => number <= layer.at) ?? keys[0],
      [pattern, here] = box.querySelectorAll("canvas"),
      [patternSays, hereSays] = box.querySelectorAll("figcaption"),
      offset = layer.frame - layer.at;
    patternSays.textContent = `Placed on ${key + offset}`;
    hereSays.textContent =
      row === undefined ? `Not seen on ${layer.frame}` : `Here, on ${layer.frame}`;
    this.#draw(pattern, key, layer.rowOf(id, key), id);
    this.#draw(here, layer.at, row, id);
  }

  #draw(canvas, number, row, id) {
    const c = canvas.getContext("2d"),
      size = canvas.width;
    c.fillStyle = "#5A5B5C";
    c.fillRect(0, 0, size, size);
    if (row === undefined) return;
    const {layer} = this,
      [x, y] = [layer.xy[2 * row], layer.xy[2 * row + 1]],
      reach = size / 2 / ZOOM;
    c.imageSmoothingEnabled = false;
    for (let column = Math.floor((x - reach) / TILE); column <= (x + reach) / TILE; column += 1)
      for (let line = Math.floor((y - reach) / TILE); line <= (y + reach) / TILE; line += 1) {
        if (column < 0 || line < 0) continue;
        const image = this.#tile(number, column, line);
        if (!image.complete || !image.naturalWidth) continue;
        const left = (column * TILE - x + reach) * ZOOM,
          top = (line * TILE - y + reach) * ZOOM;
        c.drawImage(image, left, top, image.naturalWidth * ZOOM, image.naturalHeight * ZOOM);
      }
    const told = layer.about[id] || {},
      side = (2 * (told.reach || 10) + 1) * ZOOM,
      [dx, dy] = (told.offset || [0, 0]).map(value => value * ZOOM),
      middle = size / 2;
    for (const [style, width] of [
      ["#101416", 3],
      ["#ffffff", 1],
    ]) {
      c.strokeStyle = style;
      c.lineWidth = width;
      c.strokeRect(middle - dx - side / 2, middle - dy - side / 2, side, side);
      c.beginPath();
      for (const [a, b] of [
        [4, 14],
        [-4, -14],
      ]) {
        c.moveTo(middle + a, middle);
        c.lineTo(middle + b, middle);
        c.moveTo(middle, middle + a);
        c.lineTo(middle, middle + b);
      }
      c.stroke();
    }
  }

  #tile(number, column, row) {
    const key = `${number}/${column}/${row}`;
    if (!this.images.has(key)) {
      if (this.images.size > 60) this.images.delete(this.images.keys().next().value);
      const image = new Image();
      image.src = this.tiles(number).replace("0/0.png", `${column}/${row}.png`);
      image.addEventListener("load", () => this.show());
      this.images.set(key, image);
    }
    return this.images.get(key);
  }
}
