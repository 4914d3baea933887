// One layer of a render on the table: a picture, or a sequence of which the frame that is shown is
// drawn.

import {Pictures} from "./frames.js";

const KEPT = 40; // decoded pictures of a layer; each of 1920 × 1080 takes 8 MB

export class Layer {
  /**
   * `url(frame)`: where a frame's picture is. `frames`: those that there are; none for a still,
   * whose frame is undefined.
   */
  constructor(table, url, frames) {
    this.url = url;
    this.there = new Set(frames);
    this.element = frames.length
      ? table.layElement(document.createElement("canvas"))
      : table.lay(url());
    this.pictures = new Pictures(
      frame => this.url(frame),
      frame => frame === this.at && this.#draw(),
      KEPT,
    );
  }

  /**
   * Show a frame, and fetch those that are soon shown. A frame that isn't there is shown as
   * nothing.
   */
  show(frame, soon = []) {
    if (!this.there.size) return;
    this.at = frame;
    for (const next of [frame, ...soon].slice(0, KEPT / 2))
      if (this.there.has(next)) this.pictures.fetch(next, frame);
    this.#draw();
  }

  /** Its pictures are at other places from now on. */
  renew(frame) {
    if (!this.there.size) {
      this.element.src = this.url();
      return;
    }
    this.pictures.forget();
    this.show(frame);
  }

  #draw() {
    const picture = this.pictures.get(this.at),
      {element} = this,
      c = element.getContext("2d");
    if (picture) {
      if (element.width !== picture.width || element.height !== picture.height)
        Object.assign(element, {width: picture.width, height: picture.height});
      c.clearRect(0, 0, element.width, element.height);
      c.drawImage(picture, 0, 0);
    } else if (picture === undefined) c.clearRect(0, 0, element.width, element.height);
  }
}
