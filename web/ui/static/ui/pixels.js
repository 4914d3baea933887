// The real pixels of a picture, in tiles that are fetched when they are seen.

const TILE = 256; // px of the picture
const MOST_TILES = 400; // that are kept

export class Pixels {
  /**
   * @param {string | undefined} first  where the first tile of the picture is; without it there
   * are none
   * @param {number[]} size  width and height of the picture, px
   * @param {() => void} arrived  called when a tile has come
   */
  constructor(first, size, arrived) {
    Object.assign(this, {first, size, arrived, tiles: new Map()});
  }

  /** Take them from another picture of the same size. Returns whether it is another one. */
  take(first) {
    if (first === this.first) return false;
    this.first = first;
    this.tiles.clear();
    return true;
  }

  #tile(column, row) {
    const key = `${column}/${row}`,
      {tiles} = this;
    if (!tiles.has(key)) {
      if (tiles.size > MOST_TILES) tiles.delete(tiles.keys().next().value);
      const image = new Image();
      if (this.first) image.src = this.first.replace("0/0.png", `${key}.png`);
      image.addEventListener("load", this.arrived);
      tiles.set(key, image);
    }
    return tiles.get(key);
  }

  /** The columns or rows of tiles that a stretch of the picture lies in. */
  #between(low, high, size) {
    const first = Math.max(0, Math.floor(low / TILE)),
      last = Math.min(Math.ceil(size / TILE) - 1, Math.floor(high / TILE));
    return Array.from({length: Math.max(0, last - first + 1)}, (_, index) => first + index);
  }

  /**
   * Draw what has come of them into a canvas of `width` × `height` px, whose corner shows the place
   * (left, top) of the picture, `scale` px of the canvas for one of the picture.
   */
  paint(context, [left, top], scale, [width, height]) {
    context.imageSmoothingEnabled = scale < 1;
    const [wide, high] = this.size;
    for (const row of this.#between(top, top + height / scale, high))
      for (const column of this.#between(left, left + width / scale, wide)) {
        const tile = this.#tile(column, row);
        if (!tile.complete || !tile.naturalWidth) continue;
        const [x, y] = [column * TILE, row * TILE],
          [w, h] = [Math.min(TILE, wide - x), Math.min(TILE, high - y)],
          at = [(x - left) * scale, (y - top) * scale];
        context.drawImage(tile, 0, 0, w, h, ...at, w * scale, h * scale);
      }
  }
}
