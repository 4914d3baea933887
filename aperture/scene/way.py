"""The way of a stand-in over time: keys of its place and turn, and what it hangs on.

Between keys its place goes along straight lines, or smoothly: a cubic through the keys whose speed
at a key is that of its neighbours (SciPy's CubicHermiteSpline). Rotations go along the shortest
arc, or smoothly (SciPy's RotationSpline). Before the first and after the last key it rests.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from scipy.interpolate import CubicHermiteSpline
from scipy.spatial.transform import Rotation, RotationSpline, Slerp

from aperture.arrays import Array
from aperture.errors import Problem


@dataclass(frozen=True, eq=False)
class Way:
    """Where a stand-in is at each moment.

    Parameters
    ----------
    frames : ndarray, shape (K,)
        Of the keys, rising; of one that has no keys of its own, any one frame.
    bases, rotations : ndarray, shapes (K, 3) and (K, 3, 3)
        Metres, and world from its own axes: as if what it hangs on stood at its own first key.
    smooth : bool
    on : Way or None
        Of what it hangs on.

    Raises Problem where the keys are out of order.

    Examples
    --------
    >>> way = Way(np.array([1, 5]), np.array([[0, 0, 0], [4, 0, 0]]), np.tile(np.eye(3), (2, 1, 1)))
    >>> way.pose(2)[:3, 3]
    array([1., 0., 0.])
    """

    frames: Array
    bases: Array
    rotations: Array
    smooth: bool = False
    on: Way | None = None

    def __post_init__(self) -> None:
        if len(self.frames) < 1 or (np.diff(self.frames) <= 0).any():
            raise Problem("The keys of a way have frames of their own, in order.")

    @property
    def moves(self) -> bool:
        """Whether it is ever anywhere else."""
        own = len(self.frames) > 1 and not (
            np.allclose(self.bases, self.bases[0], atol=1e-9)
            and np.allclose(self.rotations, self.rotations[0], atol=1e-12)
        )
        return own or (self.on is not None and self.on.moves)

    @cached_property
    def _curves(self) -> tuple[Any, Any]:
        frames, turns = np.asarray(self.frames, float), Rotation.from_matrix(self.rotations)
        if not self.smooth or len(frames) < 3:
            return None, Slerp(frames, turns)
        speeds = np.gradient(np.asarray(self.bases, float), frames, axis=0, edge_order=1)
        return CubicHermiteSpline(frames, self.bases, speeds), RotationSpline(frames, turns)

    def own_pose(self, moment: float) -> Array:
        """(4, 4) as its own keys have it, whatever it hangs on does."""
        pose, frames = np.eye(4), self.frames
        if len(frames) == 1:
            pose[:3, :3], pose[:3, 3] = self.rotations[0], self.bases[0]
            return pose
        at = float(np.clip(moment, frames[0], frames[-1]))
        places, turns = self._curves
        pose[:3, :3] = turns(at).as_matrix()
        if places is not None:
            pose[:3, 3] = places(at)
        else:
            pose[:3, 3] = [np.interp(at, frames, axis) for axis in np.asarray(self.bases, float).T]
        return pose

    def pose(self, moment: float) -> Array:
        """(4, 4) world from its own axes, metres, at a moment in frames."""
        own = self.own_pose(moment)
        return own if self.on is None else self.on.motion(moment) @ own

    def motion(self, moment: float) -> Array:
        """(4, 4) how it has moved since it stood at its first key, and what it hangs on at its
        own."""
        rest = np.eye(4)
        rest[:3, :3], rest[:3, 3] = self.rotations[0], self.bases[0]
        return self.pose(moment) @ np.linalg.inv(rest)

    def scaled(self, scale: float) -> Way:
        """In a set that is so many times as large."""
        on = self.on.scaled(scale) if self.on else None
        return replace(self, bases=scale * np.asarray(self.bases, float), on=on)

    def delayed(self, frames: float) -> Way:
        """So many frames later."""
        on = self.on.delayed(frames) if self.on else None
        return replace(self, frames=np.asarray(self.frames) + frames, on=on)


def riding(
    ways: Sequence[Way | None], which: Array, points: Array, frame: float
) -> Callable[[float], Array]:
    """Where points go that stand-ins take along.

    Parameters
    ----------
    ways : sequence of Way or None
        Of the stand-ins.
    which : ndarray of int, shape (N,)
        On which of them each point lies; negative: on none.
    points : ndarray, shape (N, 3)
        Metres, on `frame`.
    frame : float

    Returns
    -------
    callable
        The points (N, 3) at a moment, in frames.
    """
    start = {}
    for index in np.unique(which).tolist():
        way = ways[index] if index >= 0 else None
        if way is not None and way.moves:
            start[index] = (way, np.linalg.inv(way.pose(frame)), which == index)

    def at(moment: float) -> Array:
        out = np.array(points, float)
        for way, back, mine in start.values():
            motion = way.pose(moment) @ back
            out[mine] = out[mine] @ motion[:3, :3].T + motion[:3, 3]
        return out

    return at
