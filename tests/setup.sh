#!/usr/bin/env bash
# Called by `make setup-tests`: installs the packages of the system that only tests need, where one is missing.
set -euo pipefail
need=()
command -v /usr/bin/chromium >/dev/null || need+=(chromium)
test -e /usr/share/doc/opencv-doc/examples/data/left01.jpg || need+=(opencv-doc)
test -e /usr/share/visp-images-data/ViSP-images/cube/image.0000.pgm || need+=(visp-images-data)
command -v redis-server >/dev/null || need+=(redis-server)
command -v nginx >/dev/null || [ -x /usr/sbin/nginx ] || need+=(nginx-light)
ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || need+=(postgresql)  # its server is started by a test, in a folder of its own
command -v node >/dev/null || need+=(nodejs)  # runs the unit tests of the scripts; nothing else does
ldconfig -p | grep -q libEGL.so.1 || need+=(libegl1 libgl1-mesa-dri)  # the reference renderer draws off-screen
if [ ${#need[@]} -eq 0 ]; then exit 0; fi
echo "Missing for the tests, and installed now: ${need[*]}"
as_root=(); [ "$(id -u)" = 0 ] || as_root=(sudo)
"${as_root[@]}" apt-get update -qq
DEBIAN_FRONTEND=noninteractive "${as_root[@]}" apt-get install -y -qq --no-install-recommends "${need[@]}"
