"""Fewer keys for a move that has one on every frame, within a tolerance in pixels.

Keys are added where the move that they make is off by most, beginning with its ends (the greedy
refinement of Douglas and Peucker 1973, on smooth curves instead of straight lines), and off is what
the picture shows: the largest distance, over the picture, between where a point is seen by the move
and by its keys.
"""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import numpy as np

from aperture.arrays import Array
from aperture.camera import CameraPath
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.moves.authored import Authored, keyed_move, keys_from
from aperture.moves.compare import AWAY_M, SHARES
from aperture.moves.move import Move

LEAST_PX = 0.01
ADDED_AT_ONCE = 0.34  # of the gaps that are too wide, how many get a key in a round
MOST_ROUNDS = 400


def thinned(
    move: Move, grid: Grid, rate: Fraction, tolerance_px: float, away_m: float = AWAY_M
) -> Authored:
    """Return the keys of a move of which no frame is off by more than a tolerance.

    Parameters
    ----------
    move : Move
        One whose view is known, with at least one frame.
    grid : Grid
        Of the picture.
    rate : Fraction
        Frames per second.
    tolerance_px : float
    away_m : float
        How far away the points are that are looked at, metres.

    Raises
    ------
    Problem
        If the tolerance is below 0.01 px.
    """
    if not tolerance_px >= LEAST_PX:
        raise Problem(f"The tolerance is {LEAST_PX} px or more.", "tolerance")
    first, last = int(move.frames[0]), int(move.frames[-1])
    empty = Authored({}, first, last, gate_mm=grid.gate_mm)
    chosen = sorted({first, last})
    seen = _Seen(move, grid, away_m)
    authored = empty
    for _ in range(MOST_ROUNDS):
        authored = replace(empty, curves=keys_from(move, chosen))
        off = seen.off(keyed_move(authored, rate))
        wide = off > tolerance_px
        if not wide.any():
            return authored
        # One new key in each of the worst gaps, where that gap is off by most.
        ends = np.array(chosen)
        gap = np.searchsorted(ends, move.frames, side="right")
        worst: dict[int, tuple[float, int]] = {}
        for index in np.flatnonzero(wide).tolist():
            frame = int(move.frames[index])
            if frame in chosen:
                continue
            if int(gap[index]) not in worst or off[index] > worst[int(gap[index])][0]:
                worst[int(gap[index])] = (float(off[index]), frame)
        if not worst:
            break
        order = sorted(worst.values(), reverse=True)
        count = max(1, round(ADDED_AT_ONCE * len(order)))
        chosen = sorted({*chosen, *(frame for _, frame in order[:count])})
    return authored


class _Seen:
    """Where points about a move are seen by it, to compare other poses with."""

    def __init__(self, move: Move, grid: Grid, away_m: float) -> None:
        path = move.on(grid)
        self.focal = np.array(path.at(int(path.frames[0])).focal_px) / path.focal_mm[0]
        self.path, self.away = path, away_m
        self.pixels = SHARES * [grid.width, grid.height]

    def off(self, other: Move) -> Array:
        """(F,) px that the worst point of each frame is off by."""
        path, grid = self.path, self.path.grid
        theirs: CameraPath = other.on(grid)
        # Rays of the pixels for the first focal length, scaled for the others: no distortion here.
        first = path.at(int(path.frames[0]))
        rays = first.lens.rays(grid.to_mm(self.pixels))
        flat = rays[:, :2] / -rays[:, 2:]
        scale = (path.focal_mm[0] / path.focal_mm)[:, None, None]
        away = np.concatenate(
            [flat * scale, np.full((len(path.frames), len(flat), 1), -1.0)], axis=2
        )
        away = self.away * away / np.linalg.norm(away, axis=2, keepdims=True)
        points = np.einsum("fij,fnj->fni", path.rotations, away) + path.positions[:, None]
        seen = np.einsum("fji,fnj->fni", theirs.rotations, points - theirs.positions[:, None])
        with np.errstate(all="ignore"):
            tangents = seen[..., :2] / -seen[..., 2:]
        mine = flat * scale
        focal = self.focal * path.focal_mm[:, None]
        ratio = (theirs.focal_mm / path.focal_mm)[:, None, None]
        miss = np.linalg.norm((tangents * ratio - mine) * focal[:, None], axis=2)
        miss[~(seen[..., 2] < 0)] = np.inf
        return miss.max(axis=1)
