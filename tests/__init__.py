"""Tests. Hypothesis looks at no clock: a busy machine is no failure."""

from hypothesis import HealthCheck, settings

settings.register_profile("unhurried", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("unhurried")
