// A canvas to draw on that remembers what was drawn, in order: [call, what it was given…].

export function pencil() {
  const drawn = [];
  const known = {
    drawn,
    /** What one kind of call was given, each time. */
    of: name => drawn.filter(([call]) => call === name).map(([, ...given]) => given),
    texts: () => known.of("fillText").map(([text]) => text),
  };
  return new Proxy(known, {
    get: (own, name) => own[name] ?? ((...given) => void drawn.push([name, ...given])),
    set(own, name, value) {
      own[name] = value;
      drawn.push(["set", name, value]);
      return true;
    },
  });
}

/** What a path on a canvas is made of. */
globalThis.Path2D = class {
  points = [];

  moveTo(x, y) {
    this.points.push([x, y]);
  }

  lineTo(x, y) {
    this.points.push([x, y]);
  }

  closePath() {
    this.closed = true;
  }
};
