"""How gunicorn serves: `gunicorn -c python:web.config.serving web.config.wsgi --bind ADDRESS`."""

import os

# One process computes in Python on one core at a time, and a browser stays with the process that
# took its connection: with one more than there are cores, one that got more people than another
# has its share of the machine all the same. What they hold in memory sets the limit.
MOST = 9

workers = int(os.environ.get("APERTURE_SERVERS") or min(len(os.sched_getaffinity(0)) + 1, MOST))
threads = 100  # idle and half-sent connections hold one each; `web.ui.turns` says how many compute
timeout = 600
keepalive = 30
