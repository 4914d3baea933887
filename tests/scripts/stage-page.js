// The Set page as the server sends it, with its table, its two views and its forms; and what it
// asks the server.

import {layTable} from "./laid.js";
import {Element, fresh, page, serve, turn} from "./page.js";

export let root, outside, form, sent, assigned, swaps;
let loaded = 0;

export const CUBE = {
  points: [0, 0, 0, 1, 0, 0, 1, 1, 0, 0, 1, 0],
  faces: [0, 1, 2, 0, 2, 3],
  lines: [0, 1, 1, 2],
};
export const WORLD = {
  eye: [3, 2, 6],
  up: "Y",
  right: [1, 0, 0],
  spacing: 1,
  spots: [{at: [1, 2, 0], plus_minus: [0.1, 0.2, 0.0001]}],
  card: null,
  cameras: [
    {
      eye: [3, 2, 6],
      end: [
        [2, 3, 4],
        [4, 3, 4],
        [4, 1, 4],
        [2, 1, 4],
      ],
      right: [1, 0, 0],
      facts: [],
      focus: null,
      limits: [],
      chosen: true,
      opacity: 0.1,
      side: "facing",
    },
  ],
  solids: {b1: CUBE, b2: CUBE},
};

export function told(more = {}) {
  return {
    picture: [2000, 1000],
    plate: [2000, 1000],
    through: "match",
    card: true,
    world: structuredClone(WORLD),
    chosen: "b1",
    lens: [
      {id: "b1", name: "Crate", d: "M0 0L10 0", locked: false},
      {id: "b2", name: "Mast", d: "M5 5L9 9", locked: true},
    ],
    handles: {b1: {move: [500, 500], turn: [600, 500], up: [500, 400]}},
    items: [{id: "b1", way: false}],
    paths: [],
    revision: 21,
    sizes: {box: [1, 2, 0.5], block: [1, 3, 1]},
    seconds_per_mb: 0.5,
    ...more,
  };
}

/**
 * The page with other data, other elements by id, other data of the view from outside, and answers
 * by address.
 */
export async function begin(more = {}, elements = {}, seen = {}, answers = {}) {
  fresh();
  ({root} = layTable());
  root.found.svg = new Element("svg");
  root.found["[data-handle], [data-item]"] = null;
  Object.assign(page.byId, {"light-table": root, table: new Element("div", {innerHTML: ""})});
  for (const id of "marks hint kind looks card-ghost views divider lens-view revision".split(" "))
    page.byId[id] = new Element("input", {value: "", parentElement: new Element()});
  page.byId.kind.value = "box";
  page.byId.revision.textContent = "21";
  Object.assign(page.byId, elements);
  outside = page.byId["set-view"] = new Element("div", {width: 400, height: 300});
  form = page.byId["item-form"] = new Element("form");
  Object.assign(form.dataset, {drag: "/drag", place: "/place", plan: "/plan"});
  form.elements = Object.fromEntries(
    ["name", "width", "height", "depth", "turn"].map(name => [name, {value: `${name}!`}]),
  );
  page.found["[data-tool]"] = ["choose", "place"].map(
    tool => new Element("button", {dataset: {tool}}),
  );
  page.found["input[name=base]"] = [new Element("input")];
  page.found["[data-history=undo]"] = new Element("button", {disabled: true});
  page.byId["page-data"] = {textContent: JSON.stringify(told(more))};
  sent = [];
  assigned = [];
  swaps = [];
  window.htmx = {ajax: async (_, url) => swaps.push(url)};
  location.assign = to => assigned.push(String(to));
  location.search = "";
  location.pathname = "/set";
  history.pushState = () => {};
  for (const key of ["set-views", "set-share"]) sessionStorage.removeItem(key);
  Object.assign(outside.dataset, seen);
  answered(own => own, answers);
  loaded += 1;
  await import(`../../web/stage/static/stage/stage.js?${loaded}`);
}

/** Answer a drag with where it ends, a place or a plan with an address. */
export function answered(change = own => own, answers = {}) {
  serve((url, body) => {
    if (url in answers) return answers[url];
    sent.push([url, structuredClone(body)]);
    if (url !== "/drag") return change({url: "?item=b3"});
    const moved = {...told(), handles: {b1: {...told().handles.b1, move: body.at}}};
    if (body.done) return change({...moved, revision: body.base + 1, world: WORLD});
    const {lens, handles} = moved;
    return change({
      lens: [lens[0]],
      handles,
      solids: {b1: CUBE},
      figures: {turn: "12°"},
      moved: "+1 m",
    });
  });
}

export const at = (x, y, more = {}) => ({
  clientX: 112 + 0.4 * x,
  clientY: 162 + 0.4 * y,
  button: 0,
  pointerId: 1,
  target: root,
  ...more,
});
export const shapes = kind =>
  page.byId.marks.children.filter(child => child.dataset[kind] !== undefined);
export const handle = name => shapes("handle").find(shape => shape.dataset.handle === name);
export const on = element => {
  element.found["[data-handle], [data-item]"] = element;
  element.found["[data-handle]"] = element.dataset.handle ? element : null;
  element.found["[data-item]"] = element.dataset.item ? element : null;
  return {target: element};
};
export const press = (key, more = {}) =>
  page.tell("keydown", {key, target: new Element("body"), ...more});
export const round = numbers => numbers.map(value => Math.round(value * 10) / 10);
export const settle = async () => {
  for (let times = 0; times < 4; times += 1) await turn();
};
