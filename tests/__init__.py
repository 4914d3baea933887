"""Tests. Hypothesis looks at no clock: a busy machine is no failure."""

import os

from hypothesis import HealthCheck, settings

settings.register_profile("unhurried", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("unhurried")

# `make fuzz` tries so many times more examples.
FUZZ = int(os.environ.get("FUZZ", "1"))


def examples(count: int):
    """Hypothesis' settings for a test of `count` examples, in `make test`."""
    return settings(max_examples=count * FUZZ)
