// Materials of the set view, and what becomes of those that are used no more.

import * as THREE from "three";

/**
 * A material whose surface is striped on screen, so that marks differ by more than their colour;
 * `slope` 1 or -1.
 */
export function striped(options, slope, ink) {
  const material = new THREE.MeshBasicMaterial({side: THREE.DoubleSide, ...options}),
    [r, g, b] = new THREE.Color(ink).toArray();
  material.onBeforeCompile = shader => {
    shader.fragmentShader = shader.fragmentShader.replace(
      "#include <opaque_fragment>",
      `#include <opaque_fragment>\nif (mod(gl_FragCoord.x + ${slope.toFixed(1)} * gl_FragCoord.y, 9.0) < 2.5) gl_FragColor.rgb = mix(gl_FragColor.rgb, vec3(${r}, ${g}, ${b}), 0.85);`,
    );
  };
  material.customProgramCacheKey = () => `striped ${slope} ${ink}`;
  return material;
}

/** Take everything out of a group, and off the graphics card. */
export function empty(group) {
  group.traverse(thing => {
    thing.geometry?.dispose();
    for (const material of [thing.material].flat()) material?.dispose();
  });
  group.clear();
}
