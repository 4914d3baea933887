// Floor grid, horizon and aids of the path's camera on the frame that is looked at, in place of
// those of the frame that is worked on.

import {notice, post} from "../ui/app.js";

const NOTHING = {paths: [], labels: [], says: ""};

export class PathGuides {
  /**
   * `url`: where a frame's guides are. `aids`: their `wish` goes along.
   * `paint()`: draws what is shown anew.
   */
  constructor(url, shown, aids, paint) {
    Object.assign(this, {url, shown, aids, paint});
    // The frame whose guides were asked for last; null: the one that is worked on.
    this.asked = null;
  }

  /**
   * Another frame is shown. While it plays, and until they come, nothing is drawn: never another
   * frame's.
   */
  show(strip) {
    const {frames} = strip,
      frame = strip.away ? frames.frame : null;
    if (!this.url) return;
    // Without a path one camera serves all frames.
    if (frame === null || !this.shown.solvedPath) {
      if (this.asked !== null) this.#lay(null, null);
    } else if (frames.playing) {
      if (this.asked !== "playing") this.#lay("playing", NOTHING);
    } else if (frame !== this.asked) {
      this.#lay(frame, NOTHING);
      this.#fetch(frame);
    }
  }

  /** The path has changed, or there is a first one. */
  renew(strip) {
    const before = this.asked;
    this.show(strip);
    if (this.asked === before) this.refresh();
  }

  /** The aids have changed. */
  refresh() {
    if (Number.isInteger(this.asked)) this.#fetch(this.asked);
  }

  #lay(asked, overlay) {
    this.asked = asked;
    this.shown.elsewhere = overlay;
    this.paint();
  }

  async #fetch(frame) {
    const wish = JSON.stringify(this.aids.wish);
    try {
      const answer = await post(this.url, {frame, aids: this.aids.wish});
      if (this.asked === frame && wish === JSON.stringify(this.aids.wish)) this.#lay(frame, answer);
    } catch (error) {
      notice(error.message);
    }
  }
}
