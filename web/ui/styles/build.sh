#!/usr/bin/env bash
# Called by `make assets`: builds the styles and copies fonts and scripts out of node_modules.
set -euo pipefail
static=web/ui/static
npx tailwindcss -i web/ui/styles/app.css -o $static/ui/app.css --minify
mkdir -p $static/fonts $static/vendor
for face in next mono; do
  cp node_modules/@fontsource-variable/atkinson-hyperlegible-$face/files/atkinson-hyperlegible-$face-latin-wght-normal.woff2 $static/fonts/
done
cp node_modules/@fontsource-variable/atkinson-hyperlegible-next/LICENSE $static/fonts/LICENSE
cp node_modules/htmx.org/dist/htmx.min.js $static/vendor/
cp node_modules/idiomorph/dist/idiomorph-ext.min.js $static/vendor/
cp node_modules/idiomorph/LICENSE $static/vendor/idiomorph.LICENSE
cp node_modules/three/build/three.module.js node_modules/three/build/three.core.js $static/vendor/
cp node_modules/three/examples/jsm/controls/OrbitControls.js $static/vendor/
