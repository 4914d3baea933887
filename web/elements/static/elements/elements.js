// The Elements step: the layers of a render on the table.

import {Layer} from "../plates/layer.js";
import {startStrip} from "../plates/strip.js";
import {typing, watchJob} from "../ui/app.js";
import {LightTable} from "../ui/table.js";

const root = document.getElementById("light-table"),
  layers = document.getElementById("layers");

if (root) {
  const table = new LightTable(root);
  table.panWithLeft = event => event.button === 0;
  if (layers) startLayers(table);
  else startStrip(table);
}

function startLayers(table) {
  const choose = document.getElementById("look"),
    hint = document.getElementById("hint"),
    slider = document.getElementById("frame"),
    frames = JSON.parse(layers.dataset.frames || "[]"),
    // Since it was rendered, the shot's frames have been shifted by so much.
    shift = +layers.dataset.shift;
  const last = sessionStorage.getItem("look");
  if ([...choose.options].some(option => option.value === last)) choose.value = last;
  const url = frame =>
    layers.dataset.folder + choose.value + (frame === undefined ? "" : `?frame=${frame - shift}`);
  const layer = new Layer(table, url, frames),
    {element} = layer;
  element.style.background = "#000";
  let frame = frames[0];
  const toFrame = (next, soon) => {
    frame = next;
    layer.show(frame, soon);
    hint.textContent = frames.includes(frame) ? "" : `Frame ${frame} isn’t rendered.`;
    if (!frames.includes(frame)) return;
    document.querySelectorAll("[data-save]").forEach(link => {
      link.href = `${link.dataset.save}&frame=${frame - shift}`;
    });
  };
  const toLayer = () => {
    sessionStorage.setItem("look", choose.value);
    layer.renew(frame);
  };
  choose.addEventListener("change", toLayer);
  const slid = () => {
    document.getElementById("frame-number").value = slider.value;
    toFrame(+slider.value);
  };
  slider?.addEventListener("input", slid);
  const strip = startStrip(table, {
    lay: () => {}, // the render lies on the table, not the plate
    shows: ({frames: at}) =>
      frames.length &&
      toFrame(at.frame, at.playing ? at.soon().map(number => number + at.offset) : []),
  });
  if (strip && frames.length && !frames.includes(strip.frames.frame))
    strip.frames.show(frames[0] - strip.frames.offset);
  const go = by => {
    if (strip) return strip.frames.step(by);
    if (!slider) return;
    slider.value = +slider.value + by;
    slid();
  };
  if (frames.length && !strip) toFrame(frame);
  document.addEventListener("keydown", event => {
    if (typing(event) || event.ctrlKey || event.metaKey) return;
    const step = {",": -1, ".": 1}[event.key],
      way = {"[": -1, "]": 1}[event.key],
      count = choose.options.length;
    if (way) go(way);
    if (step) {
      choose.selectedIndex = (choose.selectedIndex + step + count) % count;
      toLayer();
    }
  });
}

watchJob();
