#!/usr/bin/env bash
# Called by `make test`: installs what only tests need, checks the house's rules, runs all tests.
set -euo pipefail
V=.venv/bin
need=()
command -v /usr/bin/chromium >/dev/null || need+=(chromium)
test -e /usr/share/doc/opencv-doc/examples/data/left01.jpg || need+=(opencv-doc)
command -v redis-server >/dev/null || need+=(redis-server)
ldconfig -p | grep -q libEGL.so.1 || need+=(libegl1 libgl1-mesa-dri)  # the reference renderer draws off-screen
if [ ${#need[@]} -gt 0 ]; then
  as_root=(); [ "$(id -u)" = 0 ] || as_root=(sudo)
  "${as_root[@]}" apt-get update -qq
  DEBIAN_FRONTEND=noninteractive "${as_root[@]}" apt-get install -y -qq --no-install-recommends "${need[@]}"
fi
if [ ! -e .venv/.tests-installed ] || [ requirements/test.txt -nt .venv/.tests-installed ]; then
  $V/pip install --quiet --disable-pip-version-check --require-hashes -r requirements/test.txt
  touch .venv/.tests-installed
fi
$V/ruff check .
$V/lint-imports --no-cache
data=$(mktemp -d)
trap 'rm -rf "$data"' EXIT
export APERTURE_DATA=$data DJANGO_ALLOW_ASYNC_UNSAFE=1 TMPDIR=$data
$V/python manage.py makemigrations --check --dry-run
$V/python manage.py test --noinput --testrunner tests.runner.Runner --parallel auto "$@" tests
