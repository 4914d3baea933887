"""The stops, shutter speeds and ISO speeds that are marked on cameras, and the exact values that
are meant.

Marked values are rounded, in a way of their own: f/5.6 is meant as 2^(5/2) = 5.657, 1/60 s as 1/64
s, and f/22 as 22.63. Exposure adds up in the exact ones.

References
----------
ISO 517:2008, *Apertures and related properties pertaining to photographic lenses*, and ISO 516:2019
for shutters: full stops are powers of √2 from f/1, full speeds powers of 2 from 1 s. The marked
half and third values are the trade's (common practice, no source); all cited from memory.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache

STEPS = {"full": Fraction(1), "half": Fraction(1, 2), "third": Fraction(1, 3)}

_FULL_STOPS = "0.5 0.7 1 1.4 2 2.8 4 5.6 8 11 16 22 32 45 64 90"
_HALF_STOPS = (
    "0.5 0.6 0.7 0.8 1 1.2 1.4 1.7 2 2.4 2.8 3.4 4 4.8 5.6 6.7 8 9.5 11 13 16 19 22 27 32 38 45 54 "
    "64 76 90"
)
_THIRD_STOPS = (
    "0.5 0.56 0.63 0.7 0.8 0.9 1 1.1 1.25 1.4 1.6 1.8 2 2.2 2.5 2.8 3.2 3.5 4 4.5 5 5.6 6.3 7.1 8 9"
    " 10 11 13 14 16 18 20 22 25 29 32 36 40 45 51 57 64 72 81 90"
)
# Whole seconds stand as they are, parts of one by their denominators.
_FULL_SPEEDS = "30 15 8 4 2 1 /2 /4 /8 /15 /30 /60 /125 /250 /500 /1000 /2000 /4000 /8000"
_HALF_SPEEDS = (
    "30 20 15 10 8 6 4 3 2 1.5 1 0.7 /2 /3 /4 /6 /8 /10 /15 /20 /30 /45 /60 /90 /125 /180 /250 /350"
    " /500 /750 /1000 /1500 /2000 /3000 /4000 /6000 /8000"
)
_THIRD_SPEEDS = (
    "30 25 20 15 13 10 8 6 5 4 3.2 2.5 2 1.6 1.3 1 0.8 0.6 /2 0.4 0.3 /4 /5 /6 /8 /10 /13 /15 /20 "
    "/25 /30 /40 /50 /60 /80 /100 /125 /160 /200 /250 /320 /400 /500 /640 /800 /1000 /1250 /1600 "
    "/2000 /2500 /3200 /4000 /5000 /6400 /8000"
)
_FULL_ISO = "25 50 100 200 400 800 1600 3200 6400 12800 25600 51200 102400"
_HALF_ISO = (
    "25 35 50 70 100 140 200 280 400 560 800 1100 1600 2200 3200 4500 6400 9000 12800 18000 25600 "
    "36000 51200 72000 102400"
)
_THIRD_ISO = (
    "25 32 40 50 64 80 100 125 160 200 250 320 400 500 640 800 1000 1250 1600 2000 2500 3200 4000 "
    "5000 6400 8000 10000 12800 16000 20000 25600 32000 40000 51200 64000 80000 102400"
)
_MARKS = {
    "f_number": {"full": _FULL_STOPS, "half": _HALF_STOPS, "third": _THIRD_STOPS},
    "seconds": {"full": _FULL_SPEEDS, "half": _HALF_SPEEDS, "third": _THIRD_SPEEDS},
    "iso": {"full": _FULL_ISO, "half": _HALF_ISO, "third": _THIRD_ISO},
}
# The exact value of the first mark, and the factor of one stop along the marks.
_BEGINS = {"f_number": (0.5, math.sqrt(2)), "seconds": (32.0, 0.5), "iso": (25.0, 2.0)}


@dataclass(frozen=True)
class Mark:
    """One marked value: as it is written, its number, and the exact one that is meant."""

    text: str
    marked: float
    exact: float


@lru_cache
def marks(name: str, step: str = "third") -> tuple[Mark, ...]:
    """Return the marked values of a scale, in order.

    Parameters
    ----------
    name : str
        "f_number", "seconds" or "iso".
    step : str
        A key of STEPS.
    """
    begin, factor = _BEGINS[name]
    out = []
    for index, text in enumerate(_MARKS[name][step].split()):
        marked = 1 / float(text[1:]) if text.startswith("/") else float(text)
        exact = begin * factor ** float(index * STEPS[step])
        out.append(Mark(_written(name, text), marked, exact))
    return tuple(out)


def nearest(name: str, value: float, step: str = "third") -> Mark:
    """The mark whose marked or exact value is nearest to a value, by its ratio."""

    def away(mark: Mark) -> float:
        return min(abs(math.log(value / mark.marked)), abs(math.log(value / mark.exact)))

    return min(marks(name, step), key=away)


def exact(name: str, value: float) -> float:
    """The exact value that a marked one means; any other value as it is.

    Examples
    --------
    >>> round(exact("f_number", 5.6), 4), exact("seconds", 1 / 60), exact("f_number", 5.3)
    (5.6569, 0.015625, 5.3)
    """
    for step in STEPS:
        for mark in marks(name, step):
            if abs(value / mark.marked - 1) < 1e-6:
                return mark.exact
    return value


def stepped(name: str, value: float, by: int, step: str = "third") -> Mark:
    """The mark so many steps on from the one that is nearest to a value; the last one at an end."""
    scale = marks(name, step)
    index = scale.index(nearest(name, value, step)) + by
    return scale[max(0, min(len(scale) - 1, index))]


def _written(name: str, text: str) -> str:
    if name == "f_number":
        return f"f/{text}"
    if name == "iso":
        return text
    return f"1{text} s" if text.startswith("/") else f"{text} s"
