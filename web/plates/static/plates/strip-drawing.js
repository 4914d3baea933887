// What is drawn in the frame strip: thumbnails, a ruler, a curve, the playhead, in and out.

import {drawTurned, moment, spacing, timecode} from "./frames.js";

const RULER = 18;

export class StripDrawing {
  /** `strip`: its `unit` is the ruler's, its `curve` is laid over the pictures. */
  constructor(strip, canvas, frames) {
    Object.assign(this, {strip, canvas, frames});
    this.thumbs = new Map();
  }

  /** Ask again for thumbnails that weren't there. */
  forgetFailed() {
    for (const [number, image] of this.thumbs)
      if (image.complete && !image.naturalWidth) this.thumbs.delete(number);
  }

  /** Px from the left where a picture number begins. */
  left(number) {
    return ((number - this.frames.first) / this.frames.count) * this.canvas.clientWidth;
  }

  draw() {
    const {canvas, frames} = this,
      ratio = devicePixelRatio || 1,
      width = canvas.clientWidth,
      height = canvas.clientHeight;
    if (!width) return;
    if (canvas.width !== Math.round(width * ratio) || canvas.height !== Math.round(height * ratio))
      [canvas.width, canvas.height] = [width * ratio, height * ratio].map(Math.round);
    const c = canvas.getContext("2d");
    c.setTransform(ratio, 0, 0, ratio, 0, 0);
    c.fillStyle = "#3b3c3d";
    c.fillRect(0, 0, width, height);
    const tall = height - RULER,
      wide = (tall * frames.size[0]) / frames.size[1];
    for (let left = 0; left < width; left += wide) {
      const middle = Math.min(left + wide / 2, width - 1);
      const number = frames.first + Math.floor((middle / width) * frames.count);
      const thumb = this.thumb(number);
      if (thumb) drawTurned(c, thumb, [left, RULER, wide - 1, tall], frames.way);
    }
    this.#gaps(c, height);
    this.#drawCurve(c, height);
    this.#outside(c, width, height);
    this.#ruler(c, width);
    const x = this.left(frames.at),
      across = Math.max(2, width / frames.count);
    c.fillStyle = "#ffffff55";
    c.fillRect(x, 0, across, height);
    c.fillStyle = "#fff";
    c.fillRect(x, 0, 2, height);
    const worked = this.left(frames.shown) + width / frames.count / 2;
    c.beginPath();
    c.moveTo(worked - 5, height);
    c.lineTo(worked + 5, height);
    c.lineTo(worked, height - 8);
    c.fill();
  }

  /** Where pictures are missing the strip is hatched, so that it can be told without colour. */
  #gaps(c, height) {
    c.strokeStyle = "#fff";
    c.lineWidth = 1;
    for (const number of this.frames.gone) {
      const left = this.left(number),
        right = this.left(number + 1);
      c.fillStyle = "#101416";
      c.fillRect(left, RULER, right - left, height - RULER);
      for (let x = left - (left % 6); x < right; x += 6) {
        c.beginPath();
        c.moveTo(Math.max(x, left), height);
        c.lineTo(Math.min(x + 6, right), RULER);
        c.stroke();
      }
    }
  }

  #drawCurve(c, height) {
    const values = this.strip.curve?.values.filter(value => value !== null) || [];
    if (!values.length) return;
    const most = Math.max(...values, 1e-9),
      half = this.canvas.clientWidth / this.frames.count / 2,
      line = new Path2D();
    let broken = true;
    this.strip.curve.values.forEach((value, index) => {
      if (value === null) broken = true;
      else {
        const x = this.left(this.strip.curve.first + index) + half,
          y = height - 4 - (value / most) * (height - RULER - 10);
        broken ? line.moveTo(x, y) : line.lineTo(x, y);
        broken = false;
      }
    });
    for (const [style, width] of [
      ["#101416", 4],
      ["#ffffff", 1.5],
    ]) {
      c.strokeStyle = style;
      c.lineWidth = width;
      c.stroke(line);
    }
    const says = this.strip.curve.says(most);
    c.font = "12px Atkinson Hyperlegible Mono, monospace";
    c.textBaseline = "top";
    c.strokeStyle = "#101416";
    c.lineWidth = 3;
    c.strokeText(says, 6, RULER + 4);
    c.fillStyle = "#fff";
    c.fillText(says, 6, RULER + 4);
  }

  /** What lies before in or after out is dimmed; a post stands at each. */
  #outside(c, width, height) {
    const {frames} = this;
    if (!frames.marked) return;
    const [left, right] = [this.left(frames.from), this.left(frames.to + 1)];
    c.fillStyle = "#101416b0";
    c.fillRect(0, RULER, left, height - RULER);
    c.fillRect(right, RULER, width - right, height - RULER);
    c.fillStyle = "#d8e6ea";
    c.fillRect(left, 0, 3, height);
    c.fillRect(left, 0, 9, 3);
    c.fillRect(right - 3, 0, 3, height);
    c.fillRect(right - 9, 0, 9, 3);
  }

  /**
   * When a picture so many after the first is shown, as the ruler counts; seconds where it counts
   * frames.
   */
  moment(after) {
    const {frames} = this;
    return this.strip.unit === "time code"
      ? timecode(frames.timecode.start + after, frames.timecode)
      : moment(after / frames.rate);
  }

  /** The marks of the ruler: [pictures after the first, text]. */
  #marks(width) {
    const {frames} = this,
      across = width / frames.count,
      out = [];
    if (this.strip.unit === "frames") {
      const each = spacing(across, 64),
        first = frames.first + frames.offset;
      for (
        let frame = Math.ceil(first / each) * each;
        frame <= frames.last + frames.offset;
        frame += each
      )
        out.push([frame - first, frame]);
      return out;
    }
    const coded = this.strip.unit === "time code",
      rate = coded ? frames.timecode.count : frames.rate,
      each = spacing(across * rate, coded ? 110 : 64) * rate,
      start = coded ? frames.timecode.start : 0;
    for (let at = Math.ceil(start / each) * each; at - start < frames.count; at += each)
      out.push([at - start, this.moment(Math.round(at - start))]);
    return out;
  }

  #ruler(c, width) {
    const {frames} = this;
    c.fillStyle = "#fff";
    c.font = "12px Atkinson Hyperlegible Mono, monospace";
    c.textBaseline = "top";
    for (const [after, text] of this.#marks(width)) {
      const x = this.left(frames.first + after);
      c.fillRect(x, 0, 1, RULER);
      c.fillText(text, x + 4, 3);
    }
  }

  thumb(number) {
    const known = this.thumbs.get(number);
    if (known) return known.complete && known.naturalWidth ? known : null;
    if (this.frames.gone.has(number)) return null;
    const image = new Image();
    this.thumbs.set(number, image);
    image.addEventListener("load", () =>
      number === this.frames.at ? this.strip.paint() : this.draw(),
    );
    image.src = this.frames.url("thumbs", number);
    return null;
  }
}
