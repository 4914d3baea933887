// The strip of a cut: clips to scale with their pictures, dragged into another order or trimmed at
// their ends.

const THUMB_PX = 96,
  EDGE_PX = 9,
  LEAST_DRAG_PX = 5,
  LEAST_SCALE = 0.02,
  MOST_SCALE = 40;

export class Strip {
  constructor(cut, root, rail) {
    Object.assign(this, {cut, root, rail, scale: null, drag: null});
    root.addEventListener("pointerdown", event => this.#grab(event));
    root.addEventListener("pointermove", event => this.#move(event));
    for (const name of ["pointerup", "pointercancel"])
      root.addEventListener(name, event => this.#let(event));
    root.addEventListener(
      "wheel",
      event => {
        if (!event.ctrlKey) return;
        event.preventDefault();
        this.zoom(event.deltaY < 0 ? 1.2 : 1 / 1.2);
      },
      {passive: false},
    );
  }

  zoom(factor) {
    this.scale = Math.min(MOST_SCALE, Math.max(LEAST_SCALE, this.scale * factor));
    this.lay();
    this.mark();
  }

  /** Lay the clips out anew. */
  lay() {
    const {clips, length} = this.cut.data;
    if (!this.scale) this.scale = Math.max(0.2, (this.root.clientWidth - 24) / Math.max(length, 1));
    this.rail.style.width = `${length * this.scale}px`;
    this.head = document.createElement("div");
    this.head.className = "cut-head";
    this.rail.replaceChildren(...clips.map((clip, index) => this.#block(clip, index)), this.head);
  }

  #block(clip, index) {
    const block = document.createElement("div"),
      width = clip.length * this.scale;
    block.className = clip.over === null ? "cut-clip" : "cut-clip over";
    block.dataset.index = index;
    block.style.left = `${clip.begin * this.scale}px`;
    block.style.width = `${Math.max(2, width - 2)}px`;
    block.title = `${clip.code}, ${clip.first}–${clip.last}, at ${clip.at}`;
    const label = document.createElement("b");
    label.textContent = clip.code;
    const told = document.createElement("small");
    told.textContent = `${clip.begin}  ${clip.at}  ${clip.first}–${clip.last}`;
    block.append(...this.#thumbs(clip, width), label, told);
    return block;
  }

  #thumbs(clip, width) {
    const many = Math.max(1, Math.min(40, Math.floor(width / THUMB_PX))),
      urls = Array.from({length: many}, (_, i) => {
        if (clip.film) {
          const all = clip.last - clip.first + 1,
            frame = clip.first + Math.floor(((i + 0.5) / many) * all);
          return `/films/${clip.film}/thumbs/${frame - clip.offset}.jpg`;
        }
        return clip.photograph ? `/plates/${clip.photograph}/thumb.jpg` : null;
      });
    return urls
      .filter(url => url)
      .map((url, i) => {
        const image = document.createElement("img");
        image.src = url;
        image.alt = "";
        image.draggable = false;
        image.loading = "lazy";
        image.style.left = `${(i * width) / many}px`;
        image.style.width = `${width / many}px`;
        const {quarters = 0, flip = false} = clip.way || {};
        if (quarters || flip)
          image.style.transform = `rotate(${quarters * 90}deg) scaleX(${flip ? -1 : 1})`;
        return image;
      });
  }

  /** Where the frame that is shown is, and which clip that is. */
  mark() {
    const x = (this.cut.frame + 0.5) * this.scale;
    this.head.style.left = `${x}px`;
    for (const block of this.rail.querySelectorAll(".cut-clip"))
      block.classList.toggle("chosen", +block.dataset.index === this.cut.index);
    const {scrollLeft, clientWidth} = this.root;
    if (x < scrollLeft || x > scrollLeft + clientWidth) this.root.scrollLeft = x - clientWidth / 2;
  }

  #frameAt(event) {
    const box = this.rail.getBoundingClientRect();
    return (event.clientX - box.left) / this.scale;
  }

  #grab(event) {
    if (event.button !== 0) return;
    const block = event.target.closest(".cut-clip");
    this.cut.show(this.#frameAt(event));
    if (!block) return;
    const clip = this.cut.data.clips[+block.dataset.index],
      box = block.getBoundingClientRect();
    let kind = "move";
    if (event.clientX - box.left < EDGE_PX) kind = "first";
    else if (box.right - event.clientX < EDGE_PX) kind = "last";
    this.drag = {kind, clip, block, x: event.clientX, moved: false};
    this.root.setPointerCapture(event.pointerId);
  }

  #move(event) {
    const {drag} = this;
    if (!drag) return this.#hint(event);
    const px = event.clientX - drag.x;
    if (Math.abs(px) >= LEAST_DRAG_PX) drag.moved = true;
    if (!drag.moved) return;
    drag.block.classList.add("dragged");
    if (drag.kind === "move") drag.block.style.transform = `translateX(${px}px)`;
    else if (drag.kind === "last")
      drag.block.style.width = `${Math.max(2, drag.clip.length * this.scale + px)}px`;
    else drag.block.style.marginLeft = `${px}px`;
  }

  #hint(event) {
    const block = event.target.closest?.(".cut-clip");
    if (!block) return;
    const box = block.getBoundingClientRect(),
      edge = Math.min(event.clientX - box.left, box.right - event.clientX) < EDGE_PX;
    block.style.cursor = edge ? "ew-resize" : "grab";
  }

  #let(event) {
    const {drag} = this;
    this.drag = null;
    if (!drag?.moved) return;
    const by = Math.round((event.clientX - drag.x) / this.scale),
      {clip} = drag;
    if (drag.kind === "move" && clip.over !== null)
      this.cut.do("over", {id: clip.id, to: Math.max(0, clip.over + by)});
    else if (drag.kind === "move") this.cut.do("move", {id: clip.id, to: this.#place(event, clip)});
    else if (by) this.cut.do(drag.kind, {id: clip.id, by}).then(() => this.lay());
    if (drag.kind !== "move" && !by) this.lay();
    this.mark();
  }

  /** Before which of the other clips the pointer is. */
  #place(event, clip) {
    const frame = this.#frameAt(event),
      others = this.cut.data.clips.filter(other => other !== clip);
    return others.filter(({begin, length}) => begin + length / 2 < frame).length;
  }
}
