"""How far apart two cameras see the same world, in pixels over the picture."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera

# Where the picture is sampled, as shares of its size: its corners, middles and what lies between.
SHARES = np.stack(np.meshgrid([0.02, 0.26, 0.5, 0.74, 0.98], [0.02, 0.34, 0.66, 0.98]), -1).reshape(
    -1, 2
)
# How far away along a ray that meets no floor, metres; a floor twenty times as far is too far to
# compare well.
AWAY_M, FAR = 5.0, 20.0


def seen_points(camera: Camera, pixels: Array, away_m: float = AWAY_M) -> Array:
    """(N, 3) world points, metres, that a camera sees at pixels (N, 2): on the floor, or, above the
    horizon, in the air.
    """
    floor, rays = camera.on_plane(pixels), camera.rays(pixels)
    along = camera.position + away_m * rays / np.linalg.norm(rays, axis=1, keepdims=True)
    far = np.linalg.norm(np.nan_to_num(floor) - camera.position, axis=1) > FAR * away_m
    on_floor = np.isfinite(floor).all(axis=1) & ~far
    return np.where(on_floor[:, None], floor, along)


def offsets(ours: Camera, theirs: Camera, away_m: float = AWAY_M) -> tuple[Array, Array]:
    """Return where one camera sees points, and where the other sees the same ones.

    Parameters
    ----------
    ours, theirs : Camera
        Of pictures of the same size.
    away_m : float
        How far away points in the air are, metres.

    Returns
    -------
    ours, theirs : ndarray, shape (20, 2)
        Pixels; NaN where a point isn't seen.
    """
    pixels = SHARES * [ours.grid.width, ours.grid.height]
    points = seen_points(ours, pixels, away_m)
    return pixels, theirs.project(points)


def apart(
    ours: Mapping[int, Camera], theirs: Mapping[int, Camera], away_m: float = AWAY_M
) -> dict[int, float]:
    """By how many px two moves differ at most over the picture, per frame that both have; infinite
    where the other sees nothing of it.
    """
    out = {}
    for frame in sorted(set(ours) & set(theirs)):
        mine, other = offsets(ours[frame], theirs[frame], away_m)
        far = np.linalg.norm(mine - other, axis=1)
        seen = far[np.isfinite(far)]
        out[frame] = float(seen.max()) if len(seen) else float("inf")
    return out
