"""What was found of an edge at places along a drawn line: what its fit is made from."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array

# Blocks of plain edges, 8 px each, that are taken to err together; and of a movie, where what a
# codec did to a macroblock of 16 px runs on through its filters and from frame to frame: measured
# on H.264 at two qualities (`bench.means`).
RUN_BLOCKS, RUN_OF_A_MOVIE = 2, 3
LEAST_SIGMA_PX = 0.02  # of one block


@dataclass(frozen=True)
class Places:
    """What was found at N places along a line, each array of shape (N,).

    at : from 0 at the line's first end to 1 at its last.
    offset, weight : px across the line, and 1 / σ² of it; both 0 where `good` is false.
    sign : of the step where it turns along the line; 0 where that is no matter.
    group : the number of those that err together.
    """

    at: Array
    offset: Array
    weight: Array
    good: Array
    sign: Array
    group: Array


def plain_places(at: Array, offset: Array, sigma: Array, lossy: bool = False) -> Places:
    """The blocks of an edge of one contrast; neighbours share their texture, and err together.

    `offset` and `sigma` (N,) px, NaN where a block shows no edge.
    """
    good = np.isfinite(offset) & np.isfinite(sigma)
    weight = np.zeros(len(at))
    weight[good] = 1 / np.maximum(sigma[good], LEAST_SIGMA_PX) ** 2
    groups = np.arange(len(at)) // (RUN_OF_A_MOVIE if lossy else RUN_BLOCKS)
    return Places(at, np.where(good, offset, 0.0), weight, good, np.zeros(len(at)), groups)
