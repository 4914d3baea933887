#!/usr/bin/env bash
# Called by `make test`: runs all tests, or those named, with a data folder that goes away afterwards.
set -euo pipefail
data=$(mktemp -d)
trap 'rm -rf "$data"' EXIT
export APERTURE_DATA=$data DJANGO_ALLOW_ASYNC_UNSAFE=1 TMPDIR=$data
.venv/bin/python manage.py test --noinput --testrunner tests.runner.Runner --parallel auto "${@:-tests}"
