// The light table: a plate that can be panned and zoomed, with what is drawn and laid over it.
// Knows pixels, and nothing of the job.

import {typing} from "./app.js";
import {Around} from "./around.js";
import {Loupe} from "./loupe.js";
import {Pixels} from "./pixels.js";

export class LightTable {
  constructor(root = document.getElementById("light-table")) {
    this.root = root;
    this.width = +root.dataset.width;
    this.height = +root.dataset.height;
    this.image = root.querySelector("img.plate");
    this.canvas = root.querySelector("canvas.tiles");
    this.over = root.querySelector("#over");
    this.loupe = new Loupe(this);
    this.pixels = new Pixels(root.dataset.tiles, [this.width, this.height], () => {
      this.#drawTiles();
      this.loupe.draw();
    });
    this.listeners = [];
    this.scale = 1;
    this.x = 0;
    this.y = 0;
    this.loupeOn = false;
    this.key = `view:${root.dataset.proxy}`;
    this.laid = [];
    // Of a panorama: how its pixels lie around, px per radian; it scrolls endlessly, and can be
    // looked around in.
    const lens = JSON.parse(root.dataset.around || "null");
    this.around = lens && new Around(this, lens);
    this.turn = lens?.full ? 2 * Math.PI * lens.focal : 0;
    this.copies = new Map();
    this.#listen();
    const view = JSON.parse(sessionStorage.getItem(this.key) || "null");
    if (view) {
      Object.assign(this, view);
      this.#apply();
    } else this.fit();
    new ResizeObserver(() => (this.fitted ? this.fit() : this.#apply())).observe(root);
  }

  /** Call `listener` whenever pan or zoom change. */
  onView(listener) {
    this.listeners.push(listener);
    listener();
  }
  get looksAround() {
    return Boolean(this.around?.on);
  }
  toScreen([x, y]) {
    if (this.looksAround) return this.around.place([x, y]).slice(0, 2);
    let at = x * this.scale + this.x;
    if (this.turn) {
      // Of a picture that goes on at its other side, the copy that is nearest to the middle.
      const period = this.turn * this.scale;
      at -= period * Math.round((at - this.root.clientWidth / 2) / period);
    }
    return [at, y * this.scale + this.y];
  }
  toPlate(event) {
    const box = this.root.getBoundingClientRect();
    const at = [event.clientX - box.left, event.clientY - box.top];
    const [x, y] = this.looksAround
      ? this.around.pixel(...at)
      : [(at[0] - this.x) / this.scale, (at[1] - this.y) / this.scale];
    return [this.turn ? x - this.turn * Math.floor(x / this.turn) : x, y];
  }

  /**
   * A path in px of the plate as it is drawn now: within `over`, or in a group that has its
   * transform.
   */
  d(path) {
    return this.looksAround ? this.around.path(path) : path;
  }

  /** Look around in the panorama, from where the table shows it; or lay it flat again. */
  lookAround(on = !this.looksAround) {
    if (!this.around) return;
    const middle = [this.root.clientWidth / 2, this.root.clientHeight / 2];
    if (on) {
      this.flat = {scale: this.scale, x: this.x, y: this.y, fitted: this.fitted};
      this.around.lookAt([
        (middle[0] - this.x) / this.scale,
        this.fitted ? this.around.lens.centre[1] : (middle[1] - this.y) / this.scale,
      ]);
    }
    if (!this.around.turn(on)) return;
    if (!on) Object.assign(this, this.flat);
    this.root.classList.toggle("looks-around", on);
    if (on) this.#drawTiles();
    document.getElementById("look-around")?.setAttribute("aria-pressed", on);
    this.#apply();
  }

  fit() {
    if (this.looksAround) {
      Object.assign(this.around, {pitch: 0, wide: 1.4});
      this.#apply();
      return;
    }
    const w = this.root.clientWidth,
      h = this.root.clientHeight;
    if (!w || !h) return;
    this.scale = Math.min((w - 24) / this.width, (h - 24) / this.height);
    this.x = (w - this.width * this.scale) / 2;
    this.y = (h - this.height * this.scale) / 2;
    this.fitted = true;
    this.#apply();
  }

  /** Zoom so that some plate points fill the middle of the table. */
  frame(points) {
    if (this.looksAround) {
      this.around.lookAt(...points);
      this.#apply();
      return;
    }
    // Of places on both sides of a panorama's seam the copies that lie together.
    const copy = x => (this.turn ? x - this.turn * Math.round((x - points[0][0]) / this.turn) : x);
    const xs = points.map(p => copy(p[0])),
      ys = points.map(p => p[1]),
      w = this.root.clientWidth,
      h = this.root.clientHeight;
    const [left, right, top, bottom] = [
      Math.min(...xs),
      Math.max(...xs),
      Math.min(...ys),
      Math.max(...ys),
    ];
    this.scale = Math.min(
      8,
      (0.7 * w) / Math.max(right - left, 24),
      (0.7 * h) / Math.max(bottom - top, 24),
    );
    this.x = w / 2 - ((left + right) / 2) * this.scale;
    this.y = h / 2 - ((top + bottom) / 2) * this.scale;
    this.fitted = false;
    this.#apply();
  }

  zoom(factor, cx = this.root.clientWidth / 2, cy = this.root.clientHeight / 2) {
    if (this.looksAround) {
      this.around.zoom(factor);
      this.#apply();
      return;
    }
    const scale = Math.min(64, Math.max(0.01, this.scale * factor));
    this.x = cx - ((cx - this.x) * scale) / this.scale;
    this.y = cy - ((cy - this.y) * scale) / this.scale;
    this.scale = scale;
    this.fitted = false;
    this.#apply();
  }

  #apply() {
    if (this.looksAround) {
      this.around.measure();
      this.scale = this.around.focal / this.around.lens.focal;
      this.over.removeAttribute("transform");
      const degrees = document.getElementById("zoom");
      if (degrees) degrees.textContent = `${((this.around.wide * 180) / Math.PI).toFixed(0)}°`;
      this.around.draw();
      this.#mapOver();
      for (const listener of this.listeners) listener();
      return;
    }
    this.#mapOver();
    if (this.turn) {
      const period = this.turn * this.scale;
      this.x -=
        period *
        Math.round((this.x + (this.width * this.scale) / 2 - this.root.clientWidth / 2) / period);
      this.#copy();
    }
    for (const image of [this.image, ...this.laid]) {
      image.style.width = `${this.width}px`;
      image.style.height = `${this.height}px`;
      image.style.transform = `translate(${this.x}px, ${this.y}px) scale(${this.scale})`;
      image.style.imageRendering = this.scale >= 3 ? "pixelated" : "auto";
    }
    this.over.setAttribute("transform", `translate(${this.x} ${this.y}) scale(${this.scale})`);
    sessionStorage.setItem(
      this.key,
      JSON.stringify({scale: this.scale, x: this.x, y: this.y, fitted: this.fitted}),
    );
    const zoom = document.getElementById("zoom");
    if (zoom) zoom.textContent = `${(this.scale * 100).toFixed(this.scale < 0.1 ? 1 : 0)} %`;
    this.#drawTiles();
    for (const listener of this.listeners) listener();
  }

  /** What is drawn in px of the plate, as the view shows it. */
  #mapOver() {
    for (const path of this.over.querySelectorAll("path")) {
      if (this.looksAround) path.dataset.d ??= path.getAttribute("d");
      if (path.dataset.d) path.setAttribute("d", this.d(path.dataset.d));
    }
  }

  /** Pictures and overlay once more at both sides, where a panorama goes on. */
  #copy() {
    for (const image of [this.image, ...this.laid]) {
      if (!(image instanceof HTMLImageElement)) continue;
      if (!this.copies.has(image)) {
        const made = [-1, 1].map(side => {
          const copy = image.cloneNode();
          copy.removeAttribute("id");
          copy.classList.add("copy");
          image.after(copy);
          return {copy, side};
        });
        this.copies.set(image, made);
      }
      for (const {copy, side} of this.copies.get(image)) {
        if (copy.src !== image.src) copy.src = image.src;
        copy.style.cssText = image.style.cssText;
        copy.style.width = `${this.width}px`;
        copy.style.height = `${this.height}px`;
        const x = this.x + side * this.turn * this.scale;
        copy.style.transform = `translate(${x}px, ${this.y}px) scale(${this.scale})`;
      }
    }
    this.uses ||= [-1, 1].map(side => {
      const use = document.createElementNS("http://www.w3.org/2000/svg", "use");
      use.setAttribute("href", "#over");
      this.over.before(use);
      return {use, side};
    });
    for (const {use, side} of this.uses)
      use.setAttribute("transform", `translate(${side * this.turn * this.scale} 0)`);
  }

  /** Lay another picture of the plate's size over it. */
  lay(url) {
    const image = Object.assign(document.createElement("img"), {
      className: "laid",
      src: url,
      alt: "",
      draggable: false,
    });
    return this.layElement(image);
  }

  /**
   * The same with an element that is there already, an image or a canvas; over the real pixels, or
   * under them.
   */
  layElement(element, underPixels = false) {
    element.classList.add("laid");
    if (underPixels) this.canvas.before(element);
    else this.root.querySelector("svg").before(element);
    this.laid.push(element);
    if (this.around) element.addEventListener("load", () => this.around.refresh());
    this.#apply();
    return element;
  }

  /**
   * Take real pixels from another picture of the same size, which lies on the table so wide; null:
   * from the plate again.
   */
  takeTiles(url, wide) {
    if (!this.pixels.take(url || this.root.dataset.tiles)) return;
    this.wide = url ? wide : 0;
    this.#drawTiles();
    this.loupe.draw();
  }

  /** The real pixels, where the proxy is smaller than what is on screen. */
  #drawTiles() {
    const {canvas} = this,
      ratio = devicePixelRatio || 1;
    const w = Math.round(this.root.clientWidth * ratio),
      h = Math.round(this.root.clientHeight * ratio);
    if (canvas.width !== w || canvas.height !== h) {
      canvas.width = w;
      canvas.height = h;
    }
    const context = canvas.getContext("2d");
    context.clearRect(0, 0, w, h);
    if (this.looksAround) return;
    const wide = this.wide || this.image.naturalWidth;
    const needed = this.scale >= 1 || (this.scale * ratio > wide / this.width && wide < this.width);
    if (needed && this.scale >= 0.25)
      for (const side of this.turn ? [-1, 0, 1] : [0]) {
        const corner = [-this.x / this.scale - side * this.turn, -this.y / this.scale];
        this.pixels.paint(context, corner, this.scale * ratio, [w, h]);
      }
  }

  /** What is laid over the plate has another picture, as a frame of a film. */
  relaid() {
    if (this.looksAround) this.around.refresh();
  }

  /** Draw what is laid over the plate, the plate's corner at a place of a canvas, and so large. */
  drawLaid(context, x, y, width, height) {
    for (const image of this.laid) {
      const there = image.complete ? image.naturalWidth : image instanceof HTMLCanvasElement;
      if (image.style.visibility === "hidden" || !there) continue;
      context.globalAlpha = image.style.opacity === "" ? 1 : +image.style.opacity;
      context.globalCompositeOperation =
        {difference: "difference", multiply: "multiply"}[image.style.mixBlendMode] || "source-over";
      context.drawImage(image, x, y, width, height);
    }
  }

  #listen() {
    const {root} = this;
    root.addEventListener(
      "wheel",
      event => {
        event.preventDefault();
        const box = root.getBoundingClientRect();
        this.zoom(
          Math.exp(-event.deltaY * 0.0015),
          event.clientX - box.left,
          event.clientY - box.top,
        );
      },
      {passive: false},
    );
    root.addEventListener(
      "pointerdown",
      event => {
        if (event.button !== 1 && !this.space && !this.panWithLeft?.(event)) return;
        event.preventDefault();
        event.stopImmediatePropagation();
        root.setPointerCapture(event.pointerId);
        root.classList.add("panning");
        this.panning = [event.clientX - this.x, event.clientY - this.y];
        const box = root.getBoundingClientRect();
        this.dragged = [event.clientX - box.left, event.clientY - box.top];
        if (this.looksAround) this.around.move(true);
      },
      true,
    );
    root.addEventListener("pointermove", event => {
      const at = this.toPlate(event),
        label = document.getElementById("at");
      if (label) label.textContent = `x ${at[0].toFixed(1)}  y ${at[1].toFixed(1)} px`;
      if (this.loupeOn && !this.panning) this.loupe.show(at, event);
      if (!this.panning) return;
      if (this.looksAround) {
        const box = root.getBoundingClientRect(),
          now = [event.clientX - box.left, event.clientY - box.top];
        this.around.drag(this.dragged, now);
        this.dragged = now;
        // As often as the screen is drawn, however often the pointer tells where it is.
        this.turning ||= requestAnimationFrame(() => {
          this.turning = 0;
          this.#apply();
        });
        return;
      }
      this.x = event.clientX - this.panning[0];
      this.y = event.clientY - this.panning[1];
      this.fitted = false;
      this.#apply();
    });
    const release = () => {
      if (this.panning && this.looksAround) {
        cancelAnimationFrame(this.turning);
        this.turning = 0;
        this.around.move(false);
        this.#apply();
      }
      this.panning = null;
      root.classList.remove("panning");
    };
    root.addEventListener("pointerup", release);
    root.addEventListener("pointercancel", release);
    root.addEventListener("pointerleave", () => {
      if (this.loupeOn) this.loupe.hide();
    });
    this.image.addEventListener("load", () => {
      this.#drawTiles();
      if (this.looksAround) this.around.refresh();
    });
    document.getElementById("look-around")?.addEventListener("click", () => this.lookAround());
    // What is drawn anew while one looks around is drawn as the view shows it.
    if (this.around)
      new MutationObserver(() => this.looksAround && this.#mapOver()).observe(this.over, {
        childList: true,
      });
    document.addEventListener("keydown", event => {
      if (typing(event) || event.ctrlKey || event.metaKey) return;
      if (event.key === " ") {
        this.space = true;
        event.preventDefault();
      } else if (event.key.toLowerCase() === "f") this.fit();
      else if (event.key === "1") this.zoom(1 / this.scale);
      else if (event.key === "3") this.lookAround();
      else if (event.key === "+" || event.key === "=") this.zoom(1.25);
      else if (event.key === "-") this.zoom(0.8);
    });
    document.addEventListener("keyup", event => {
      if (event.key === " ") this.space = false;
    });
    document.querySelectorAll("[data-view]").forEach(button =>
      button.addEventListener("click", () => {
        if (button.dataset.view === "fit") this.fit();
        if (button.dataset.view === "one") this.zoom(1 / this.scale);
        if (button.dataset.view === "loupe") this.toggleLoupe();
      }),
    );
  }

  toggleLoupe() {
    this.loupeOn = !this.loupeOn;
    document.querySelector("[data-view=loupe]")?.setAttribute("aria-pressed", this.loupeOn);
    if (!this.loupeOn) this.loupe.hide();
  }
}
