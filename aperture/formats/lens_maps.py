"""A lens as pictures and as coefficients: UV maps for undistorting and redistorting, and OpenCV's
YAML.

A UV map has the size of the picture that it makes. Each of its pixels says where in the other
picture to look, at the pixel's centre: u to the right and v *up*, each 0 to 1 over the whole
picture. It is 32-bit float, as 16 bits would tell places on a 4K picture to two pixels only.

The undistorted picture shows what a distortion-free renderer shows. It is larger than the plate by
the overscan that the plate's edge needs, evenly and in even numbers, so that nothing is lost on the
way there and back.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.gates.chain import straight
from aperture.geometry.grid import Grid
from aperture.lens.distortion import opencv_order
from aperture.plates.exr import write_channels

# The straight picture may be so many times as wide or high as the plate.
MOST_TIMES = 5


@dataclass(frozen=True, eq=False)
class LensMaps:
    """Both maps of a lens, each made once it is asked for.

    Parameters
    ----------
    bent : Camera
        Of the plate.
    plain : Camera
        Without distortion, its grid as large as the undistorted picture.
    """

    bent: Camera
    plain: Camera

    @property
    def grid(self) -> Grid:
        """Of the undistorted picture."""
        return self.plain.grid

    @cached_property
    def undistort(self) -> Array:
        """(H', W', 2) u right, v up; NaN where there is nothing to see."""
        return _to_uv(self.bent.grid, _through(self.plain, self.bent))

    @cached_property
    def redistort(self) -> Array:
        """(H, W, 2) likewise, on the undistorted picture."""
        return _to_uv(self.grid, _through(self.bent, self.plain))


def lens_maps(camera: Camera) -> LensMaps:
    """Both maps of a camera's lens.

    Raises Problem where the straight picture would be more than MOST_TIMES as large.
    """
    plain = replace(camera, lens=straight(camera.lens))
    return LensMaps(camera, replace(plain, grid=_straight_grid(camera, plain)))


def _through(made: Camera, looked: Camera) -> Array:
    """(H, W, 2) px of the `looked` picture that are seen at each pixel centre of the `made` one."""
    width, height = made.grid.width, made.grid.height
    x, y = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
    rays = made.lens.rays(made.grid.to_mm(np.stack([x, y], axis=-1).reshape(-1, 2)))
    return looked.grid.to_px(looked.lens.project(rays)).reshape(height, width, 2)


def _to_uv(grid: Grid, px: Array) -> Array:
    return np.stack([px[..., 0] / grid.width, 1 - px[..., 1] / grid.height], axis=-1)


def _straight_grid(camera: Camera, plain: Camera) -> Grid:
    """The plate's grid with the overscan that its own edge needs once it is straight."""
    grid = camera.grid
    x, y = np.arange(grid.width + 1.0), np.arange(grid.height + 1.0)
    edge = np.concatenate(
        [
            *(np.stack([x, np.full_like(x, at)], axis=1) for at in (0, grid.height)),
            *(np.stack([np.full_like(y, at), y], axis=1) for at in (0, grid.width)),
        ]
    )
    at = grid.to_px(plain.lens.project(camera.lens.rays(grid.to_mm(edge))))
    if not np.isfinite(at).all():
        raise Problem(
            "The lens sees more than a straight picture can show: no straight picture holds all "
            "of the plate."
        )
    low, high = at.min(axis=0), at.max(axis=0)
    over = np.array([-low[0], high[0] - grid.width, -low[1], high[1] - grid.height])
    # A millionth of a pixel is not a pixel.
    left, right, top, bottom = (max(0, math.ceil(value - 1e-6)) for value in over)
    right += (left + right) % 2
    bottom += (top + bottom) % 2
    found = grid.overscan(left, right, top, bottom)
    if found.width > MOST_TIMES * grid.width or found.height > MOST_TIMES * grid.height:
        raise Problem(
            f"The lens bends so much that the straight picture would be more than {MOST_TIMES} "
            "times as large."
        )
    return found


def bends_px(camera: Camera) -> float:
    """By how many px the lens bends the corner of the plate that it bends most: what is off where
    distortion isn't carried.
    """
    grid = camera.grid
    corners = np.array([(x, y) for x in (0.0, grid.width) for y in (0.0, grid.height)])
    plain = straight(camera.lens)
    at = grid.to_px(plain.project(camera.lens.rays(grid.to_mm(corners))))
    return float(np.nan_to_num(np.linalg.norm(at - corners, axis=1), nan=np.inf).max())


def write_map(path: Path, uv: Array, says: dict[str, str]) -> None:
    """Write a map (H, W, 2) as a 32-bit OpenEXR with R = u, G = v, B = 0; `says`: attributes of its
    header.
    """
    channels = {
        "R": uv[..., 0].astype(np.float32),
        "G": uv[..., 1].astype(np.float32),
        "B": np.zeros(uv.shape[:2], np.float32),
    }
    write_channels(path, channels, says)


def write_opencv(path: Path, camera: Camera) -> None:
    """Write OpenCV's own YAML: camera matrix, distortion (k1, k2, p1, p2, k3), and the picture's
    size.

    OpenCV counts pixels from the centre of the first one, half a pixel from this project's corner.
    Raises Problem for a lens that its model doesn't have.
    """
    import cv2

    lens = camera.lens
    if lens.projection.name != "rectilinear":
        raise Problem(f"OpenCV's plain model has no {lens.projection.name} lens.")
    fx, fy = camera.focal_px
    x, y = camera.principal_point_px
    storage = cv2.FileStorage(str(path), cv2.FILE_STORAGE_WRITE)
    try:
        storage.writeComment(
            "Pixel centres are at whole numbers; lengths in px; distortion: k1, k2, p1, p2, k3"
        )
        storage.write("image_width", camera.grid.width)
        storage.write("image_height", camera.grid.height)
        storage.write("camera_matrix", np.array([[fx, 0, x - 0.5], [0, fy, y - 0.5], [0, 0, 1]]))
        storage.write("distortion_coefficients", opencv_order(lens.coefficients)[None])
    finally:
        storage.release()
