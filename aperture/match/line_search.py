"""Lines tried through the profiles beside a drawn line: which one follows an edge best."""

from __future__ import annotations

import numpy as np

from aperture.arrays import Array
from aperture.match.sampling import SEARCH_PX

STEP = 0.5  # px between the samples of a profile, and between the lines tried
TRIES = np.arange(-SEARCH_PX, SEARCH_PX + STEP / 2, STEP)


def along_lines(gradient: Array, at: Array, offsets: Array) -> Array:
    """(A, B, blocks) the gradient along every line between the offsets TRIES at both ends."""
    first, last = np.meshgrid(TRIES, TRIES, indexing="ij")
    want = first[..., None] + at * (last - first)[..., None]
    low = np.clip(((want - offsets[0]) / STEP).astype(int), 0, len(offsets) - 2)
    share = (want - offsets[low]) / STEP
    block = np.arange(len(at))
    return gradient[block, low] * (1 - share) + gradient[block, low + 1] * share


def best_line(strength: Array) -> tuple[int, int]:
    """The indices in TRIES of the line with the most strength (A, B); near ones count more."""
    first, last = np.meshgrid(TRIES, TRIES, indexing="ij")
    nearness = np.exp(-(first**2 + last**2) / (2 * (0.8 * SEARCH_PX) ** 2))
    row, column = np.unravel_index(np.argmax(strength * nearness), strength.shape)
    return int(row), int(column)


def strongest(gradient: Array, at: Array, offsets: Array) -> tuple[float, float, float]:
    """Offsets at both ends of the line along which the gradient, with one sign, is strongest."""
    mean = np.abs(along_lines(gradient, at, offsets).mean(axis=-1))
    first, last = best_line(mean)
    return TRIES[first], TRIES[last], float(mean[first, last])
