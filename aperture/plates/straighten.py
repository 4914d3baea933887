"""The plate without its lens's distortion."""

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.gates.chain import straight

STEP = 8


def straighten_map(camera: Camera, size: tuple[int, int]) -> tuple[Array, Array]:
    """For OpenCV's remap: two (height, width) float32 arrays, where in a bent picture of `size` px each pixel of the straight one lies.

    Both pictures cover the camera's grid. Computed on a raster of STEP px and interpolated between: the maps are smooth. What the lens
    doesn't reach is far outside.
    """
    import cv2

    width, height = size
    scale = camera.grid.width / width
    across, down = np.arange(0, width + STEP, STEP) + 0.5, np.arange(0, height + STEP, STEP) + 0.5
    x, y = np.meshgrid(across, down)
    rays = straight(camera.lens).rays(
        camera.grid.to_mm(np.stack([x.ravel(), y.ravel()], -1) * scale)
    )
    bent = (
        camera.grid.to_px(camera.lens.project(rays)) / scale - 0.5
    )  # OpenCV counts from the first pixel's centre
    outside = -1e6  # px; cv2.remap leaves it empty
    bent_px = np.where(np.isfinite(bent), bent, outside).astype(np.float32)
    at = bent_px.reshape(*x.shape, 2)
    # The coarse map's sample (i, j) belongs to the pixel (STEP i, STEP j).
    at_x, at_y = np.meshgrid(
        np.arange(width, dtype=np.float32) / STEP, np.arange(height, dtype=np.float32) / STEP
    )
    fine = cv2.remap(at, at_x, at_y, cv2.INTER_LINEAR)
    return np.ascontiguousarray(fine[..., 0]), np.ascontiguousarray(fine[..., 1])
