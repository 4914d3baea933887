"""Pictures from one lens and grid to another: without distortion, with it again, at other grids."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.gates.chain import straight

STEP = 4  # px of the target between rays that are worked out: the maps are smooth
GOING_ON = 4  # px that are added of the other side: more than cubic interpolation reaches
OUTSIDE = -1e6  # px; cv2.remap leaves it empty


def map_between(source: Camera, target: Camera) -> tuple[Array, Array]:
    """Return where each pixel of a picture lies in another picture from the same place.

    Parameters
    ----------
    source, target : Camera
        Of the picture that there is, and of the one that is made; where they look matters, not
        where they stand.

    Returns
    -------
    x, y : ndarray, shape (height, width) of the target, float32
        For OpenCV's remap, which counts from the first pixel's centre. What the source's lens
        doesn't reach is far outside.
    """
    import cv2

    width, height = target.grid.width, target.grid.height
    # A panorama's map jumps where the picture goes on at its other side: there nothing lies between
    # two rays.
    step = 1 if source.lens.projection.around else STEP
    across, down = np.arange(0, width + step, step) + 0.5, np.arange(0, height + step, step) + 0.5
    x, y = np.meshgrid(across, down)
    rays = target.lens.rays(target.grid.to_mm(np.stack([x.ravel(), y.ravel()], -1)))
    rays = rays @ (source.rotation.T @ target.rotation).T
    seen = source.grid.to_px(source.lens.project(rays)) - 0.5
    coarse = np.where(np.isfinite(seen), seen, OUTSIDE).astype(np.float32).reshape(*x.shape, 2)
    if step == 1:
        fine = coarse[:height, :width]
        return np.ascontiguousarray(fine[..., 0]), np.ascontiguousarray(fine[..., 1])
    # The coarse map's sample (i, j) belongs to the pixel (STEP i, STEP j).
    at_x, at_y = np.meshgrid(
        np.arange(width, dtype=np.float32) / STEP, np.arange(height, dtype=np.float32) / STEP
    )
    fine = cv2.remap(coarse, at_x, at_y, cv2.INTER_LINEAR)
    return np.ascontiguousarray(fine[..., 0]), np.ascontiguousarray(fine[..., 1])


def going_on(picture: Array) -> Array:
    """(H, W + 2 GOING_ON, C) a panorama of all around, that ends on neither side, for what mixes
    neighbours."""
    return np.pad(picture, ((0, 0), (GOING_ON, GOING_ON), (0, 0)), mode="wrap")


def straighten_map(camera: Camera, size: tuple[int, int]) -> tuple[Array, Array]:
    """As `map_between`, from a bent picture of `size` px to a straight one of the same gate."""
    bent = replace(camera, grid=camera.grid.resize(*size))
    return map_between(bent, replace(bent, lens=straight(bent.lens)))
