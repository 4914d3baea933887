"""A film of all around held steady: one turn per frame, after which the horizon is level and the
view faces the way the camera goes, or one way all the time.

A turn is (3, 3): directions in the steady camera, in the camera that was solved. Both stand in the
same place.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera, CameraPath
from aperture.errors import Problem
from aperture.geometry.rotation import angles_from_rotation, degrees_of, rotation_from_angles

WAYS = {
    "travel": "the way it goes",
    "heading": "one way, all the time",
    "own": "where the camera looks",
}
MOST_FRAMES = 100_000.0  # of smoothing
# A camera that goes slower than this share of its usual speed goes nowhere: it faces on as before.
CREEPING = 0.05
# Directions that two pictures are compared by: all around, without the poles, which a layout draws
# out.
SAMPLES, HIGHEST = (240, 90), math.radians(60.0)
SMALL = 512  # px across of the pictures that are compared
TELLS = (
    0.02  # by how much more alike two pictures must be under one explanation than under the other
)
LEAST_DEGREES = 0.3  # by so much the two must differ


def headings(path: CameraPath, way: str, heading: float = 0.0, smooth: float = 0.0) -> Array:
    """Return where the steady view faces.

    Parameters
    ----------
    path : CameraPath
    way : str
        One of WAYS.
    heading : float
        Of "heading": the pan, radians.
    smooth : float
        Frames of standard deviation (Gaussian) by which the heading is smoothed.

    Returns
    -------
    ndarray, shape (F,)
        Pan, radians; it goes on past a whole turn instead of jumping.

    Raises
    ------
    Problem
        If the camera goes nowhere, or a value is out of its range.
    """
    from scipy.ndimage import gaussian_filter1d

    if way not in WAYS:
        raise Problem(f"The view faces {', or '.join(WAYS.values())}.", "way")
    if not 0 <= smooth <= MOST_FRAMES:
        raise Problem(f"It is smoothed over 0 to {MOST_FRAMES:,.0f} frames.", "smooth")
    frames = np.asarray(path.frames, float)
    if way == "heading":
        return np.full(len(frames), heading)
    if way == "own":
        pans = np.unwrap([angles_from_rotation(turn)[0] for turn in path.rotations])
    else:
        pans = _of_travel(frames, path.positions)
    if not smooth:
        return np.asarray(pans)
    every = np.arange(frames[0], frames[-1] + 1)  # frames without a camera count as between
    smoothed = gaussian_filter1d(np.interp(every, frames, pans), smooth, mode="nearest")
    return np.asarray(np.interp(frames, every, smoothed))


def _of_travel(frames: Array, positions: Array) -> Array:
    """(F,) pan of the level direction in which the camera goes, radians."""
    if len(frames) < 2:
        raise Problem("One frame has no way to face: a path is needed.", "way")
    speed = np.gradient(positions[:, [0, 2]], frames, axis=0)
    fast = np.linalg.norm(speed, axis=1)
    goes = fast > max(CREEPING * float(np.median(fast)), 1e-9)
    if not goes.any() or np.ptp(positions[:, [0, 2]], axis=0).max() < 1e-6:
        raise Problem("The camera goes nowhere: let the view face one way.", "way")
    pans = np.unwrap(np.arctan2(-speed[goes, 0], -speed[goes, 1]))
    return np.asarray(np.interp(frames, frames[goes], pans))


def turns(path: CameraPath, pans: Array) -> Array:
    """(F, 3, 3) the turn of each frame of a path, after which its horizon is level and it faces
    `pans` (F,), radians."""
    return np.stack(
        [
            turn.T @ rotation_from_angles(float(pan), 0.0, 0.0)
            for turn, pan in zip(path.rotations, pans, strict=True)
        ]
    )


def values(frames: Sequence[int], turned: Array) -> list[list[float]]:
    """[frame, pan_deg, tilt_deg, roll_deg] of each turn, as a step of the gate chain has it; angles
    go on instead of jumping."""
    angles = np.unwrap([angles_from_rotation(turn) for turn in turned], axis=0)
    degrees = np.degrees(angles).round(6)
    return [[int(frame), *own] for frame, own in zip(frames, degrees.tolist(), strict=True)]


def off_level(path: CameraPath) -> Array:
    """(F,) by how many degrees each frame's up is off the world's."""
    return np.degrees(np.arccos(np.clip(np.asarray(path.rotations)[:, 1, 1], -1, 1)))


def seen_steady(
    pictures: Sequence[Array], cameras: Sequence[Camera], steady: Sequence[Array]
) -> bool | None:
    """Return whether pictures of a film are steady already, by what they show.

    Between two pictures the surroundings stay where they are, once the cameras' turns are taken
    off: those that are true for the pictures make them more alike.

    Parameters
    ----------
    pictures : sequence of ndarray, shape (H, W)
        Grey, some frames apart.
    cameras : sequence of Camera
        As each would be if it weren't steady; places don't matter.
    steady : sequence of ndarray, shape (3, 3)
        The turn that each would have got.

    Returns
    -------
    bool or None
        None where it can't be told: the turns hardly differ, or neither fits better.
    """
    small, at = [_small(picture) for picture in pictures], _directions()
    held = [
        Camera(one.grid, one.lens, _posed(one.rotation @ turn))
        for one, turn in zip(cameras, steady, strict=True)
    ]
    scores: list[list[float]] = [[], []]
    for i in range(len(small) - 1):
        own = cameras[i + 1].rotation.T @ cameras[i].rotation
        other = held[i + 1].rotation.T @ held[i].rotation
        if degrees_of(own.T @ other) < LEAST_DEGREES:
            continue
        for score, by in zip(scores, (cameras, held), strict=True):
            score.append(_alike(*(_looked_up(small[j], by[j], at) for j in (i, i + 1))))
    if not scores[0]:
        return None
    plain, turned = (float(np.mean(score)) for score in scores)
    return None if abs(turned - plain) < TELLS else turned > plain


def _posed(rotation: Array) -> Array:
    pose = np.eye(4)
    pose[:3, :3] = rotation
    return pose


def _directions() -> Array:
    """(N, 3) in the world, evenly all around."""
    across = (np.arange(SAMPLES[0]) + 0.5) / SAMPLES[0] * math.tau
    up = np.linspace(-HIGHEST, HIGHEST, SAMPLES[1])
    longitude, latitude = (grid.ravel() for grid in np.meshgrid(across, up))
    level = np.cos(latitude)
    return np.stack(
        [level * np.sin(longitude), np.sin(latitude), -level * np.cos(longitude)], axis=1
    )


def _small(picture: Array) -> Array:
    import cv2

    high = max(1, round(SMALL * picture.shape[0] / picture.shape[1]))
    return np.asarray(
        cv2.resize(picture.astype(np.float32), (SMALL, high), interpolation=cv2.INTER_AREA)
    )


def _looked_up(picture: Array, camera: Camera, directions: Array) -> Array:
    import cv2

    high, wide = picture.shape
    px = camera.project_directions(directions) * (
        wide / camera.grid.width,
        high / camera.grid.height,
    )
    at = np.nan_to_num(px - 0.5, nan=-1e6).astype(np.float32)
    found = cv2.remap(picture, at[None, :, 0], at[None, :, 1], cv2.INTER_LINEAR)
    return np.asarray(found[0])


def _alike(first: Array, second: Array) -> float:
    """The correlation of two rows of samples, 0 where one is of one grey."""
    a, b = first - first.mean(), second - second.mean()
    size = float(np.linalg.norm(a) * np.linalg.norm(b))
    return float(a @ b) / size if size > 1e-9 else 0.0
