// Looking around in a panorama: the picture as an ordinary view shows it, and the way between its
// pixels and the screen.

// In focal lengths: what lies behind is put so far before the eye, far outside of the screen.
const NEAR = 0.02;
const COARSE = 0.5,
  SLOW_MS = 30,
  MOST_PATHS = 5000; // whose directions are remembered
const WIDEST = 2.4,
  NARROWEST = 0.02; // radians from left to right

const VERTEX = `#version 300 es
in vec2 at;
void main() { gl_Position = vec4(at, 0.0, 1.0); }`;
const FRAGMENT = `#version 300 es
precision highp float;
uniform sampler2D picture;
uniform vec2 screen, centre, size;
uniform float focal, perTurn;
uniform mat3 turn;
uniform bool cylinder, circles;
uniform int count;
uniform mat3 pieces[6];
uniform vec2 middles[6];
out vec4 colour;
vec2 inPiece(vec3 d) {
  // The piece that looks most nearly that way; GLSL's columns are the rows that turn d into its own
  // space.
  int best = 0;
  float nearest = -2.0;
  for (int i = 0; i < 6; i++) {
    if (i >= count) break;
    float along = -(d * pieces[i]).z;
    if (along > nearest) { nearest = along; best = i; }
  }
  vec3 own = d * pieces[best];
  vec2 at = vec2(own.x, -own.y);
  float side = length(at), angle = atan(side, -own.z);
  at = circles ? (side > 1e-6 ? at * angle / side : vec2(0.0)) : at / -own.z;
  return at + middles[best];
}
void main() {
  vec2 at = gl_FragCoord.xy - 0.5 * screen;
  vec3 d = normalize(turn * vec3(at / focal, -1.0));
  float longitude = atan(d.x, -d.z), up = asin(clamp(d.y, -1.0, 1.0));
  vec2 q = count > 0 ? inPiece(d) : vec2(longitude, -(cylinder ? tan(up) : up));
  vec2 uv = (centre + perTurn * q) / size;
  bool inside = uv.y >= 0.0 && uv.y <= 1.0;
  colour = inside ? texture(picture, uv) : vec4(0.16, 0.16, 0.17, 1.0);
}`;

export class Around {
  /**
   * @param {LightTable} table
   * @param {{projection: string, focal: number, centre: number[], full: boolean}} lens  px of the
   * plate per radian, and where its axis is
   */
  constructor(table, lens) {
    Object.assign(this, {table, lens, on: false, yaw: 0, pitch: 0, wide: 1.4});
    this.cylinder = lens.projection === "cylindrical";
  }

  /** Look around, or at the whole picture again. False where the browser can't draw it. */
  turn(on) {
    if (on && !this.gl && !this.#begin()) return false;
    this.on = on;
    this.measure();
    this.canvas?.classList.toggle("hidden", !on);
    if (on) this.refresh();
    return true;
  }

  /**
   * Take the table's size and where one looks, once for all that is drawn: asking the page each
   * time makes it lay itself out anew.
   */
  measure() {
    const width = this.table.root.clientWidth || 1,
      height = this.table.root.clientHeight || 1;
    const [cy, sy, cp, sp] = [
      Math.cos(this.yaw),
      Math.sin(this.yaw),
      Math.cos(this.pitch),
      Math.sin(this.pitch),
    ];
    this.now = {
      width,
      height,
      focal: width / 2 / Math.tan(this.wide / 2), // px of the screen
      // Ry(−yaw) · Rx(pitch), row by row: yaw to the right, pitch upward.
      rotation: [
        [cy, -sy * sp, -sy * cp],
        [0, cp, -sp],
        [sy, cy * sp, cy * cp],
      ],
    };
  }

  get focal() {
    return this.now.focal;
  }

  /**
   * Of a panorama in pieces: the direction that a place shows, in focal lengths from the middle.
   */
  #fromPiece(q) {
    const {pieces, half, circles} = this.lens;
    const apart = ({middle}) => Math.max(Math.abs(q[0] - middle[0]), Math.abs(q[1] - middle[1]));
    const piece = pieces.reduce((best, one) => (apart(one) < apart(best) ? one : best)),
      x = q[0] - piece.middle[0],
      y = q[1] - piece.middle[1];
    let own = [x, -y, -1];
    if (circles) {
      const angle = Math.hypot(x, y),
        share = angle > 1e-9 ? Math.sin(angle) / angle : 1;
      own = [x * share, -y * share, -Math.cos(angle)];
    }
    if (apart(piece) > half + 1e-6) return [NaN, NaN, NaN];
    const t = piece.turn,
      d = [0, 3, 6].map(row => t[row] * own[0] + t[row + 1] * own[1] + t[row + 2] * own[2]),
      long = Math.hypot(...d);
    return d.map(value => value / long);
  }

  /** And back: where a direction is shown. */
  #inPiece(d) {
    const {pieces, circles} = this.lens;
    const inOwn = ({turn: t}) =>
      [0, 1, 2].map(column => t[column] * d[0] + t[3 + column] * d[1] + t[6 + column] * d[2]);
    const [best, own] = pieces
      .map(piece => [piece, inOwn(piece)])
      .reduce((a, b) => (b[1][2] < a[1][2] ? b : a));
    const side = Math.hypot(own[0], own[1]),
      share = circles ? (side > 1e-9 ? Math.atan2(side, -own[2]) / side : 1) : -1 / own[2];
    return [best.middle[0] + own[0] * share, best.middle[1] - own[1] * share];
  }

  /** The direction that a pixel of the plate shows. */
  direction([x, y]) {
    const {focal, centre} = this.lens;
    if (this.lens.pieces)
      return this.#fromPiece([(x - centre[0]) / focal, (y - centre[1]) / focal]);
    const longitude = (x - centre[0]) / focal,
      down = (y - centre[1]) / focal,
      latitude = this.cylinder ? -Math.atan(down) : -down;
    return [
      Math.cos(latitude) * Math.sin(longitude),
      Math.sin(latitude),
      -Math.cos(latitude) * Math.cos(longitude),
    ];
  }

  /** Where a pixel of the plate is on the screen: [x, y, whether it is before the eye]. */
  place(at) {
    const d = this.direction(at),
      {width, height, focal, rotation: r} = this.now,
      own = [0, 1, 2].map(
        column => r[0][column] * d[0] + r[1][column] * d[1] + r[2][column] * d[2],
      );
    const away = Math.max(-own[2], NEAR);
    return [
      width / 2 + (focal * own[0]) / away,
      height / 2 - (focal * own[1]) / away,
      -own[2] > NEAR,
    ];
  }

  /** The pixel of the plate at a place of the screen. */
  pixel(x, y) {
    const {width, height, focal: wide, rotation: r} = this.now,
      own = [(x - width / 2) / wide, (height / 2 - y) / wide, -1],
      d = r.map(row => row[0] * own[0] + row[1] * own[1] + row[2] * own[2]);
    const {focal, centre} = this.lens;
    if (this.lens.pieces)
      return this.#inPiece(d).map((value, axis) => centre[axis] + focal * value);
    const longitude = Math.atan2(d[0], -d[2]),
      latitude = Math.atan2(d[1], Math.hypot(d[0], d[2]));
    return [
      centre[0] + focal * longitude,
      centre[1] - focal * (this.cylinder ? Math.tan(latitude) : latitude),
    ];
  }

  /**
   * An SVG path of lines in px of the plate, as the view shows it; parted where it goes behind the
   * eye.
   */
  path(d) {
    const {width, height, focal, rotation: r} = this.now,
      out = [];
    for (const run of this.#directions(d)) {
      let drawn = false;
      for (let i = 0; i < run.length; i += 3) {
        const [x, y, z] = [run[i], run[i + 1], run[i + 2]],
          away = -(r[0][2] * x + r[1][2] * y + r[2][2] * z),
          ahead = away > NEAR;
        if (ahead) {
          const across = (focal * (r[0][0] * x + r[1][0] * y + r[2][0] * z)) / away,
            up = (focal * (r[0][1] * x + r[1][1] * y + r[2][1] * z)) / away;
          const px = [width / 2 + across, height / 2 - up],
            at = px.map(value => Math.round(10 * value) / 10).join(" ");
          out.push(drawn ? "L" : "M", at);
        }
        drawn = ahead;
      }
    }
    return out.join("");
  }

  /**
   * The directions of a path's points, three numbers each, run by run; found once, as a view turns
   * often.
   */
  #directions(d) {
    this.found ||= new Map();
    if (!this.found.has(d)) {
      if (this.found.size > MOST_PATHS) this.found.clear();
      const runs = d
        .split("M")
        .slice(1)
        .map(run =>
          run
            .replace("Z", "")
            .split("L")
            .map(pair => pair.trim().split(/[ ,]+/).map(Number)),
        );
      const lines = runs.flat().every(at => at.length === 2 && !at.some(Number.isNaN));
      const turned = run => Float64Array.from(run.flatMap(at => this.direction(at)));
      this.found.set(d, lines ? runs.map(turned) : []);
    }
    return this.found.get(d);
  }

  /** The view begins to move, or rests: then it is drawn finely. */
  move(moving) {
    this.moving = moving;
    this.drawn = null;
    if (!moving) this.draw();
  }

  /** Note how long it takes from one redraw to the next while it moves. */
  #time() {
    const now = performance.now();
    if (this.moving && this.drawn && now - this.drawn < 500) {
      this.pace = 0.7 * (this.pace ?? 0) + 0.3 * (now - this.drawn);
      if (this.pace > SLOW_MS) this.slow = true;
    }
    this.drawn = now;
  }

  /** Turn the view by a drag, so that what was under the pointer stays under it. */
  drag(from, to) {
    const angles = at => {
      const {width, height, focal, rotation: r} = this.now,
        own = [(at[0] - width / 2) / focal, (height / 2 - at[1]) / focal, -1],
        d = r.map(row => row[0] * own[0] + row[1] * own[1] + row[2] * own[2]);
      return [Math.atan2(d[0], -d[2]), Math.atan2(d[1], Math.hypot(d[0], d[2]))];
    };
    const was = angles(from),
      now = angles(to);
    this.yaw -= this.#least(now[0] - was[0]);
    this.pitch = Math.max(-1.57, Math.min(1.57, this.pitch - (now[1] - was[1])));
    this.measure();
  }

  #least(turn) {
    return Math.atan2(Math.sin(turn), Math.cos(turn));
  }

  zoom(factor) {
    const half = Math.atan(Math.tan(this.wide / 2) / factor);
    this.wide = Math.min(WIDEST, Math.max(NARROWEST, 2 * half));
  }

  /** Look at the middle of some pixels of the plate; where none shows anything, as before. */
  lookAt(...places) {
    const seen = places.map(at => this.direction(at)).filter(d => !d.some(Number.isNaN));
    if (!seen.length) return;
    const d = [0, 1, 2].map(axis => seen.reduce((sum, one) => sum + one[axis], 0));
    this.yaw = Math.atan2(d[0], -d[2]);
    this.pitch = Math.atan2(d[1], Math.hypot(d[0], d[2]));
  }

  #begin() {
    const canvas = document.createElement("canvas");
    canvas.className = "around";
    const gl = canvas.getContext("webgl2", {antialias: false});
    if (!gl) return false;
    this.table.canvas.after(canvas);
    const program = gl.createProgram();
    for (const [kind, text] of [
      [gl.VERTEX_SHADER, VERTEX],
      [gl.FRAGMENT_SHADER, FRAGMENT],
    ]) {
      const shader = gl.createShader(kind);
      gl.shaderSource(shader, text);
      gl.compileShader(shader);
      gl.attachShader(program, shader);
    }
    gl.linkProgram(program);
    if (!gl.getProgramParameter(program, gl.LINK_STATUS)) return false;
    gl.useProgram(program);
    gl.bindBuffer(gl.ARRAY_BUFFER, gl.createBuffer());
    gl.bufferData(gl.ARRAY_BUFFER, new Float32Array([-1, -1, 3, -1, -1, 3]), gl.STATIC_DRAW);
    const at = gl.getAttribLocation(program, "at");
    gl.enableVertexAttribArray(at);
    gl.vertexAttribPointer(at, 2, gl.FLOAT, false, 0, 0);
    gl.bindTexture(gl.TEXTURE_2D, gl.createTexture());
    for (const [what, how] of [
      [gl.TEXTURE_WRAP_S, gl.REPEAT],
      [gl.TEXTURE_WRAP_T, gl.CLAMP_TO_EDGE],
      [gl.TEXTURE_MIN_FILTER, gl.LINEAR],
      [gl.TEXTURE_MAG_FILTER, gl.LINEAR],
    ])
      gl.texParameteri(gl.TEXTURE_2D, what, how);
    Object.assign(this, {canvas, gl, program});
    return true;
  }

  /** Take the picture anew, with what is laid over it. */
  refresh() {
    const {gl, table} = this,
      {image} = table;
    if (!gl || !image.complete || !image.naturalWidth) return;
    const flat = document.createElement("canvas");
    flat.width = image.naturalWidth;
    flat.height = image.naturalHeight;
    const context = flat.getContext("2d");
    context.drawImage(image, 0, 0);
    table.drawLaid(context, 0, 0, flat.width, flat.height);
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, flat);
    this.draw();
  }

  draw() {
    const {gl, canvas, program, table} = this;
    if (!gl || !this.on) return;
    // Where a machine draws slowly, coarser for as long as the view moves.
    const ratio = (devicePixelRatio || 1) * (this.moving && this.slow ? COARSE : 1),
      [width, height] = [this.now.width, this.now.height].map(side => Math.round(side * ratio));
    if (canvas.width !== width || canvas.height !== height) Object.assign(canvas, {width, height});
    gl.viewport(0, 0, width, height);
    const at = name => {
      this.places ||= {};
      this.places[name] ||= gl.getUniformLocation(program, name);
      return this.places[name];
    };
    gl.uniform2f(at("screen"), width, height);
    gl.uniform2f(at("centre"), ...this.lens.centre);
    gl.uniform2f(at("size"), table.width, table.height);
    gl.uniform1f(at("focal"), this.focal * ratio);
    gl.uniform1f(at("perTurn"), this.lens.focal);
    gl.uniform1i(at("cylinder"), this.cylinder ? 1 : 0);
    const {pieces, circles} = this.lens;
    gl.uniform1i(at("circles"), circles ? 1 : 0);
    gl.uniform1i(at("count"), pieces?.length || 0);
    if (pieces) {
      const columns = pieces.flatMap(({turn: t}) =>
        [0, 1, 2].flatMap(c => [t[c], t[3 + c], t[6 + c]]),
      );
      gl.uniformMatrix3fv(at("pieces"), false, columns);
      gl.uniform2fv(
        at("middles"),
        pieces.flatMap(({middle}) => middle),
      );
    }
    const r = this.now.rotation;
    // OpenGL takes matrices column by column.
    gl.uniformMatrix3fv(
      at("turn"),
      false,
      [0, 1, 2].flatMap(column => r.map(row => row[column])),
    );
    gl.drawArrays(gl.TRIANGLES, 0, 3);
    this.#time();
    dispatchEvent(new CustomEvent("around"));
  }
}
