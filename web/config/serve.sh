#!/usr/bin/env bash
# Called by `make demo`: the server, and beside it a worker that is started again whenever it ends.
set -u
port=$1
bin=.venv/bin
export APERTURE_LOCAL=1  # it listens on the loopback address only
work() {
  trap 'kill "$child" 2>/dev/null; exit 0' TERM INT
  while :; do
    "$bin/python" manage.py db_worker --interval 0.1 --no-startup-delay -v 0 &
    child=$!
    wait "$child"
    sleep 1
  done
}
work &
worker=$!
trap 'kill "$worker" 2>/dev/null' EXIT
trap 'exit 0' INT TERM
"$bin/gunicorn" -c python:web.config.serving web.config.wsgi --bind "127.0.0.1:$port" --log-level warning &
server=$!
wait "$server"
