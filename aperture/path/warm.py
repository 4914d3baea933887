"""Compile what is compiled when it is first used, and keep it: `python -m aperture warm`, at
installation.

The kernels of tracking and of the bundle are compiled by numba, which takes most of a minute, and
are kept beside the sources (`__pycache__`) for every process that comes later. Without this the
first artist waits for it.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.path.drift import KEPT, Drift, of_points
from aperture.path.solve import solve
from aperture.track.follow import Follower, Settings

SIZE, FRAMES, POINTS = (640, 360), 12, 60


def compile_following() -> None:
    """Follow a few points."""
    noise = np.random.default_rng(1).uniform(0, 255, SIZE[::-1]).astype(np.float32)
    follower = Follower(Settings(wanted=20))
    for number in range(3):
        follower.advance(number, np.roll(noise, number, axis=1))
    follower.finish()


def compile_solving() -> None:
    """Solve a small path, whose tracks don't drift; and what is for those that do."""
    solve(_document())
    own = Drift(1.0, (0.5,) * len(KEPT))
    of_points(np.array([0, 2]), np.arange(2, dtype=np.int32), np.zeros((2, 2, 3)), own)


def _document() -> dict[str, Any]:
    """Tracks of a camera that goes sideways past points in a box."""
    rng, grid = np.random.default_rng(2), Grid.from_gate(*SIZE, 36.0, 20.25)
    points = rng.uniform([-4, -2, -12], [4, 2, -4], (POINTS, 3))
    cameras = [Camera.at(grid, Lens(30.0), (0.2 * n, 0, 0), 0.02 * n) for n in range(FRAMES)]
    seen = np.array([camera.project(points) for camera in cameras])
    inside = ((seen > 0) & (seen < SIZE)).all(axis=2)
    seen = seen + rng.normal(0, 0.1, seen.shape)
    tracks = [
        {
            "id": f"t{point}",
            "sigma_px": 0.1,
            "observations": [[int(n), *seen[n, point].tolist()] for n in np.flatnonzero(own)],
        }
        for point, own in enumerate(np.asarray(inside).T)
        if own.sum() > 2
    ]
    return {
        "format": "accurate-aperture/match",
        "version": 2,
        "image": {"width": SIZE[0], "height": SIZE[1]},
        "gate": {"width_mm": 36.0, "height_mm": 20.25},
        "frames": {"first": 0, "last": FRAMES - 1},
        "lens": {"focal_mm": {"value": 30.0, "plus_minus": 1.0}, "distortion": {"free": ["k1"]}},
        "tracks": tracks,
    }
