// Keep-out areas: drawn corner by corner over the picture, and shaped on other frames by dragging.

const NEAR = 9; // px on the screen

export class KeepOut {
  constructor(layer) {
    this.layer = layer;
    this.areas = [];
    this.drawing = null; // the corners so far, px of the plate; the last one follows the pointer
    // {area, corners, index or null for the whole, share of a corner that is new, last}.
    this.held = null;
    layer.sheet.addEventListener("click", event => {
      const verb = event.target.closest("[data-area]");
      if (event.target.closest("[data-hand=keep-out]")) this.take(!this.drawing);
      if (verb) this.#ask(verb.dataset.area, {id: verb.dataset.id || ""});
    });
  }

  /** Begin to draw an area, or give it up. */
  take(drawing) {
    if (drawing) this.layer.hand.take(false);
    this.drawing = drawing ? [] : null;
    this.pointer = null;
    this.layer.table.root.classList.toggle("drawing", drawing);
    this.settle();
    this.layer.draw();
  }

  settle() {
    this.layer.sheet
      .querySelector("[data-hand=keep-out]")
      ?.setAttribute("aria-pressed", Boolean(this.drawing));
  }

  /**
   * The corners of an area on the picture that is shown: between two that were drawn each goes
   * straight.
   */
  at(area) {
    const numbers = Object.keys(area.keys)
        .map(Number)
        .sort((a, b) => a - b),
      {at} = this.layer,
      before = numbers.findLast(number => number <= at) ?? numbers[0],
      after = numbers.find(number => number >= at) ?? numbers.at(-1),
      share = after > before ? (at - before) / (after - before) : 0;
    return area.keys[before].map(([x, y], i) => {
      const [ex, ey] = area.keys[after][i];
      return [x + (ex - x) * share, y + (ey - y) * share];
    });
  }

  /**
   * Whether a press is the areas' own: it draws, or holds a corner, a side or the middle of one.
   */
  takes(event) {
    return Boolean(this.drawing) || this.#near(this.layer.place(event)) !== null;
  }

  #near([x, y]) {
    const {table} = this.layer;
    for (const area of this.areas) {
      const corners = this.at(area),
        away = at => {
          const [px, py] = table.toScreen(at);
          return Math.hypot(px - x, py - y);
        };
      const index = corners.findIndex(corner => away(corner) < NEAR);
      if (index >= 0) return {area, corners, index};
      if (away(middle(corners)) < NEAR) return {area, corners, index: null};
    }
    for (const area of this.areas) {
      const corners = this.at(area),
        points = corners.map(at => table.toScreen(at));
      for (let index = 0; index < points.length; index += 1) {
        const [share, far] = along([x, y], points[index], points[(index + 1) % points.length]);
        if (far < NEAR / 2) return {area, corners, index, share};
      }
    }
    return null;
  }

  press(event) {
    const at = this.layer.table.toPlate(event);
    if (this.drawing) {
      const first = this.drawing[0];
      if (first && this.drawing.length > 2 && this.#close(first, at)) this.#finish();
      else this.drawing.push(at);
      this.layer.draw();
      return;
    }
    const near = this.#near(this.layer.place(event));
    if (event.altKey) {
      if (near.index !== null && near.share === undefined)
        this.#ask("take_corner", {id: near.area.id, index: near.index});
      return;
    }
    if (near.share !== undefined) {
      // A side: its press puts one more corner there.
      near.corners.splice(near.index + 1, 0, at);
      near.index += 1;
    }
    this.held = {...near, last: at, moved: false};
    this.layer.table.root.setPointerCapture(event.pointerId);
  }

  #close(a, b) {
    return Math.hypot(a[0] - b[0], a[1] - b[1]) * this.layer.table.scale < NEAR;
  }

  /** Whether a move was one of a corner that is drawn or held. */
  move(event) {
    const at = this.layer.table.toPlate(event),
      {held} = this;
    if (this.layer.table.panning) return false;
    if (this.drawing) {
      this.pointer = at;
      this.layer.draw();
      return true;
    }
    if (!held) return false;
    const by = [at[0] - held.last[0], at[1] - held.last[1]];
    held.corners = held.corners.map((corner, index) =>
      held.index === null || held.index === index ? [corner[0] + by[0], corner[1] + by[1]] : corner,
    );
    held.last = at;
    held.moved = true;
    this.layer.draw();
    return true;
  }

  /** Whether a corner was let go. */
  release() {
    const {held} = this;
    if (!held) return false;
    this.held = null;
    const {corners, share} = held,
      {id} = held.area;
    if (!held.moved) this.layer.draw();
    else if (share === undefined) this.#ask("shape", {id, corners});
    else this.#ask("add_corner", {id, corners, index: held.index - 1, share});
    return true;
  }

  /** Whether a key was one of the areas'. */
  key(event) {
    const key = event.key.toLowerCase();
    if (event.ctrlKey || event.metaKey || event.altKey) return false;
    if (key === "k" && !this.drawing) this.take(true);
    else if (key === "escape" && this.held) {
      this.held = null;
      this.layer.draw();
    } else if (key === "escape" && this.drawing) this.take(false);
    else if (key === "backspace" && this.drawing) {
      this.drawing.pop();
      this.layer.draw();
    } else if (key === "enter" && this.drawing) this.#finish();
    else return false;
    return true;
  }

  #finish() {
    const corners = this.drawing;
    this.take(false);
    this.#ask("draw", {corners});
  }

  async #ask(verb, more) {
    const {layer} = this,
      body = {verb, frame: layer.frame ?? 0, ...more};
    await layer.send(layer.sheet.dataset.keepOut, () => body);
    await layer.fetch();
  }

  draw(c) {
    for (const area of this.areas) {
      const corners = this.held?.area === area ? this.held.corners : this.at(area);
      this.#area(c, corners, area.id, String(this.layer.at) in area.keys);
    }
    if (!this.drawing) return;
    this.#area(c, [...this.drawing, ...(this.pointer ? [this.pointer] : [])], "", true);
  }

  /** Hatched, its corners filled on the frames it was drawn on. */
  #area(c, corners, name, drawn) {
    if (!corners.length) return;
    const points = corners.map(at => this.layer.table.toScreen(at));
    const path = new Path2D();
    points.forEach(([x, y], index) => {
      index ? path.lineTo(x, y) : path.moveTo(x, y);
    });
    path.closePath();
    c.save();
    c.clip(path);
    c.strokeStyle = "#10141680";
    c.lineWidth = 1;
    const xs = points.map(p => p[0]),
      [top, bottom] = [Math.min(...points.map(p => p[1])), Math.max(...points.map(p => p[1]))],
      height = bottom - top;
    c.beginPath();
    for (let x = Math.min(...xs) - height; x < Math.max(...xs); x += 9) {
      c.moveTo(x, bottom);
      c.lineTo(x + height, top);
    }
    c.stroke();
    c.restore();
    for (const [style, width] of [
      ["#101416", 3],
      ["#ffffff", 1.2],
    ]) {
      c.strokeStyle = style;
      c.lineWidth = width;
      c.stroke(path);
    }
    const [mx, my] = middle(points);
    for (const [x, y] of points) {
      c.fillStyle = drawn ? "#ffffff" : "#101416";
      c.strokeStyle = drawn ? "#101416" : "#ffffff";
      c.lineWidth = 1;
      c.fillRect(x - 3, y - 3, 6, 6);
      c.strokeRect(x - 3, y - 3, 6, 6);
    }
    if (!name) return;
    c.font = "12px Atkinson Hyperlegible Mono, monospace";
    c.textAlign = "center";
    c.strokeStyle = "#101416";
    c.lineWidth = 3;
    c.strokeText(`${name} keep out`, mx, my + 4);
    c.fillStyle = "#fff";
    c.fillText(`${name} keep out`, mx, my + 4);
    c.textAlign = "start";
  }
}

/** How far along the line from a to b a place is, 0 to 1, and how far from it. */
function along([x, y], a, b) {
  const [dx, dy] = [b[0] - a[0], b[1] - a[1]],
    length = Math.max(dx * dx + dy * dy, 1e-9),
    share = Math.min(1, Math.max(0, ((x - a[0]) * dx + (y - a[1]) * dy) / length));
  return [share, Math.hypot(x - a[0] - share * dx, y - a[1] - share * dy)];
}

function middle(points) {
  return [0, 1].map(axis => points.reduce((sum, point) => sum + point[axis], 0) / points.length);
}
