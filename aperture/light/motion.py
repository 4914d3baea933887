"""Motion blur: how long the shutter is open, when, and how far points of the picture go meanwhile.

Frame F is exposed during [F + phase, F + phase + angle/360) frames. With a rolling shutter, a row y
of H is exposed later by readout · (y/H − 1/2), so that the frame's pose is that of its middle row.
Between frames positions go along straight lines, and rotations on the shortest arc.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.arrays import Array
from aperture.camera import Camera, CameraPath
from aperture.errors import Problem

# When a frame's shutter opens: at its own moment, around it, or so that it closes then.
PHASES = {
    "start": "starts on the frame",
    "centre": "centred on the frame",
    "end": "ends on the frame",
}


@dataclass(frozen=True)
class Shutter:
    """When the sensor is exposed.

    Parameters
    ----------
    open_frames : float
        For how long, in frames: 0.5 for 180°.
    phase : str
        A key of PHASES.
    readout_frames : float
        By how much later the last row is exposed than the first, in frames; 0 for a global shutter.
    """

    open_frames: float
    phase: str = "centre"
    readout_frames: float = 0.0

    def __post_init__(self) -> None:
        if not 0 <= self.open_frames <= 1e3 or not math.isfinite(self.open_frames):
            raise Problem("A shutter is open for some frames at most.")
        if self.phase not in PHASES:
            raise Problem("A shutter starts on its frame, is centred on it, or ends on it.")
        if not -1 <= self.readout_frames <= 1:
            raise Problem("A rolling shutter reads its rows within one frame.")

    @property
    def opens(self) -> float:
        """When it opens, in frames from the frame's own moment."""
        return -{"start": 0.0, "centre": 0.5, "end": 1.0}[self.phase] * self.open_frames

    @property
    def closes(self) -> float:
        """When it closes."""
        return self.opens + self.open_frames


def camera_between(path: CameraPath, moment: float) -> Camera:
    """Return the camera at a moment between frames; before the first and after the last frame as it
    goes there.

    Parameters
    ----------
    path : CameraPath
        A frame at least.
    moment : float
        Frames.
    """
    frames = path.frames
    if len(frames) == 1:
        return path.at(int(frames[0]))
    after = int(np.clip(np.searchsorted(frames, moment), 1, len(frames) - 1))
    before = after - 1
    share = (moment - frames[before]) / (frames[after] - frames[before])
    first, second = path.rotations[before], path.rotations[after]
    turn = Rotation.from_matrix(first.T @ second).as_rotvec()
    pose = np.eye(4)
    pose[:3, :3] = first @ Rotation.from_rotvec(share * turn).as_matrix()
    pose[:3, 3] = (1 - share) * path.positions[before] + share * path.positions[after]
    focal = (1 - share) * path.focal_mm[before] + share * path.focal_mm[after]
    # Beyond the path's ends a zoom may not go below zero.
    focal = max(float(focal), 0.1 * float(path.focal_mm[before]))
    return Camera(path.grid, replace(path.lens, focal_mm=focal), pose)


@dataclass(frozen=True, eq=False)
class Streaks:
    """How far points go while the shutter is open.

    Parameters
    ----------
    starts, ends : ndarray, shape (N, 2)
        Px: where the shutter opens and closes on them; NaN where they are out of sight.
    lengths : ndarray, shape (N,)
        Px along the way.
    skews : ndarray, shape (N, 2)
        Px: by how much the rolling shutter displaces them, against the frame's own moment.
    """

    starts: Array
    ends: Array
    lengths: Array
    skews: Array


# Points (N, 3), metres; or where they are at a moment in frames.
Points = Array | Callable[[float], Array]


def streaks(
    path: CameraPath, frame: int, points: Points, shutter: Shutter, parts: int = 8
) -> Streaks:
    """Return the streaks of points on a frame of a camera, where either moves, or both."""
    moments = frame + np.linspace(shutter.opens, shutter.closes, parts + 1)
    middle = _projected(path, points, frame)
    late = shutter.readout_frames * (middle[:, 1] / path.grid.height - 0.5)
    rolls = bool(shutter.readout_frames)
    seen = np.array([_seen(path, points, moment, late if rolls else None) for moment in moments])
    lengths = np.linalg.norm(np.diff(seen, axis=0), axis=2).sum(axis=0)
    skews = np.zeros_like(middle)
    if rolls:
        skews = _seen(path, points, float(frame), late) - middle
    return Streaks(seen[0], seen[-1], lengths, skews)


def _projected(path: CameraPath, points: Points, moment: float) -> Array:
    there = points(moment) if callable(points) else points
    return camera_between(path, moment).project(there)


def _seen(path: CameraPath, points: Points, moment: float, late: Array | None) -> Array:
    """(N, 2) px of points at a moment; each `late` (N,) frames later where that is given.

    A row's delay is small: between three moments the way is taken as a parabola through them.
    """
    own = _projected(path, points, moment)
    if late is None:
        return own
    reach = float(np.nanmax(np.abs(late), initial=1e-9))
    before = _projected(path, points, moment - reach)
    after = _projected(path, points, moment + reach)
    share = (late / reach)[:, None]
    return own + share * (after - before) / 2 + share**2 * (after - 2 * own + before) / 2
