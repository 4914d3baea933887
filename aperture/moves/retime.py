"""A shot at another speed: which of its moments each new frame shows, and its camera and keys there."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import CameraPath
from aperture.cut.cut import Clip
from aperture.errors import Problem
from aperture.light.motion import camera_between
from aperture.scene.way import Way


def moments(clip: Clip) -> Array:
    """Return the shot's moment that each frame of a clip shows.

    Returns
    -------
    ndarray, shape (clip.length,)
        Frames of the shot, or places between two; whole ones where the nearest frame is shown.
    """
    return np.array([clip.moment(frame) for frame in range(clip.length)], float)


def path_at(path: CameraPath, at: Array, frames: Array) -> CameraPath:
    """Return a camera per new frame, each where the path is at a moment.

    Parameters
    ----------
    path : CameraPath
    at : ndarray, shape (N,)
        The path's moments, in its frames.
    frames : ndarray of int, shape (N,)
        What the new frames are called. Those whose moment lies beyond the path are left out.

    Raises
    ------
    Problem
        If the path has no camera at any of the moments.
    """
    inside = (at >= path.frames[0]) & (at <= path.frames[-1])
    if not inside.any():
        raise Problem("The camera isn’t known on any frame of that clip.")
    cameras = [camera_between(path, float(moment)) for moment in at[inside]]
    return CameraPath(
        path.grid,
        path.lens,
        frames[inside],
        np.array([one.rotation for one in cameras]),
        np.array([one.position for one in cameras]),
        np.array([one.lens.focal_mm for one in cameras]),
    )


def keys_at(
    clip: Clip, frames: Sequence[float], value: Callable[[float], list[Any]], first: int
) -> list[list[Any]]:
    """Return keys on the new frames that go as those on the shot's frames do.

    Parameters
    ----------
    clip : Clip
    frames : sequence of float
        The shot's frames that have keys.
    value : callable
        What is keyed, at a moment in the shot's frames.
    first : int
        What the first new frame is called.

    Returns
    -------
    list of [int, ...]
        New frame and value. A key goes to the new frame that is nearest to it, with the value that holds there; where
        the speed changes, or frames are repeated, every new frame between the first and the last key gets one.
    """
    places = [clip.place(frame) for frame in frames]
    low, high = (min(max(round(place), 0), clip.length - 1) for place in (places[0], places[-1]))
    steady = len(clip.speeds) == 1 and clip.between != "repeat"
    wanted = {round(place) for place in places} if steady else set(range(low, high + 1))
    at = moments(clip)
    whole = sorted({min(max(frame, 0), clip.length - 1) for frame in wanted})
    return [[first + frame, *value(float(at[frame]))] for frame in whole]


def slowed(clip: Clip) -> list[tuple[int, float]]:
    """Return by how much longer the shutter seems to be open, per frame of a clip; one alone where it is the same on all."""
    by = [1 / clip.speed_at(int(round(float(clip.source(frame))))) for frame in range(clip.length)]
    if np.ptp(by) < 1e-9:
        return [(0, by[0])]
    return list(enumerate(by))


@dataclass(frozen=True, eq=False)
class Steps:
    """The time of a shot that shows the nearest frames: each of its pictures is held until the next one is nearer.

    Its camera and its stand-ins rest with the picture, and go on by leaps. What is smeared on the picture is what moved
    while the frame was filmed: so motion blur is that of the path over the moments that were filmed.

    Parameters
    ----------
    first : int
        What the first new frame is called.
    at : ndarray, shape (N,)
        The moment, a whole one, that each new frame shows; never falling.
    """

    first: int
    at: Array

    def moment(self, frame: int) -> int:
        """The moment that a new frame shows; before the first and after the last one it goes on frame by frame."""
        inside = min(max(frame - self.first, 0), len(self.at) - 1)
        return round(float(self.at[inside])) + frame - self.first - inside

    def _once(self, frames: Array) -> tuple[Array, Array]:
        """The moments of new frames, each once, and where in `frames` each comes first."""
        moments, index = np.unique([self.moment(int(frame)) for frame in frames], return_index=True)
        return np.asarray(moments), np.asarray(index)

    def path(self, path: CameraPath) -> CameraPath:
        """The path by moments instead of new frames."""
        frames, kept = self._once(path.frames)
        held = (path.rotations[kept], path.positions[kept], path.focal_mm[kept])
        return CameraPath(path.grid, path.lens, frames, *held)

    def way(self, way: Way) -> Way:
        """The way of a stand-in by moments instead of new frames."""
        frames, kept = self._once(way.frames)
        on = self.way(way.on) if way.on else None
        return replace(
            way, frames=frames, bases=way.bases[kept], rotations=way.rotations[kept], on=on
        )
