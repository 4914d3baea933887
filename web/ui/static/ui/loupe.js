// The loupe: the real pixels around a place of the plate, large, beside the pointer.

const ZOOM = 8;
const SIDE = 172; // px of the screen
const BOX = 176; // with its border
const AWAY = 34; // from the pointer to the box
const CROSS = [
  [0.12, 0.45],
  [0.55, 0.88],
]; // the cross's arms, as shares of the side

export class Loupe {
  /** `table`: the light table whose pixels it shows, with what is laid over them. */
  constructor(table) {
    this.table = table;
    this.canvas = document.getElementById("loupe");
    this.canvas.width = this.canvas.height = SIDE * Math.ceil(devicePixelRatio || 1);
    this.at = null; // the place of the plate that it shows; null while it is put away
  }

  /** Show it around a place of the plate, beside the pointer and never under it. */
  show(at, event) {
    this.at = at;
    this.canvas.style.display = "block";
    const box = this.table.root.parentElement.getBoundingClientRect(),
      x = event.clientX - box.left,
      y = event.clientY - box.top;
    const left = x + AWAY + BOX > box.width ? x - AWAY - BOX : x + AWAY,
      top = y - AWAY - BOX < 0 ? y + AWAY : y - AWAY - BOX;
    this.canvas.style.transform = `translate(${Math.round(left)}px, ${Math.round(top)}px)`;
    this.draw();
  }

  hide() {
    this.at = null;
    this.canvas.style.display = "none";
  }

  draw() {
    if (!this.at) return;
    const {table, at} = this,
      context = this.canvas.getContext("2d"),
      size = this.canvas.width,
      scale = (ZOOM * size) / SIDE,
      half = size / 2;
    context.fillStyle = "#5A5B5C";
    context.fillRect(0, 0, size, size);
    context.save();
    const corner = at.map(value => value - half / scale);
    table.pixels.paint(context, corner, scale, [size, size]);
    // What is laid over the plate is in the loupe too.
    const [x, y] = at.map(value => half - value * scale);
    table.drawLaid(context, x, y, table.width * scale, table.height * scale);
    context.restore();
    this.#cross(context, size);
  }

  #cross(context, size) {
    for (const [style, width] of [
      ["#101416", size / 70],
      ["#ffffff", size / SIDE],
    ]) {
      context.strokeStyle = style;
      context.lineWidth = width;
      context.beginPath();
      for (const [from, to] of CROSS) {
        context.moveTo(size * from, size / 2);
        context.lineTo(size * to, size / 2);
        context.moveTo(size / 2, size * from);
        context.lineTo(size / 2, size * to);
      }
      context.stroke();
    }
  }
}
