"""The rectilinear projection: r = tan θ. Straight lines stay straight, up to what the lens
distorts."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.lens import distortion


@dataclass(frozen=True)
class Rectilinear:
    """A `Projection`; half of space at most, without its rim."""

    name: str = "rectilinear"
    matched: bool = True
    straight: bool = True
    parameters: tuple[str, ...] = distortion.NAMES
    limit: float = math.pi / 2
    wraps: bool = False
    around: bool = False

    def project(self, points: Array, derivatives: bool = False) -> Any:
        """As `Projection` has it."""
        points = np.asarray(points, float)
        x, y, forward = points[:, 0], -points[:, 1], -points[:, 2]
        with np.errstate(all="ignore"):
            inverse = np.where(forward > 1e-12, 1 / forward, np.nan)
            out = np.stack([x * inverse, y * inverse], -1)
            if not derivatives:
                return out
            jac = np.zeros((len(points), 2, 3))
            jac[:, 0, 0], jac[:, 1, 1] = inverse, -inverse
            jac[:, 0, 2], jac[:, 1, 2] = out[:, 0] * inverse, out[:, 1] * inverse
            return out, jac

    def rays(self, q: Array) -> Array:
        """As `Projection` has it."""
        q = np.asarray(q, float)
        return np.stack([q[:, 0], -q[:, 1], np.where(np.isfinite(q[:, 0]), -1.0, np.nan)], -1)

    def ray_jacobian(self, q: Array) -> Array:
        """As `Projection` has it."""
        return np.broadcast_to([[1.0, 0], [0, -1.0], [0, 0]], (len(q), 3, 2))

    def ray_jacobian_along(self, q: Any, dq: Any) -> Any:
        """As `Projection` has it: a plane's rays have no second derivative."""
        return np.zeros((len(q), 3, 2))
