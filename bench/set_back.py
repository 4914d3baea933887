"""The application with a clock that can be set back while it runs: by as many seconds as the file
BENCH_CLOCK says.

Imported first by a server or worker of `bench.faults`; Django's `now` and Python's `time` follow
the file.
"""

import os
import sys
import time
from datetime import timedelta
from pathlib import Path

from django.utils import timezone

_clock, _now, _time = Path(os.environ["BENCH_CLOCK"]), timezone.now, time.time


def _behind() -> float:
    return float(_clock.read_text() or 0)


timezone.now = lambda: _now() - timedelta(seconds=_behind())
time.time = lambda: _time() - _behind()


def application(*args):
    """As `web.config.wsgi` has it, once that clock is there."""
    from web.config.wsgi import application as own

    return own(*args)


if __name__ == "__main__":
    from django.core.management import execute_from_command_line

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "web.config.settings")
    execute_from_command_line(["manage.py", *sys.argv[1:]])
