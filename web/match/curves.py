"""Curves over frames as drawings: each quantity of a path with its ± as a band, for the report."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

WIDTH, HEIGHT = 340, 44
MOST_POINTS = 400  # of a curve: more can't be told apart at this width


@dataclass(frozen=True)
class Curve:
    """One drawn quantity. line, band: SVG paths in a box of WIDTH × HEIGHT; low, high: what its
    bottom and top are."""

    name: str
    unit: str
    line: str
    band: str
    low: str
    high: str
    values: list[str | None]  # as they are said, per frame

    def without_numbers(self, says: str) -> "Curve":
        """The same shape, of which each frame says something else than its value."""
        told = [None if value is None else says for value in self.values]
        return replace(self, unit="", band="", low="", high="", values=told)


def curve(
    name: str,
    unit: str,
    values: Sequence[float | None],
    sigmas: Sequence[float | None] | None = None,
    places: int = 3,
    from_zero: bool = False,
) -> Curve | None:
    """A quantity over all frames of a range; None where it is known nowhere. A frame without it is
    a gap."""
    known = [value for value in values if value is not None]
    if not known:
        return None
    spread = [sigma or 0.0 for sigma in sigmas] if sigmas else [0.0] * len(values)
    low = min(v - s for v, s in zip(values, spread) if v is not None)
    high = max(v + s for v, s in zip(values, spread) if v is not None)
    low = min(low, 0.0) if from_zero else low
    if high - low < 10**-places:
        middle = (high + low) / 2
        low, high = middle - 10**-places, middle + 10**-places
    across = WIDTH / max(len(values), 1)
    step = max(1, math.ceil(len(values) / MOST_POINTS))

    # A run has no gap: each of its values is known.
    numbers = [math.nan if value is None else value for value in values]

    def at(index: int, value: float) -> str:
        y = HEIGHT - (value - low) / (high - low) * HEIGHT
        return f"{(index + 0.5) * across:.1f} {y:.1f}"

    line, runs = _runs(values, step), []
    for run in line:
        # One frame alone is a dash, or nothing would be seen of it.
        alone = "h1.0" if len(run) == 1 else ""
        runs.append("M" + "L".join(at(i, numbers[i]) for i in run) + alone)
    band = []
    if sigmas:
        for run in line:
            upper = [at(i, numbers[i] + spread[i]) for i in run]
            lower = [at(i, numbers[i] - spread[i]) for i in reversed(run)]
            band.append("M" + "L".join(upper + lower) + "Z")
    told = [None if v is None else _told(v, s, places) for v, s in zip(values, spread)]
    bottom, top = (_told(end, 0.0, places) for end in (low, high))
    return Curve(name, unit, "".join(runs), "".join(band), bottom, top, told)


def _runs(values: Sequence[float | None], step: int) -> list[list[int]]:
    """Indices of the values that are there, in runs without a gap."""
    runs: list[list[int]] = [[]]
    for index in range(0, len(values), step):
        if values[index] is None:
            runs.append([])
        else:
            runs[-1].append(index)
    return [run for run in runs if run]


def _told(value: float, sigma: float, places: int) -> str:
    said = f"{value:z.{places}f}".replace("-", "−")
    return f"{said} ± {sigma:.{places}f}" if sigma else said
