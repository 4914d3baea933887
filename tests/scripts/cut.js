// How strongly each clip is seen on each frame of a cut, as its page draws it: from standard input
// {clips, length}, to standard output a list for each frame of [clip's id, weight].

import {readFileSync} from "node:fs";

import {clip, openCut, told} from "./cut-page.js";
import {page, turn} from "./page.js";

const asked = JSON.parse(readFileSync(0));
const clips = asked.clips.map(({id, begin, length, ...more}) => clip(id, begin, length, more));
const drawn = await openCut(told(clips, {length: asked.length}));
const frames = [];
for (let frame = 0; frame < asked.length; frame += 1) {
  page.byId.frame.value = frame;
  page.byId.frame.tell("change");
  await turn(); // its pictures come
  drawn.length = 0;
  page.byId.what.tell("change");
  const seen = drawn.map(([url, alpha]) => [/films\/([^/]+)/.exec(url)[1], alpha]);
  // Each picture covers what lies below by its own share.
  frames.push(
    seen.map(([id, alpha], at) => [
      id,
      seen.slice(at + 1).reduce((left, [, above]) => left * (1 - above), alpha),
    ]),
  );
}
console.log(JSON.stringify(frames));
process.exit(0);
