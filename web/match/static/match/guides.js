// Floor grid and horizon of the path's camera on the frame that is looked at, in place of those of the frame that is worked on.

const NOTHING = {paths: [], labels: [], says: ""};

export class PathGuides {
  /** `url`: where a frame's guides are; empty without a path. `paint()`: draws what is shown anew. */
  constructor(url, shown, paint) {
    Object.assign(this, {url, shown, paint});
    this.asked = null; // the frame whose guides were asked for last; null: the one that is worked on
  }

  /** Another frame is shown. While it plays, and until they come, nothing is drawn: never another frame's. */
  show(strip) {
    const {frames} = strip,
      frame = strip.away ? frames.frame : null;
    if (!this.url) return;
    if (frame === null) return this.#back();
    if (this.asked === null) this.own = this.shown.overlay;
    if (frames.playing) {
      if (this.asked !== "playing") this.#lay("playing", NOTHING);
      return;
    }
    if (frame === this.asked) return;
    this.#lay(frame, NOTHING);
    this.#fetch(frame);
  }

  #back() {
    if (this.asked === null) return;
    this.asked = null;
    this.shown.overlay = this.own;
    this.paint();
  }

  #lay(asked, overlay) {
    this.asked = asked;
    this.shown.overlay = overlay;
    this.paint();
  }

  async #fetch(frame) {
    const answer = await fetch(`${this.url}?frame=${frame}`, {
      headers: {Accept: "application/json"},
    });
    if (answer.ok && this.asked === frame) this.#lay(frame, await answer.json());
  }
}
