// What the light table makes of points while one looks around in a panorama, for a test of the
// core: JSON in, JSON out. Without a number, null.

import {readFileSync} from "node:fs";

import "./page.js";

const {Around} = await import("../../web/ui/static/ui/around.js");

const {lens, points, yaw, pitch, wide, screen} = JSON.parse(readFileSync(0, "utf8"));
const root = {clientWidth: screen[0], clientHeight: screen[1]};
const around = Object.assign(new Around({root}, lens), {yaw, pitch, wide});
around.measure();
console.log(
  JSON.stringify({
    directions: points.map(at => around.direction(at)),
    places: points.map(at => around.place(at).slice(0, 2)),
    pixels: points.map(([x, y]) => around.pixel(x, y)),
  }),
);
