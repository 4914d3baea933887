"""A cylindrical perspective for wide pictures, which keeps upright lines upright and bends less
than a straight one stretches.

With longitude φ and latitude θ from the axis, a compression d ≥ 0 and a vertical correction v:

    S = (d + 1) / (d + cos φ)
    x = S sin φ
    y = tan θ · ((1 − v) S + v / cos φ)

d = 0 is the straight (rectilinear) perspective, d = 1 the Pannini projection, d → ∞ the cylindrical
orthographic one. v = 1 makes lines across the picture straight again.

References
----------
T. K. Sharpless, B. Postle, D. M. German, "Pannini: A New Projection for Rendering Wide Angle
Perspective Images", Computational Aesthetics (2010), equations 1 to 4; cited from memory.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem

MOST_COMPRESSION = 8.0
STEPS = 60  # of the bisection


@dataclass(frozen=True, eq=False)
class Pannini:
    """Where the pixels of the refitted picture are found in the original.

    Parameters
    ----------
    source : ndarray, shape (H, W, 2)
        Px.
    horizontal, vertical : float
        What is left of the angles of view through the middle, radians.
    lost_horizontal, lost_vertical : float
        What the refit cuts off of them, radians.
    """

    source: Array
    horizontal: float
    vertical: float
    lost_horizontal: float
    lost_vertical: float


def forward(longitude: Array, latitude: Array, compression: float, vertical: float) -> Array:
    """(N, 2) of the projection's plane, right and up, of directions in radians."""
    shift = (compression + 1) / (compression + np.cos(longitude))
    up = np.tan(latitude) * ((1 - vertical) * shift + vertical / np.cos(longitude))
    return np.stack([shift * np.sin(longitude), up], -1)


def backward(plane: Array, compression: float, vertical: float) -> Array:
    """(N, 3) directions in camera space, of points (N, 2) of the projection's plane."""
    x, y = plane[:, 0], plane[:, 1]
    k = (x / (compression + 1)) ** 2
    inside = k**2 * compression**2 - (k + 1) * (k * compression**2 - 1)
    with np.errstate(invalid="ignore"):
        cos = (-k * compression + np.sqrt(inside)) / (k + 1)
    shift = (compression + 1) / (compression + cos)
    sin = x / shift
    with np.errstate(divide="ignore", invalid="ignore"):
        tan = y / ((1 - vertical) * shift + vertical / cos)
    return np.stack([sin, tan, -cos], -1)


def pannini(camera: Camera, compression: float, vertical: float) -> Pannini:
    """Lay a camera's picture out anew, as large as it can be without a border.

    Parameters
    ----------
    camera : Camera
    compression : float
        0 … MOST_COMPRESSION.
    vertical : float
        0 … 1.

    Raises
    ------
    Problem
        If a figure is out of its range, or the picture doesn't show what lies along the axis.
    """
    if not 0 <= compression <= MOST_COMPRESSION or not 0 <= vertical <= 1:
        raise Problem(
            f"The compression lies between 0 and {MOST_COMPRESSION:g}, the vertical correction "
            "between 0 and 1."
        )
    width, height = camera.grid.width, camera.grid.height

    def found(points: Array) -> Array:
        own = backward(points, compression, vertical)
        return camera.grid.to_px(camera.lens.project(own))

    def fits(half: float) -> bool:
        edge = np.linspace(-1, 1, 41)
        ones = np.ones_like(edge)
        round_ = np.concatenate(
            [
                np.stack([edge, ones], -1),
                np.stack([edge, -ones], -1),
                np.stack([ones, edge], -1),
                np.stack([-ones, edge], -1),
            ]
        )
        at = found(round_ * half * [1, height / width])
        inside = (at >= 0).all(axis=1) & (at <= [width, height]).all(axis=1)
        return bool((np.isfinite(at).all(axis=1) & inside).all())

    least, most = 1e-6, 50.0
    if not fits(least):
        raise Problem(
            "The picture doesn't show what lies along the lens axis: it can't be refitted."
        )
    for _ in range(STEPS):
        middle = math.sqrt(least * most)
        least, most = (middle, most) if fits(middle) else (least, middle)
    across = (np.arange(width) + 0.5) / width * 2 - 1
    down = (np.arange(height) + 0.5) / height * 2 - 1
    x, y = np.meshgrid(across * least, -down * least * height / width)
    source = found(np.stack([x.ravel(), y.ravel()], -1)).reshape(height, width, 2)
    own = backward(np.array([[least, 0.0], [0.0, least * height / width]]), compression, vertical)
    left = 2 * math.atan2(float(own[0, 0]), float(-own[0, 2]))
    upright = 2 * math.atan2(float(own[1, 1]), float(-own[1, 2]))
    view = camera.view
    return Pannini(source, left, upright, view.horizontal - left, view.vertical - upright)
