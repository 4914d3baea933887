// The frames of a filmed plate: which is shown, its small picture, playing at the true rate. Knows nothing of how the strip is drawn.

const KEPT = 150; // decoded pictures; each of 1280 × 720 takes 4 MB
const AHEAD = 30;
const FIRST = 12; // pictures that have to be there before playing begins

export class Frames {
  /** `changed()` is called when another frame is shown, or its picture has come. */
  constructor(data, changed) {
    Object.assign(this, data);
    this.at = data.shown;
    this.gone = new Set(data.missing);
    this.changed = changed;
    this.pictures = new Map(); // by number: an ImageBitmap, or null while it is fetched
    this.playing = false;
    this.dropped = 0;
    this.played = 0;
  }

  get count() {
    return this.last - this.first + 1;
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
    return this.pictures.has(this.at) && this.pictures.get(this.at) === undefined;
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
  /** Play from here, once the first pictures have come; those that can't come aren't waited for. */
  async play() {
    if (this.count < 2) return;
    this.playing = true;
    this.run = {}; // which of several beginnings goes on
    const {run} = this;
    this.dropped = this.played = 0;
    if (this.at === this.last) this.at = this.first;
    this.changed();
    await Promise.all(
      Array.from({length: FIRST}, (_, ahead) => this.#fetch(this.#after(this.at, ahead))),
    );
    if (this.playing && this.run === run) this.#run(run);
  }

  /** The number `by` frames on; after the last comes the first. */
  #after(number, by) {
    return this.first + ((number - this.first + by) % this.count);
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
        // A picture that hasn't come, or whose moment went by unseen, is dropped; one that is missing has none.
        this.dropped += to - due - 1;
        if (!this.pictures.get(number) && !this.gone.has(number)) this.dropped += 1;
        due = to;
        this.at = number;
        for (let ahead = 0; ahead < AHEAD; ahead++) this.#fetch(this.#after(number, ahead));
        this.changed();
      }
      requestAnimationFrame(tick);
    };
    requestAnimationFrame(tick);
  }

  /** Ask again for what wasn't there: small pictures are made while the page is open. */
  again() {
    for (const [number, picture] of this.pictures)
      if (picture === undefined) this.pictures.delete(number);
    this.#fetch(this.at);
  }

  async #fetch(number) {
    if (this.pictures.has(number) || this.gone.has(number)) return;
    this.pictures.set(number, null);
    let picture;
    try {
      const answer = await fetch(this.url("small", number));
      if (answer.status === 200) picture = await createImageBitmap(await answer.blob());
    } catch {
      picture = undefined;
    }
    this.pictures.set(number, picture);
    for (const [oldest, old] of this.pictures) {
      if (this.pictures.size <= KEPT) break;
      if (oldest === this.at) continue;
      old?.close();
      this.pictures.delete(oldest);
    }
    if (number === this.at) this.changed();
  }
}

/** Minutes, seconds and hundredths of a moment. */
export function moment(seconds) {
  const minutes = Math.floor(seconds / 60);
  return `${minutes}:${(seconds - 60 * minutes).toFixed(2).padStart(5, "0")}`;
}

/** A round number of frames between two marks of a ruler, so that marks are `least` px apart. */
export function spacing(pixelsPerFrame, least) {
  for (let ten = 1; ; ten *= 10)
    for (const step of [ten, 2 * ten, 5 * ten]) if (step * pixelsPerFrame >= least) return step;
}
