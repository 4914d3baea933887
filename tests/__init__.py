"""Tests. Hypothesis looks at no clock: a busy machine is no failure."""

import os

from hypothesis import HealthCheck, settings

# `make fuzz` tries so many times more examples, and other ones each time; `make test` always the
# same.
FUZZ = int(os.environ.get("FUZZ", "1"))

settings.register_profile(
    "unhurried",
    deadline=None,
    suppress_health_check=[HealthCheck.too_slow],
    derandomize=FUZZ == 1,
)
settings.load_profile("unhurried")


def examples(count: int):
    """Hypothesis' settings for a test of `count` examples, in `make test`."""
    return settings(max_examples=count * FUZZ)
