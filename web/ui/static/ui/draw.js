// What is drawn over a plate, and how a drag asks the server.

/** An SVG element with attributes. */
export function svg(name, attributes, parent) {
  const element = document.createElementNS("http://www.w3.org/2000/svg", name);
  for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, value);
  parent?.append(element);
  return element;
}

/**
 * Draw the server's paths (plate pixels) into the overlay; axes and vanishing points get a dark
 * casing.
 */
export function drawPaths(table, paths) {
  table.over.replaceChildren();
  for (const path of paths) {
    if (/axis|vanishing|arrows/.test(path.class))
      svg("path", {d: path.d, class: "casing"}, table.over);
    svg("path", {d: path.d, class: path.class}, table.over);
  }
}

/**
 * Runs `send(value)` for the newest value only, one at a time: a drag never queues up. `waits()`
 * tells whether a newer value is still to be sent, `idle()` whether nothing is.
 */
export function newestOnly(send) {
  let waiting = null,
    busy = false;
  const run = async () => {
    busy = true;
    while (waiting) {
      const value = waiting;
      waiting = null;
      try {
        await send(value);
      } catch {
        /* the next one may do better; saving speaks up */
      }
    }
    busy = false;
  };
  const push = value => {
    waiting = value;
    if (!busy) run();
  };
  push.clear = () => {
    waiting = null;
  };
  push.waits = () => waiting !== null;
  push.idle = () => !busy;
  return push;
}
