// The frames of a filmed plate: which is shown, its small picture, playing at the true rate. Knows
// nothing of how the strip is drawn.

const KEPT = 150; // decoded pictures; each of 1280 × 720 takes 4 MB
export const AHEAD = 30;
const FIRST = 12; // pictures that have to be there before playing begins

/**
 * Decoded pictures by number, fetched when they are asked for; `arrived(number)` is called for each
 * that has come or failed.
 */
export class Pictures {
  constructor(url, arrived, kept = KEPT) {
    Object.assign(this, {url, arrived, kept});
    // An ImageBitmap; null while it is fetched; undefined where there was none.
    this.all = new Map();
  }
  get(number) {
    return this.all.get(number);
  }
  failed(number) {
    return this.all.has(number) && this.all.get(number) === undefined;
  }
  /** Ask again for what wasn't there. */
  forgetFailed() {
    for (const number of [...this.all.keys()]) if (this.failed(number)) this.all.delete(number);
  }
  /** Throw all out. */
  forget() {
    for (const picture of this.all.values()) picture?.close();
    this.all.clear();
  }
  /** Fetch a picture unless it is there; `wanted` is the one that may not be thrown out for it. */
  async fetch(number, wanted = number) {
    if (this.all.has(number)) return;
    const {all} = this;
    all.set(number, null);
    let picture;
    try {
      const answer = await fetch(this.url(number));
      if (answer.status === 200) picture = await createImageBitmap(await answer.blob());
    } catch {
      picture = undefined;
    }
    if (!all.has(number)) return picture?.close(); // thrown out meanwhile
    all.set(number, picture);
    for (const [oldest, old] of this.all) {
      if (this.all.size <= this.kept) break;
      if (oldest === wanted) continue;
      old?.close();
      this.all.delete(oldest);
    }
    this.arrived(number);
  }
}

export class Frames {
  /** `changed()` is called when another frame is shown, or its picture has come. */
  constructor(data, changed) {
    Object.assign(this, data);
    this.at = data.shown;
    this.gone = new Set(data.missing);
    this.changed = changed;
    this.pictures = new Pictures(
      number => this.url("small", number),
      number => Math.abs(number - this.at) <= 1 && changed(),
    );
    this.playing = false;
    this.dropped = 0;
    this.played = 0;
  }

  get count() {
    return this.last - this.first + 1;
  }
  /** Whether a range is marked that isn't the whole. */
  get marked() {
    return Boolean(this.range);
  }
  /**
   * The first and the last picture of the marked range, as far as there are pictures; of all where
   * none is marked.
   */
  get from() {
    return this.#within(this.range ? this.range[0] - this.offset : this.first);
  }
  get to() {
    return this.#within(this.range ? this.range[1] - this.offset : this.last);
  }
  #within(number) {
    return Math.min(this.last, Math.max(this.first, number));
  }
  get frame() {
    return this.at + this.offset;
  }
  /** The picture of the frame that is shown, as far as it is there. */
  get picture() {
    return this.pictures.get(this.at) || null;
  }

  /** Whether the server had no picture of the frame that is shown. */
  get failed() {
    return this.pictures.failed(this.at);
  }

  /** The picture of another frame, asked for if it isn't there. */
  neighbour(number) {
    if (number < this.first || number > this.last) return null;
    this.#fetch(number);
    return this.pictures.get(number) || null;
  }

  /** Where the real pixels of the frame that is shown are. */
  get tiles() {
    return this.tilesOf(this.at);
  }

  /** Where the real pixels of a picture are: its first tile. */
  tilesOf(number) {
    return `/films/${this.digest}/tile/${number}/0/0.png?way=${this.way.name}`;
  }

  url(kind, number) {
    return `/films/${this.digest}/${kind}/${number}.jpg`;
  }

  show(number) {
    this.at = Math.min(this.last, Math.max(this.first, Math.round(number)));
    this.#fetch(this.at);
    this.changed();
  }
  step(by) {
    this.pause();
    this.show(this.at + by);
  }

  toggle() {
    if (this.playing) this.pause();
    else this.play();
  }
  pause() {
    if (!this.playing) return;
    this.playing = false;
    this.changed();
  }
  /**
   * Play the marked range from here, once the first pictures have come; those that can't come
   * aren't waited for.
   */
  async play() {
    if (this.from === this.to) return;
    this.playing = true;
    this.run = {}; // which of several beginnings goes on
    const {run} = this;
    this.dropped = this.played = 0;
    if (this.at < this.from || this.at >= this.to) this.at = this.from;
    this.changed();
    await Promise.all(
      Array.from({length: FIRST}, (_, ahead) => this.#fetch(this.#after(this.at, ahead))),
    );
    if (this.playing && this.run === run) this.#run(run);
  }

  /** The number `by` frames on; after the last of the range comes its first. */
  #after(number, by) {
    return this.from + ((number - this.from + by) % (this.to - this.from + 1));
  }

  /** The numbers that are shown next while it plays, the one that is shown first. */
  soon() {
    return Array.from({length: AHEAD}, (_, ahead) => this.#after(this.at, ahead));
  }

  #run(run) {
    const from = this.at,
      began = performance.now();
    let due = 0; // frames since playing began
    const tick = now => {
      if (!this.playing || this.run !== run) return;
      const to = Math.floor(((now - began) / 1000) * this.rate);
      if (to > due) {
        const number = this.#after(from, to);
        this.played += to - due;
        // A picture that hasn't come, or whose moment went by unseen, is dropped; one that is
        // missing has none.
        this.dropped += to - due - 1;
        if (!this.pictures.get(number) && !this.gone.has(number)) this.dropped += 1;
        due = to;
        this.at = number;
        for (const soon of this.soon()) this.#fetch(soon);
        this.changed();
      }
      requestAnimationFrame(tick);
    };
    requestAnimationFrame(tick);
  }

  /** Ask again for what wasn't there: small pictures are made while the page is open. */
  again() {
    this.pictures.forgetFailed();
    this.#fetch(this.at);
  }

  #fetch(number) {
    return this.gone.has(number) ? null : this.pictures.fetch(number, this.at);
  }
}

/** Draw a small picture into a box as the plate comes in: mirrored, then turned by quarters. */
export function drawTurned(c, picture, [x, y, width, height], {flip, quarters}) {
  const [across, down] = quarters % 2 ? [height, width] : [width, height];
  c.save();
  c.translate(x + width / 2, y + height / 2);
  c.rotate((quarters * Math.PI) / 2);
  if (flip) c.scale(-1, 1);
  c.drawImage(picture, -across / 2, -down / 2, across, down);
  c.restore();
}

/** Minutes, seconds and hundredths of a moment. */
export function moment(seconds) {
  const minutes = Math.floor(seconds / 60);
  return `${minutes}:${(seconds - 60 * minutes).toFixed(2).padStart(5, "0")}`;
}

/**
 * Time code of a frame counted from 00:00:00:00, as SMPTE ST 12-1 writes it; `left_out`: numbers
 * that drop-frame leaves out a minute.
 */
export function timecode(frame, {count, left_out: leftOut}) {
  const minute = count * 60,
    day = minute * 1440 - leftOut * 9 * 144;
  let number = ((frame % day) + day) % day;
  if (leftOut) {
    const ten = minute * 10 - leftOut * 9,
      rest = number % ten;
    const minutes = rest < minute ? 0 : 1 + Math.floor((rest - minute) / (minute - leftOut));
    number += leftOut * (9 * Math.floor(number / ten) + minutes);
  }
  const two = value => String(value).padStart(2, "0"),
    seconds = Math.floor(number / count);
  const clock = [Math.floor(seconds / 3600), Math.floor(seconds / 60) % 60, seconds % 60].map(two);
  return `${clock.join(":")}${leftOut ? ";" : ":"}${two(number % count)}`;
}

/** A round number of frames between two marks of a ruler, so that marks are `least` px apart. */
export function spacing(pixelsPerFrame, least) {
  for (let ten = 1; ; ten *= 10)
    for (const step of [ten, 2 * ten, 5 * ten]) if (step * pixelsPerFrame >= least) return step;
}
