"""A limit for the work of one search, counted instead of timed.

A limit in seconds would give another answer on a busy machine: a fit has to depend on its document
alone. So each iteration costs what it takes on an ordinary machine (2 cores of 2025, measured with
`python -m bench.speed`), and the search ends when its allowance is used up.
"""

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass

# What the search for a camera may cost, in nominal seconds.
SEARCH_SECONDS = 2.0
# Nominal seconds of an iteration: its overhead, that of a lens whose distortion has to be inverted
# step by step, a row of the equations, a multiplication.
PER_ITERATION = 5e-4
PER_DISTORTION = 2e-3
PER_ROW = 3e-6
PER_PRODUCT = 2.5e-10


@dataclass
class Effort:
    """What is left of an allowance, in nominal seconds."""

    left: float

    @property
    def used_up(self) -> bool:
        """Whether nothing is left."""
        return self.left <= 0


_current: ContextVar[Effort | None] = ContextVar("effort", default=None)


@contextmanager
def limited(seconds: float = SEARCH_SECONDS) -> Iterator[Effort]:
    """Give the searches inside so much to spend; inside another limit, that one holds."""
    outer = _current.get()
    if outer is not None:
        yield outer
        return
    own = Effort(seconds)
    token = _current.set(own)
    try:
        yield own
    finally:
        _current.reset(token)


def spend(rows: int, unknowns: int, distorts: bool = False) -> bool:
    """Pay for one iteration; False where nothing was left for it."""
    effort = _current.get()
    if effort is None:
        return True
    if effort.used_up:
        return False
    products = rows * unknowns * unknowns + unknowns**3
    effort.left -= PER_ITERATION + PER_ROW * rows + PER_PRODUCT * products
    effort.left -= PER_DISTORTION if distorts else 0.0
    return True
