// three.js as the pages have it, without a screen to draw on.

import {Element} from "./page.js";

export * from "../../web/ui/static/vendor/three.module.js";

export class WebGLRenderer {
  constructor() {
    this.domElement = new Element("canvas");
    this.drawn = 0;
  }

  setPixelRatio() {}

  setSize(...size) {
    this.size = size;
  }

  render(scene, camera) {
    this.drawn += 1;
    Object.assign(this, {scene, camera});
    WebGLRenderer.last = this;
  }
}
