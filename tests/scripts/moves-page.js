// The Moves page with its fields and its two views, as the server sends it; and what it asks the
// server. Only after the stand-in for three.js is there can its script be loaded.

import {Element, fresh, page, serve} from "./page.js";

await import("./three.js");

const IDS = `graph route through fly-speed remarks frame slider key-frame key-value key-kind
  revision record tolerance play time-first time-last time-to time-all channel by range-first
  range-last follows looks-at here-choice flies-ahead key-here key-fields remove-keys retime preset
  flying-lens plate-behind`.split(/\s+/);
const COUNT = 11;
const LEVEL = [1, 0, 0, 0, 1, 0, 0, 0, 1];

export let sent, route, through;
let loaded = 0;

/** A move of 11 frames along X, 1 m each, that looks along −Z; what the server made of it. */
export function made(more = {}) {
  return {
    first: 1001,
    eyes: Array.from({length: COUNT}, (_, i) => [i, 1.5, 0]),
    turns: Array.from({length: COUNT}, () => LEVEL),
    half: Array.from({length: COUNT}, () => [0.5, 0.28]),
    curves: {x: Array.from({length: COUNT}, (_, i) => i), y: Array(COUNT).fill(1.5)},
    readings: {speed: Array(COUNT).fill(25), near: Array(COUNT).fill(2)},
    nearest: Array(COUNT).fill("Tower"),
    exceeded: {},
    slopes: {x: [[1, 1]]},
    remarks: [{frame: 1006, says: "Too fast for the crane"}],
    ...more,
  };
}

function data(more = {}) {
  const authored = {
    first: 1001,
    last: 1011,
    by: "keys",
    follows: false,
    looks_at: null,
    curves: {
      x: [
        [1001, 0, "smooth"],
        [1011, 10, "smooth"],
      ],
      y: [[1001, 1.5, "smooth"]],
    },
  };
  return {
    authored: {...authored, ...more.authored},
    aircraft: null,
    made: made(),
    rate: 24,
    channels: {
      x: {title: "X", unit: "m", usual: 0},
      y: {title: "Y", unit: "m", usual: 0},
      z: {title: "Z", unit: "m", usual: 0},
    },
    readings: {speed: {title: "Speed", unit: "m/s"}, near: {title: "Nearest", unit: "m"}},
    places: {Tower: [5, 1.5, -10]},
    presets: {drone: {mass: 2, bank_per_g: 10, looks: "ahead"}},
    solids: [],
    try: "/try",
    save: "/save",
    record: "/record",
    ...more.data,
  };
}

export const field = id => page.byId[id];
export const press = (key, more = {}) =>
  page.tell("keydown", {key, target: new Element("body"), ...more});

/** Open the page; `more` changes its data and its address. */
export async function open(more = {}) {
  fresh();
  location.hash = more.hash || "";
  for (const id of IDS)
    page.byId[id] = new Element("input", {id, value: "", width: 400, height: 300});
  for (const name of ["speed", "near"]) page.byId[`read-${name}`] = new Element();
  page.byId["page-data"] = {textContent: JSON.stringify(data(more))};
  field("fly-speed").value = "2";
  field("revision").textContent = "7";
  field("through").found[".plate-behind"] = new Element("canvas");
  field("through").found[".picture-frame"] = new Element();
  page.found["#history [data-history=undo]"] = new Element("button", {disabled: true});
  page.found["[data-route]"] = ["plan", "front", "side"].map(
    name => new Element("button", {dataset: {route: name}}),
  );
  page.found["[data-aircraft]"] = ["mass", "bank_per_g"].map(
    name => new Element("input", {value: "", dataset: {aircraft: name}}),
  );
  page.found["input[name=base]"] = [new Element("input", {value: "7"})];
  sent = [];
  serve((url, body) => {
    if (!body) return {status: 404}; // a picture of the plate
    sent.push([url, structuredClone(body)]);
    if (url === "/try") return made();
    const {authored} = body;
    return {revision: body.base + 1, undo_label: "a key", authored, made: made()};
  });
  loaded += 1;
  await import(`../../web/moves/static/moves/keys.js?${loaded}`);
  [route, through] = [field("route"), field("through").children[0]];
}

export const saved = () => sent.filter(([url]) => url === "/save").map(([, body]) => body);
export function change(id, value) {
  field(id).value = value;
  field(id).tell("change");
}
