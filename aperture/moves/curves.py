"""Curves over time through keys: what an authored move is made of.

Between two keys a curve is a cubic Hermite segment: the values of both, and a slope at each side.
The slopes follow from the keys' kinds:

- smooth: the slope of the parabola through the key and its two neighbours; at an end, of a curve
  without bend there;
- flat: none, so that the value comes in and goes out slowly;
- linear: straight to the neighbour, on either side;
- held: the value stays until the next key, and jumps then;
- free: slopes that were given, one for each side.

A curve before its first key and after its last has their values.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from scipy.interpolate import PPoly

from aperture.arrays import Array
from aperture.errors import Problem

KINDS = ("smooth", "flat", "linear", "held", "free")
MOST_KEYS = 5000
MOST_VALUE, MOST_FRAME = 1e7, 1e7


@dataclass(frozen=True)
class Key:
    """A value on a frame. `before`, `after`: slopes of a free key, per frame."""

    frame: float
    value: float
    kind: str = "smooth"
    before: float = 0.0
    after: float = 0.0

    def __post_init__(self) -> None:
        if self.kind not in KINDS:
            raise Problem(f"“{self.kind}” is not one of {', '.join(KINDS)}.", "kind")
        numbers = (self.frame, self.value, self.before, self.after)
        if not np.isfinite(numbers).all() or max(map(abs, numbers)) > MOST_VALUE:
            raise Problem("A key has a value that can’t be.")

    def to_json(self) -> list[Any]:
        """[frame, value, kind], and of a free key its slopes."""
        slopes = [self.before, self.after] if self.kind == "free" else []
        return [self.frame, self.value, self.kind, *slopes]

    @classmethod
    def from_json(cls, data: Sequence[Any]) -> Key:
        """The way back. Raises Problem where it isn't one."""
        try:
            frame, value, kind, *slopes = data
            return cls(float(frame), float(value), str(kind), *map(float, slopes))
        except Problem:
            raise
        except (TypeError, ValueError, OverflowError):
            raise Problem("A key is a frame, a value and a kind.") from None


@dataclass(frozen=True)
class Curve:
    """Keys in the order of their frames, one per frame.

    Examples
    --------
    >>> Curve.of([Key(0, 0.0, "flat"), Key(10, 1.0, "flat")]).at(np.array([-5.0, 5, 20]))
    array([0. , 0.5, 1. ])
    """

    keys: tuple[Key, ...]

    @classmethod
    def of(cls, keys: Sequence[Key]) -> Curve:
        """A curve through keys in any order; of two on a frame the later counts."""
        if not keys:
            raise Problem("A curve needs a key.")
        if len(keys) > MOST_KEYS:
            raise Problem(f"A curve has at most {MOST_KEYS} keys.")
        by_frame = {key.frame: key for key in keys}
        return cls(tuple(by_frame[frame] for frame in sorted(by_frame)))

    @property
    def frames(self) -> Array:
        """(K,) of the keys."""
        return np.array([key.frame for key in self.keys])

    @property
    def values(self) -> Array:
        """(K,) of the keys."""
        return np.array([key.value for key in self.keys])

    def slopes(self) -> tuple[Array, Array]:
        """(K,) slopes before and after each key, per frame."""
        x, y, count = self.frames, self.values, len(self.keys)
        if count == 1:
            return np.zeros(1), np.zeros(1)
        steps = np.diff(y) / np.diff(x)
        smooth = np.empty(count)
        smooth[0], smooth[-1] = steps[0], steps[-1]
        if count > 2:
            wide = np.diff(x)
            smooth[1:-1] = (steps[:-1] * wide[1:] + steps[1:] * wide[:-1]) / (wide[1:] + wide[:-1])
            # No bend at an end: the slope there follows from the neighbour's.
            smooth[0] = 1.5 * steps[0] - 0.5 * smooth[1]
            smooth[-1] = 1.5 * steps[-1] - 0.5 * smooth[-2]
        before, after = smooth.copy(), smooth.copy()
        for index, key in enumerate(self.keys):
            if key.kind in ("flat", "held"):
                before[index] = after[index] = 0
            elif key.kind == "linear":
                before[index] = steps[max(index - 1, 0)]
                after[index] = steps[min(index, count - 2)]
            elif key.kind == "free":
                before[index], after[index] = key.before, key.after
        return before, after

    def at(self, frames: Array) -> Array:
        """Values (T,) at frames (T,), whole or not."""
        return self._evaluated(np.asarray(frames, float), 0)

    def slope_at(self, frames: Array) -> Array:
        """Slopes (T,) at frames, per frame; zero outside the keys."""
        return self._evaluated(np.asarray(frames, float), 1)

    def _evaluated(self, frames: Array, derivative: int) -> Array:
        x, y = self.frames, self.values
        inside = np.clip(frames, x[0], x[-1])
        if len(x) == 1:
            return np.full(frames.shape, y[0] if not derivative else 0.0)
        before, after = self.slopes()
        wide, rise = np.diff(x), np.diff(y)
        m, n = after[:-1] * wide, before[1:] * wide
        held = np.array([key.kind == "held" for key in self.keys[:-1]])
        # Of the powers of the share of a segment, from the third down.
        powers = np.stack([m + n - 2 * rise, 3 * rise - 2 * m - n, m, y[:-1]])
        powers[:3, held] = 0
        pieces = PPoly(powers / wide ** np.array([[3], [2], [1], [0]]), x)
        out = pieces(inside, derivative)
        if not derivative:
            out[inside >= x[-1]] = y[-1]
        if derivative:
            out[(frames < x[0]) | (frames > x[-1])] = 0.0
        return out

    def with_key(self, key: Key) -> Curve:
        """With one more key, or another one on its frame."""
        return Curve.of([*self.keys, key])

    def retimed(self, first: float, last: float, to_first: float, to_last: float) -> Curve:
        """The keys from `first` to `last` moved and scaled in time to another range; those before
        and after it move along, and keep their distances.
        """
        if not (last > first and to_last > to_first):
            raise Problem("A range has a first frame and a later last one.")
        factor = (to_last - to_first) / (last - first)

        def moved(key: Key) -> Key:
            if key.frame < first:
                return replace(key, frame=key.frame + to_first - first)
            if key.frame > last:
                return replace(key, frame=key.frame + to_last - last)
            return replace(
                key,
                frame=to_first + (key.frame - first) * factor,
                before=key.before / factor,
                after=key.after / factor,
            )

        return Curve.of([moved(key) for key in self.keys])


def along(lengths: Array, moments: Array, speed: Curve, by: str) -> Array:
    """Return how far along a route one is, where its speed is a curve of its own.

    Parameters
    ----------
    lengths : ndarray, shape (2,)
        The length at which the move begins, and the whole length, metres.
    moments : ndarray, shape (T,)
        Seconds, increasing.
    speed : Curve
        Metres per second, over seconds or over metres.
    by : str
        "time" or "distance": over which.

    Returns
    -------
    ndarray, shape (T,)
        Metres, not beyond the whole length.

    Raises
    ------
    Problem
        If a speed is below zero, or one over distance comes to zero before the end.
    """
    begin, whole = (float(value) for value in lengths)
    if by == "time":
        fine = np.linspace(moments[0], moments[-1], max(2, 32 * len(moments)))
        rates = speed.at(fine)
        if rates.min() < -1e-12:
            raise Problem("A speed along the route is zero or more.", "speed")
        gone = begin + _integral(fine, rates)
        return np.minimum(np.interp(moments, fine, gone), whole)
    fine = np.linspace(begin, whole, max(2, 64 * len(moments)))
    rates = speed.at(fine)
    if rates.min() <= 1e-6:
        raise Problem(
            "A speed over distance is above zero everywhere: else nobody gets on.", "speed"
        )
    taken = moments[0] + _integral(fine, 1 / rates)
    return np.interp(moments, taken, fine)


def _integral(x: Array, y: Array) -> Array:
    """(N,) the integral from the first sample to each (trapezoids)."""
    return np.concatenate([[0.0], np.cumsum((y[1:] + y[:-1]) / 2 * np.diff(x))])
