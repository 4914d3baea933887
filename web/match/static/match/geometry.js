// Small geometry of marks on the plate, in plate pixels. Knows neither the page nor the server.

export const pointsOf = mark => (mark.kind === "spot" ? [mark.at] : mark.points);
export const kindOf = mark => mark.axis || mark.kind;
export const nameOf = mark => mark.name || mark.id;

/** The first id of a letter and a number that none of the items has. */
export function freshId(letter, items) {
  const taken = new Set(items.map(item => item.id));
  let number = 1;
  while (taken.has(letter + number)) number += 1;
  return letter + number;
}

export function setPoint(mark, index, at) {
  if (mark.kind === "spot") mark.at = at;
  else mark.points[index] = at;
}

/** A place moved by some pixels; rounded as it is stored. */
export const moved = (at, by) => at.map((value, axis) => +(value + by[axis]).toFixed(4));

/** The distance between a line's ends. */
export function length(mark) {
  const [first, last] = [mark.points[0], mark.points.at(-1)];
  return Math.hypot(first[0] - last[0], first[1] - last[1]);
}

/** How far a place lies from the stretch between two others. */
export function distanceTo(at, a, b) {
  const along = [b[0] - a[0], b[1] - a[1]];
  const dot = (at[0] - a[0]) * along[0] + (at[1] - a[1]) * along[1];
  const share = Math.min(1, Math.max(0, dot / (along[0] ** 2 + along[1] ** 2 || 1)));
  return Math.hypot(a[0] + share * along[0] - at[0], a[1] + share * along[1] - at[1]);
}

/** Between which two points of a line a place lies: the index of the first. */
export function nearestStretch(points, at) {
  const far = points.slice(1).map((point, index) => distanceTo(at, points[index], point));
  return far.indexOf(Math.min(...far));
}

/** Those marks all of whose points lie in the box between two corners. */
export function inBox(marks, a, b) {
  const within = point =>
    [0, 1].every(
      axis =>
        point[axis] >= Math.min(a[axis], b[axis]) && point[axis] <= Math.max(a[axis], b[axis]),
    );
  return marks.filter(mark => pointsOf(mark).every(within));
}
