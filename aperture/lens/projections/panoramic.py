"""Projections of panoramas: across, a picture goes by longitude, evenly all around.

With longitude λ from the axis to the right and latitude φ upward, in focal lengths (pixels per
radian):

- equirectangular: x = λ, y = −φ; a full one is 2π wide and π high;
- cylindrical: x = λ, y = −tan φ; uprights stay straight, and the poles are never reached.

Snyder, "Map Projections: A Working Manual" (USGS 1395, 1987), pages 90 and 76, for equirectangular
(plate carrée) and central cylindrical; cited from memory. A picture of 2π goes on at its opposite
side: longitudes are taken as they come, whole turns included.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.arrays import Array


@dataclass(frozen=True)
class Panoramic:
    """A `Projection`; each kind says how the height in the picture follows from the latitude's
    tangent."""

    name: str = ""
    matched: bool = True
    straight: bool = False
    parameters: tuple[str, ...] = ()
    limit: float = math.pi
    wraps: bool = True
    around: bool = True

    def _down(self, up: Array, side: Array) -> tuple[Array, Array, Array]:
        """y of a point `up` above the horizon, `side` away from the upright axis; its derivatives
        by both."""
        raise NotImplementedError

    def _terms(self, y: Array) -> tuple[Array, Array, Array, Array, Array, Array]:
        """c, c', c'' and s, s', s'' by y, where the ray is (c sin λ, s, −c cos λ)."""
        raise NotImplementedError

    def project(self, points: Array, derivatives: bool = False) -> Any:
        """As `Projection` has it."""
        points = np.asarray(points, float)
        x, up, forward = points[:, 0], points[:, 1], -points[:, 2]
        with np.errstate(all="ignore"):
            side = np.hypot(x, forward)
            side = np.where(side > 0, side, np.nan)  # straight up or down there is no longitude
            y, by_up, by_side = self._down(up, side)
            out = np.stack([np.arctan2(x, forward), y], -1)
            if not derivatives:
                return out
            jac = np.zeros((len(points), 2, 3))
            jac[:, 0, 0], jac[:, 0, 2] = forward / side**2, x / side**2
            jac[:, 1, 0] = by_side * x / side
            jac[:, 1, 1] = by_up
            jac[:, 1, 2] = -by_side * forward / side
            return out, jac

    def rays(self, q: Array) -> Array:
        """As `Projection` has it."""
        q = np.asarray(q, float)
        c, _, _, s, _, _ = self._terms(q[:, 1])
        return np.stack([c * np.sin(q[:, 0]), s, -c * np.cos(q[:, 0])], -1)

    def ray_jacobian(self, q: Array) -> Array:
        """As `Projection` has it."""
        c, c1, _, s, s1, _ = self._terms(q[:, 1])
        sin, cos = np.sin(q[:, 0]), np.cos(q[:, 0])
        zero = np.zeros_like(c)
        return np.stack(
            [np.stack([c * cos, zero, c * sin], -1), np.stack([c1 * sin, s1, -c1 * cos], -1)], -1
        )

    def ray_jacobian_along(self, q: Array, dq: Array) -> Array:
        """As `Projection` has it."""
        c, c1, c2, _, _, s2 = self._terms(q[:, 1])
        sin, cos = np.sin(q[:, 0]), np.cos(q[:, 0])
        zero = np.zeros_like(c)
        xx = np.stack([-c * sin, zero, c * cos], -1)
        xy = np.stack([c1 * cos, zero, c1 * sin], -1)
        yy = np.stack([c2 * sin, s2, -c2 * cos], -1)
        dx, dy = dq[:, :1], dq[:, 1:]
        return np.stack([xx * dx + xy * dy, xy * dx + yy * dy], -1)


class Equirectangular(Panoramic):
    """y = −φ."""

    def _down(self, up: Array, side: Array) -> tuple[Array, Array, Array]:
        squared = up**2 + side**2
        return -np.arctan2(up, side), -side / squared, up / squared

    def _terms(self, y: Array) -> tuple[Array, Array, Array, Array, Array, Array]:
        y = np.where(np.abs(y) <= math.pi / 2, y, np.nan)
        sin, cos = np.sin(y), np.cos(y)
        return cos, -sin, -cos, -sin, -cos, sin


class Cylindrical(Panoramic):
    """y = −tan φ."""

    def _down(self, up: Array, side: Array) -> tuple[Array, Array, Array]:
        return -up / side, -1 / side, up / side**2

    def _terms(self, y: Array) -> tuple[Array, Array, Array, Array, Array, Array]:
        one, zero = np.ones_like(y), np.zeros_like(y)
        return one, zero, zero, -y, -one, zero
