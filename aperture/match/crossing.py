"""Lines that cross squares of opposite contrast, as the rows of a chessboard do.

The step's sign turns along such a line. What shifts a step (a transfer curve that isn't quite the
plate's, light that spreads, ink that does) shifts the next one to the other side, so each block
carries its sign. Where the sign turns, two edges cross: such a corner looks the same from both
sides, so nothing of the kind shifts it, and it is as good a witness as all of a square's edge.
"""

from __future__ import annotations

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.match.corners import find_corner
from aperture.match.line_search import best_line
from aperture.match.places import Places
from aperture.match.sampling import Sampler

# A step turns its sign along a line where the blocks are so much stronger without it.
TURNING = 1.4
# Of neighbouring blocks, how many have the same sign on a line that turns, at least.
LEAST_RUNS = 0.5
# How far a corner may lie from where the sign turns, along the line and across it.
ALONG_PX, ACROSS_PX = 8.0, 2.0
# The board's own lines and the picture's grain, px: the σ of a square's edge, and that of a corner.
TYPICAL_SIGMA_PX = 0.09


def turning_signs(along: Array) -> Array | None:
    """(blocks,) the step's sign in each block, 0 unsure, where it turns along the line; or None.

    `along` (A, B, blocks): the gradient along the lines tried. The step turns where the blocks
    along some line are strong without regard to their sign, and cancel each other with it; where
    both signs have their share; and where neighbours mostly agree.
    """
    strength = np.abs(along).mean(axis=-1)
    signed = np.abs(along.mean(axis=-1))
    first, last = best_line(strength)
    if strength[first, last] < TURNING * signed[best_line(signed)]:
        return None
    own = along[first, last]
    strong = np.abs(own) > 0.6 * np.quantile(np.abs(own), 0.7)
    share = np.mean(own[strong] > 0)
    neighbours = np.mean(np.sign(own[strong][1:]) == np.sign(own[strong][:-1]))
    if not 0.2 < share < 0.8 or neighbours < LEAST_RUNS:
        return None
    # A block across a turn mixes both signs, which multiplies what shifts either: it has none.
    return np.where(strong, np.where(own < 0, -1.0, 1.0), 0.0)


def corners_along(sampler: Sampler, ends: Array, at: Array, centre: Array, signs: Array) -> Array:
    """(M, 2) the corners where the sign turns, and at the line's ends: place along it, px across
    it.

    `at`, `centre`, `signs` (blocks,): their places, the edge's offset there in px, its sign.
    """
    along = ends[1] - ends[0]
    length = float(np.linalg.norm(along))
    normal = np.array([-along[1], along[0]]) / length
    sure = np.flatnonzero(signs)
    turns = [(at[i] + at[j]) / 2 for i, j in zip(sure, sure[1:]) if signs[i] != signs[j]]
    found = []
    for place, reach in [(0.0, ALONG_PX / 2), *((t, ALONG_PX) for t in turns), (1.0, ALONG_PX / 2)]:
        across = float(np.polyval(np.polyfit(at, centre, 1), place))
        try:
            corner = find_corner(sampler, ends[0] + place * along + across * normal)
        except Problem:
            continue
        here = corner.at - ends[0]
        found_place, found_across = here @ along / length**2, here @ normal
        near = abs(found_place - place) * length < reach and abs(found_across - across) < ACROSS_PX
        if near and not corner.round:
            found.append((found_place, found_across))
    return np.array(found).reshape(-1, 2)


def crossing_places(at: Array, offset: Array, signs: Array, corners: Array) -> Places:
    """The blocks of known sign and the corners (M, 2) between them.

    All blocks of a square weigh together as much as one corner: a square of a board has its own
    error, which its blocks share. `offset` (blocks,) px, NaN where a block shows no edge.
    """
    good = np.isfinite(offset) & (signs != 0)
    squares = _squares(signs)
    share = 1 / np.maximum(np.bincount(squares, good), 1)[squares]
    count = len(corners)
    return Places(
        at=np.concatenate([at, corners[:, 0]]),
        offset=np.concatenate([np.where(good, offset, 0.0), corners[:, 1]]),
        weight=np.concatenate([np.where(good, share, 0.0), np.ones(count)]) / TYPICAL_SIGMA_PX**2,
        good=np.concatenate([good, np.ones(count, bool)]),
        sign=np.concatenate([signs, np.zeros(count)]),
        group=np.concatenate([squares, squares.max() + 1 + np.arange(count)]),
    )


def _squares(signs: Array) -> Array:
    """(blocks,) the number of the square that each block lies in: what lies between two turns."""
    last, squares, square = 0.0, np.zeros(len(signs), int), 0
    for index, sign in enumerate(signs):
        if sign and last and sign != last:
            square += 1
        last = sign or last
        squares[index] = square
    return squares
