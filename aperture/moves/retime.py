"""A shot at another speed: which of its moments each new frame shows, and its camera and keys
there."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import CameraPath
from aperture.cut.cut import Clip
from aperture.errors import Problem
from aperture.light.motion import camera_between


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
        New frame and value. A key goes to the new frame that is nearest to it, with the value that
        holds there; where the speed changes, or frames are repeated, every new frame between the
        first and the last key gets one.
    """
    places = [clip.place(frame) for frame in frames]
    low, high = (min(max(round(place), 0), clip.length - 1) for place in (places[0], places[-1]))
    steady = len(clip.speeds) == 1 and clip.between != "repeat"
    wanted = {round(place) for place in places} if steady else set(range(low, high + 1))
    at = moments(clip)
    whole = sorted({min(max(frame, 0), clip.length - 1) for frame in wanted})
    return [[first + frame, *value(float(at[frame]))] for frame in whole]


def slowed(clip: Clip) -> list[tuple[int, float]]:
    """Return by how much longer the shutter seems to be open, per frame of a clip; one alone where
    it is the same on all."""
    by = [1 / clip.speed_at(int(round(float(clip.source(frame))))) for frame in range(clip.length)]
    if np.ptp(by) < 1e-9:
        return [(0, by[0])]
    return list(enumerate(by))
