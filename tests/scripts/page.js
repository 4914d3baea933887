// A page to test scripts on without a browser: it finds the modules where the server has them, and
// stands in for as much of the document as they touch.

import {register} from "node:module";

// "/static/ui/app.js" lies in web/ui/static/ui/app.js; three.js draws nothing here.
const RESOLVE = `
export function resolve(specifier, context, next) {
  if (specifier === "three") return next("${new URL("three.js", import.meta.url)}", context);
  if (specifier.startsWith("../vendor/"))
    return next(new URL("../../web/ui/static/" + specifier.slice(3), "${import.meta.url}").href);
  const web = /^(.*\\/web)\\/[^/]+\\/static\\/[^/]+\\/[^/]+$/.exec(context.parentURL ?? "");
  const other = /^\\.\\.\\/([^./]+)\\/([^/]+\\.js)$/.exec(specifier);
  return web && other
    ? next(web[1] + "/" + other[1] + "/static/" + other[1] + "/" + other[2], context)
    : next(specifier, context);
}`;
register(`data:text/javascript,${encodeURIComponent(RESOLVE)}`);

/** Something that is listened to. */
class Heard {
  listeners = [];

  addEventListener(name, listener, options) {
    const first = options === true || options?.capture === true;
    this.listeners.push([name, listener, first]);
  }

  removeEventListener(name, listener) {
    this.listeners = this.listeners.filter(([own, other]) => own !== name || other !== listener);
  }

  dispatchEvent(event) {
    this.tell(event.type, event);
    return true;
  }

  /**
   * Call those that listen to `name`, those that asked to come first before the others; returns
   * what they return.
   */
  tell(name, event = {}) {
    let stopped = false;
    const whole = {target: this, ...event};
    whole.preventDefault = () => {
      whole.defaultPrevented = true;
      event.preventDefault?.();
    };
    whole.stopImmediatePropagation = () => {
      stopped = true;
      event.stopImmediatePropagation?.();
    };
    whole.stopPropagation = () => event.stopPropagation?.();
    const own = this.listeners.filter(([heard]) => heard === name);
    return [...own.filter(([, , first]) => first), ...own.filter(([, , first]) => !first)].map(
      ([, listener]) => (stopped ? undefined : listener(whole)),
    );
  }
}

/** An element, so wide and so high, at the screen's corner; what is asked for by a selector is in
 * `found`. */
export class Element extends Heard {
  constructor(tagName = "div", {width = 0, height = 0, ...more} = {}) {
    super();
    Object.assign(this, {tagName: tagName.toUpperCase(), children: [], attributes: {}, style: {}});
    Object.assign(this, {dataset: {}, found: {}, clientWidth: width, clientHeight: height});
    Object.assign(this, {textContent: "", className: "", scrollLeft: 0}, more);
    this.classes = new Set();
    this.classList = {
      add: (...names) => names.forEach(name => this.classes.add(name)),
      remove: (...names) => names.forEach(name => this.classes.delete(name)),
      toggle: (name, on = !this.classes.has(name)) =>
        on ? this.classes.add(name) : this.classes.delete(name),
      contains: name => this.classes.has(name),
    };
  }

  setAttribute(name, value) {
    this.attributes[name] = String(value);
    if (name.startsWith("data-")) this.dataset[name.slice(5)] = String(value);
  }

  getAttribute(name) {
    return this.attributes[name] ?? null;
  }

  removeAttribute(name) {
    delete this.attributes[name];
  }

  append(...children) {
    this.children.push(...children);
  }

  replaceChildren(...children) {
    this.children = children;
  }

  prepend(...children) {
    this.children.unshift(...children);
  }

  get firstChild() {
    return this.children[0] ?? null;
  }

  get lastChild() {
    return this.children.at(-1) ?? null;
  }

  /** What is put before this is remembered. */
  before(...others) {
    this.ahead = [...(this.ahead ?? []), ...others];
  }

  after() {}

  remove() {}

  setPointerCapture(id) {
    this.captured = id;
  }

  hasPointerCapture(id) {
    return this.captured === id;
  }

  releasePointerCapture() {
    this.captured = undefined;
  }

  getRootNode() {
    return page;
  }

  get ownerDocument() {
    return page;
  }

  focus() {
    page.activeElement = this;
  }

  /** A canvas to draw on, that forgets. */
  getContext() {
    return new Proxy({}, {get: (own, name) => own[name] ?? (() => {}), set: () => true});
  }

  contains(other) {
    return other === this || this.children.some(child => child.contains?.(other));
  }

  /** What is found here, or this itself where the selector names its kind. */
  closest(selector) {
    const kinds = selector.split(",").map(one => one.trim().replace(/[:[].*/, ""));
    return this.found[selector] ?? (kinds.includes(this.tagName.toLowerCase()) ? this : null);
  }

  querySelector(selector) {
    return this.found[selector] ?? null;
  }

  querySelectorAll(selector) {
    return this.found[selector] ?? [];
  }

  getBoundingClientRect() {
    const [left, top] = [this.left ?? 0, this.top ?? 0];
    const [width, height] = [this.clientWidth, this.clientHeight];
    return {left, top, width, height, right: left + width, bottom: top + height};
  }
}

/** The document: elements by id in `byId`, and by selector in `found`. */
export const page = new Element("html");
page.byId = {};
page.found["meta[name=csrf]"] = {content: "token"};
Object.assign(page, {
  body: new Element("body"),
  referrer: "",
  getElementById: id => page.byId[id] ?? null,
  createElement: name => new Element(name),
  createElementNS: (_, name) => new Element(name),
});

/** The browser's clock, and what waits for its next picture. */
const clock = {now: 0, waiting: []};
Object.defineProperty(performance, "now", {value: () => clock.now, configurable: true});

/** Let the browser show its next picture, some milliseconds later. */
export function picture(milliseconds = 20) {
  clock.now += milliseconds;
  for (const show of clock.waiting.splice(0)) show?.(clock.now);
}

const kept = {};
const window = new Heard();
Object.assign(globalThis, {
  document: page,
  window,
  addEventListener: window.addEventListener.bind(window),
  dispatchEvent: window.dispatchEvent.bind(window),
  devicePixelRatio: 1,
  location: {
    origin: "http://localhost",
    pathname: "/shot",
    hash: "",
    reloads: 0,
    reload: () => (globalThis.location.reloads += 1),
  },
  history: {
    replaceState(_, __, address) {
      globalThis.history.address = address;
    },
  },
  requestAnimationFrame: show => clock.waiting.push(show),
  cancelAnimationFrame: number => delete clock.waiting[number - 1],
  sessionStorage: {
    getItem: key => kept[key] ?? null,
    setItem: (key, value) => {
      kept[key] = String(value);
    },
    removeItem: key => delete kept[key],
  },
  ResizeObserver: class {
    observe() {}
  },
  MutationObserver: class {
    observe() {}
  },
});

/** An empty page, to which nobody listens. */
export function fresh() {
  page.byId = {};
  page.found = {"meta[name=csrf]": {content: "token"}};
  page.activeElement = page.body;
  page.referrer = "";
  page.listeners = [];
  window.listeners = [];
  page.body.children = [];
}

/** The notices that the artist sees. */
export const notices = () => page.body.children.map(box => box.children[0].textContent);

/** Let the server answer: `answer(url, body)` gives what comes as JSON, or an Error. */
export function serve(answer) {
  globalThis.fetch = async (url, {body} = {}) => {
    const said = await answer(url, body && JSON.parse(body));
    if (said instanceof Error) throw said;
    const {status = 200, ...json} = said;
    return {ok: status < 400, status, json: async () => json};
  };
}

/** Something that is answered later: {promise, answer, fail}. */
export function later() {
  let answer, fail;
  const promise = new Promise((done, failed) => {
    [answer, fail] = [done, failed];
  });
  return {promise, answer, fail};
}

/** Let everything that waits for nothing but its turn go on. */
export const turn = () => new Promise(done => setTimeout(done));
