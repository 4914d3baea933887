// Talks to the server: previews while something is dragged, edits one after another, the report
// renewed with each answer.

import {edit, notice, post} from "../ui/app.js";
import {newestOnly} from "../ui/draw.js";
import {putBack, queueBehind, typedIn} from "./typed.js";

export class Asking {
  /** `pen`: what is drawn or dragged just now, of which the server knows nothing yet. */
  constructor({sheet, root, shown, aids, leaves, view, pen}) {
    Object.assign(this, {sheet, root, shown, aids, leaves, view, pen});
    this.saving = Promise.resolve();
    this.pending = 0; // edits on their way
    // A promise, while the figures that follow from saved marks are on their way.
    this.telling = null;
    this.busy = false; // whether one of them makes marks of its own
    this.refreshing = null; // {own}, while marks and overlay are fetched
    this.preview = newestOnly(marks => this.#preview(marks));
    queueBehind(
      sheet,
      () => this.pending > 0 || this.telling !== null,
      () => Promise.all([this.saving, this.telling]),
    );
    document.body.addEventListener("evidence-changed", () =>
      this.refresh().then(() => this.showMark()),
    );
    window.addEventListener("load", () => this.showMark());
  }

  /**
   * Ask for an edit, after those that are still under way. `own`: the marks are already here as
   * they will be.
   */
  ask(url, body, own = false) {
    this.preview.clear();
    this.answer = null;
    this.pending += 1;
    if (!own) this.#setBusy(true);
    this.saving = this.saving.then(async () => {
      try {
        this.answer = await post(url, {
          ...body(),
          base: this.shown.revision,
          aids: this.aids.wish,
        });
        if (this.answer.later) this.#saved(this.answer.revision);
        else this.#renew(this.answer);
      } catch (error) {
        notice(error.message, "bad", error);
        if (!error.newest) await this.refresh(1);
      } finally {
        this.pending -= 1;
        if (!own) this.#setBusy(false);
      }
    });
    return edit(this.saving);
  }

  /**
   * Marks that are drawn here already are saved first, and only then what follows from them is
   * worked out: nobody waits for a
   * fit to know that nothing is lost. `run`: small edits of one kind that follow each other are one
   * revision.
   */
  save(label, run = "") {
    const marks = structuredClone(this.shown.marks);
    return this.ask(this.sheet.dataset.save, () => ({marks, label, run, later: true}), true);
  }

  #saved(revision) {
    this.shown.revision = revision;
    document.getElementById("revision").textContent = revision;
    this.telling ??= this.#tell().finally(() => {
      this.telling = null;
    });
  }

  /** Fetch the figures of what was saved last; again where more was saved meanwhile. */
  async #tell() {
    for (;;) {
      const wanted = this.shown.revision;
      try {
        const answer = await this.#all();
        // What it tells may be older than what was saved: somebody else has undone it since.
        if (this.shown.revision === wanted) return this.#renew(answer, 0);
      } catch (error) {
        return notice(error.message);
      }
    }
  }

  #all() {
    return post(this.sheet.dataset.state, {aids: this.aids.wish, report: true});
  }

  /** Whether nothing can be drawn until the server has answered; says so. */
  held() {
    if (this.busy) notice("One moment: the last step is still under way.", "good");
    return this.busy;
  }

  /**
   * Fetch marks and overlay as they are now, as the aids are wished for. `own`: how many edits on
   * their way it is the answer of.
   */
  async refresh(own = 0) {
    // One that takes another one's place is the answer of its edits too.
    const wanted = {own: Math.max(own, this.refreshing?.own ?? 0)};
    this.refreshing = wanted;
    try {
      const {revision} = this.shown,
        wish = {aids: this.aids.wish, straight: this.aids.straight},
        answer = await post(this.sheet.dataset.state, wish);
      if (this.refreshing !== wanted) return; // another one was asked for since
      if (this.shown.revision !== revision) return await this.refresh(own); // or something saved
      this.#take(answer, wanted.own);
      this.view.paint();
    } catch (error) {
      notice(error.message);
    }
    if (this.refreshing === wanted) this.refreshing = null;
  }

  /** What was drawn since an answer was asked for is not in it, and stays. */
  #take(answer, own) {
    const newer = !this.busy && (this.pen.drag || this.pen.line || this.pending > own);
    this.shown.take(newer ? {...answer, marks: this.shown.marks, saved: answer.marks} : answer);
  }

  /** Fetch everything anew, the report too. */
  renew() {
    this.saving = this.saving.then(async () => {
      try {
        this.#renew(await this.#all());
      } catch (error) {
        notice(error.message);
      }
    });
    return this.saving;
  }

  /** The form of the mark that was chosen last. */
  showMark() {
    const place = document.getElementById("mark"),
      {chosen, known} = this.shown;
    if (!place) return;
    place.replaceChildren();
    const mark = [...chosen].at(-1);
    if (chosen.size !== 1 || !known.has(mark)) return;
    const url = this.sheet.dataset.mark.replace("ID", mark);
    window.htmx?.ajax("GET", url, {target: "#mark", swap: "innerHTML"});
  }

  /** Where on the floor a place of the plate lies: `at`, or else a `problem`. */
  async onFloor([x, y]) {
    const headers = {Accept: "application/json"};
    try {
      return await (await fetch(`${this.sheet.dataset.floor}?x=${x}&y=${y}`, {headers})).json();
    } catch {
      return {problem: "The server does not answer. Try again when it runs."};
    }
  }

  #setBusy(busy) {
    this.busy = busy;
    this.root.classList.toggle("waiting", busy);
  }

  async #preview(marks) {
    const began = performance.now();
    const answer = await post(this.sheet.dataset.preview, {marks, aids: this.aids.wish});
    if (!this.pen.drag) return;
    this.shown.overlay = answer.overlay;
    this.shown.residuals = answer.residuals;
    this.view.paint();
    const figures = document.getElementById("figures");
    if (figures) figures.outerHTML = answer.figures;
    window.dispatchEvent(new CustomEvent("previewed", {detail: performance.now() - began}));
  }

  /** `own`: how many edits on their way the answer is the answer of. */
  #renew(answer, own = 1) {
    this.#take(answer, own);
    this.view.paint();
    const {sheet} = this,
      typed = typedIn(sheet);
    const how = {swapStyle: "morph:innerHTML", settleDelay: 0};
    window.htmx.swap(sheet, answer.report, how, {contextElement: sheet}); // which allows morphing
    putBack(sheet, typed);
    this.leaves.settle();
    this.showMark();
    this.view.redraw();
    if (answer.says) notice(answer.says, "good");
  }
}
