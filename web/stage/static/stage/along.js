// The set along a path: on the frame that is looked at, stand-ins and floor as its own camera sees
// them; outside, the camera on its way.

const CHUNK = 60; // frames that are asked for at once
const NOTHING = {lens: [], handles: {}, paths: []};

export class Along {
  /**
   * `urls`: `seen` and `path`, where the server tells of it; empty without a path. `lay(drawn)`:
   * draw other stand-ins and paths in the lens view, and outside those that have moved (`moved`, by
   * id); null: the page's own. `setView`: may be null.
   */
  constructor(urls, lay, setView) {
    Object.assign(this, {urls, lay, setView});
    this.frames = new Map(); // by number what its camera sees; null while it is fetched
    this.away = false;
    if (setView && urls.path) this.#fetchPath();
  }

  async #fetchPath() {
    const answer = await fetch(this.urls.path, {headers: {Accept: "application/json"}});
    const path = answer.ok ? await answer.json() : null;
    if (!path?.numbers) return;
    this.setView.path(path);
    if (this.number !== undefined) this.setView.at(this.away ? this.number : null);
  }

  /**
   * Another frame is shown. Never another frame's stand-ins: until its own have come, none are
   * drawn.
   */
  show(strip) {
    const {frames} = strip;
    this.strip = strip;
    this.number = frames.at;
    const was = this.away;
    this.away = strip.away;
    this.setView?.at(strip.away ? frames.at : null);
    if (!this.urls.seen) return;
    if (!strip.away) {
      if (was) this.lay(null);
      return;
    }
    this.lay(this.frames.get(frames.at) || NOTHING);
    if (!this.frames.has(frames.at)) this.#fetch(frames.at, frames.at + CHUNK - 1);
    else if (frames.playing && !this.frames.has(frames.at + CHUNK / 2))
      this.#fetch(frames.at + CHUNK / 2, frames.at + CHUNK / 2 + CHUNK - 1);
  }

  /**
   * Stand-ins have been changed: what was drawn of them is no more, nor what is still to come. The
   * page's own are drawn now.
   */
  forget() {
    this.frames = new Map();
    if (this.away) this.show(this.strip);
  }

  async #fetch(first, last) {
    const {frames} = this;
    for (let number = first; number <= last; number += 1)
      if (!frames.has(number)) frames.set(number, null);
    let drawn = null;
    try {
      const answer = await fetch(`${this.urls.seen}?first=${first}&last=${last}`, {
        headers: {Accept: "application/json"},
      });
      if (answer.ok) drawn = await answer.json();
    } catch {
      /* it is asked for again */
    }
    if (!drawn) {
      for (let number = first; number <= last; number += 1)
        if (frames.get(number) === null) frames.delete(number);
      return;
    }
    for (const [number, own] of Object.entries(drawn)) frames.set(+number, {handles: {}, ...own});
    if (this.away && frames === this.frames) this.lay(this.frames.get(this.number) || NOTHING);
  }
}
