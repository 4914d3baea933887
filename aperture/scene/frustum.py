"""A camera as a thing in space: the pyramid that its gate sees, and the plate hung across it."""

from __future__ import annotations

from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens

DOME = (72, 36)  # cells of a panorama's picture around its camera
INSET = (
    0.1  # share of the picture left out at each side where the lens forms no picture in the corners
)


def across(camera: Camera, distance: float) -> Array:
    """(4, 3) metres: where the picture's corners, clockwise from the upper left, are seen at a
    distance along the axis.

    Of a panorama, which has no such corners, those of the quarter that lies ahead.
    A lens that forms no picture in the corners, or sees beyond 90°, gives a smaller frame.
    """
    if camera.lens.projection.around:
        ahead = np.array([[-1, 0.5, -1], [1, 0.5, -1], [1, -0.5, -1], [-1, -0.5, -1]], float)
        return camera.position + distance * ahead @ camera.rotation.T
    size = np.array([camera.grid.width, camera.grid.height])
    unit = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], float)
    rays = camera.rays(unit * size)
    if not np.isfinite(rays).all() or ((rays @ camera.rotation)[:, 2] > -0.05).any():
        rays = camera.rays((INSET + unit * (1 - 2 * INSET)) * size)
    depth = -(rays @ camera.rotation)[:, 2]
    return camera.position + rays / depth[:, None] * distance


def dome(camera: Camera, distance: float) -> tuple[Array, Array, Array, Array]:
    """The picture of a panorama as it stands around its camera.

    Returns its points (N, 3), metres; where on the picture each is (N, 2), 0 to 1 from the upper
    left; triangles (T, 3) that face the camera; and the ends (L, 2) of lines every tenth of it.
    """
    columns, rows = DOME
    x, y = np.meshgrid(np.linspace(0, 1, columns + 1), np.linspace(0, 1, rows + 1))
    at = np.stack([x.ravel(), y.ravel()], -1)
    # Not quite at its border, where a rounded latitude may lie beyond a pole.
    rays = camera.rays(np.clip(at, 1e-9, 1 - 1e-9) * (camera.grid.width, camera.grid.height))
    index = np.arange(at.shape[0]).reshape(rows + 1, columns + 1)
    upper, right, lower, corner = (
        part.ravel() for part in (index[:-1, :-1], index[:-1, 1:], index[1:, :-1], index[1:, 1:])
    )
    triangles = np.concatenate(
        [np.stack(t, -1) for t in ((upper, lower, right), (right, lower, corner))]
    )
    down = index[:, :: columns // 12]
    over = index[:: rows // 6]
    lines = [
        np.stack([down[:-1].ravel(), down[1:].ravel()], -1),
        np.stack([over[:, :-1].ravel(), over[:, 1:].ravel()], -1),
    ]
    return camera.position + distance * rays, at, triangles, np.concatenate(lines)


def beyond(camera: Camera, corners: Array, points: Array) -> Array:
    """(N,) whether points (N, 3) lie on the far side of a card of `corners` (4, 3), seen from the
    camera."""
    normal = np.cross(corners[1] - corners[0], corners[3] - corners[0])
    normal /= np.linalg.norm(normal)
    facing = np.sign((camera.position - corners[0]) @ normal) or 1.0
    return (np.asarray(points, float) - corners[0]) @ normal * facing < -1e-6


def to_json(camera: Camera) -> dict[str, Any]:
    """Grid, lens and pose as plain numbers: px, mm, metres, degrees."""
    pan, tilt, roll = np.degrees(camera.angles).tolist()
    lens, grid = camera.lens, camera.grid
    return {
        "image": [grid.width, grid.height],
        "mm_from_px": [list(row) for row in grid.mm_from_px],
        "focal_mm": lens.focal_mm,
        "squeeze": lens.squeeze,
        "projection": lens.projection.name,
        "centre_mm": list(lens.centre_mm),
        "coefficients": list(lens.coefficients),
        "position": camera.position.tolist(),
        "pan_deg": pan,
        "tilt_deg": tilt,
        "roll_deg": roll,
    }


def from_json(kept: dict[str, Any]) -> Camera:
    """A Camera of what `to_json` wrote. Raises Problem where a value can't be."""
    width, height = map(int, kept["image"])
    grid = Grid(width, height, tuple(tuple(map(float, row)) for row in kept["mm_from_px"]))
    lens = Lens(
        float(kept["focal_mm"]),
        float(kept["squeeze"]),
        kept["projection"],
        tuple(kept["centre_mm"]),
        tuple(kept["coefficients"]),
    )
    return Camera.at(
        grid,
        lens,
        kept["position"],
        *np.radians([kept["pan_deg"], kept["tilt_deg"], kept["roll_deg"]]),
    )
