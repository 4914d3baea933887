"""Projections of fisheye lenses: the distance from the middle follows from the angle θ alone.

Equidistant r = θ; equisolid r = 2 sin(θ/2); stereographic r = 2 tan(θ/2); orthographic r = sin θ
(Ray, "Applied Photographic Optics", 3rd ed. 2002, and Kannala & Brandt 2006, eq. 1–5; cited from
memory).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.arrays import Array


@dataclass(frozen=True)
class Radial:
    """A `Projection`; each kind says how the radius follows from the angle, and the ray from the
    radius."""

    name: str = ""
    matched: bool = True
    straight: bool = False
    parameters: tuple[str, ...] = ()
    limit: float = math.pi
    wraps: bool = False
    around: bool = False

    def _radius(self, theta: Array) -> tuple[Array, Array]:
        """r(θ) and its derivative."""
        raise NotImplementedError

    def _ray_terms(self, rho: Array) -> tuple[Array, ...]:
        """S, C and their first two derivatives by ρ = r², where the ray is (x·S, −y·S, −C) with S =
        sin θ / r and C = cos θ."""
        raise NotImplementedError

    def project(self, points: Array, derivatives: bool = False) -> Any:
        """As `Projection` has it."""
        points = np.asarray(points, float)
        x, y, forward = points[:, 0], -points[:, 1], -points[:, 2]
        with np.errstate(all="ignore"):
            side = np.hypot(x, y)
            theta = np.arctan2(side, forward)
            radius, slope = self._radius(theta)
            ratio = np.where(side > 1e-9 * np.abs(forward), radius / side, 1 / forward)
            ratio = np.where((theta > 1e-9) | (forward > 0), ratio, np.nan)
            out = np.stack([x * ratio, y * ratio], -1)
            if not derivatives:
                return out
            distance2 = side**2 + forward**2
            # d(ratio)/d(side) and d(ratio)/d(forward), through θ
            near_axis = side <= 1e-9 * np.abs(forward)
            by_side = np.where(
                near_axis, 0, (slope * forward / distance2 - ratio) / np.where(side > 0, side, 1)
            )
            by_forward = np.where(near_axis, -1 / forward**2, -slope / distance2)
            ux, uy = (
                np.where(side > 0, x / np.where(side > 0, side, 1), 0),
                np.where(side > 0, y / np.where(side > 0, side, 1), 0),
            )
            jac = np.empty((len(points), 2, 3))
            jac[:, 0, 0], jac[:, 0, 1], jac[:, 0, 2] = (
                ratio + x * by_side * ux,
                -x * by_side * uy,
                -x * by_forward,
            )
            jac[:, 1, 0], jac[:, 1, 1], jac[:, 1, 2] = (
                y * by_side * ux,
                -(ratio + y * by_side * uy),
                -y * by_forward,
            )
            return out, jac

    def rays(self, q: Array) -> Array:
        """As `Projection` has it."""
        q = np.asarray(q, float)
        s, _, _, c, _, _ = self._ray_terms(np.einsum("ni,ni->n", q, q))
        return np.stack([q[:, 0] * s, -q[:, 1] * s, -c], -1)

    def ray_jacobian(self, q: Array) -> Array:
        """As `Projection` has it."""
        s, s1, _, _, c1, _ = self._ray_terms(np.einsum("ni,ni->n", q, q))
        out = np.empty((len(q), 3, 2))
        for j in range(2):
            out[:, 0, j] = 2 * q[:, 0] * q[:, j] * s1 + (s if j == 0 else 0)
            out[:, 1, j] = -2 * q[:, 1] * q[:, j] * s1 - (s if j == 1 else 0)
            out[:, 2, j] = -2 * q[:, j] * c1
        return out

    def ray_jacobian_along(self, q: Array, dq: Array) -> Array:
        """As `Projection` has it."""
        _, s1, s2, _, c1, c2 = self._ray_terms(np.einsum("ni,ni->n", q, q))
        drho = 2 * np.einsum("ni,ni->n", q, dq)
        out = np.empty((len(q), 3, 2))
        for j in range(2):
            for i, sign in ((0, 1), (1, -1)):
                out[:, i, j] = sign * (
                    2 * (dq[:, i] * q[:, j] + q[:, i] * dq[:, j]) * s1
                    + 2 * q[:, i] * q[:, j] * s2 * drho
                    + (s1 * drho if i == j else 0)
                )
            out[:, 2, j] = -2 * (dq[:, j] * c1 + q[:, j] * c2 * drho)
        return out


class Equidistant(Radial):
    """r = θ."""

    def _radius(self, theta: Array) -> tuple[Array, Array]:
        return theta, np.ones_like(theta)

    def _ray_terms(self, rho: Array) -> tuple[Array, ...]:
        r = np.sqrt(np.where(rho <= np.pi**2, rho, np.nan))
        small = r < 1e-2
        safe = np.where(small, 1.0, r)
        sine, cosine = np.sin(safe), np.cos(safe)
        s = np.where(small, 1 - rho / 6 + rho**2 / 120, sine / safe)
        s1 = np.where(small, -1 / 6 + rho / 60, (safe * cosine - sine) / (2 * safe**3))
        s2 = np.where(
            small,
            1 / 60 - rho / 840,
            (3 * sine - 3 * safe * cosine - safe**2 * sine) / (4 * safe**5),
        )
        return s, s1, s2, np.cos(r), -s / 2, -s1 / 2


class Equisolid(Radial):
    """r = 2 sin(θ/2): equal solid angles have equal areas."""

    def _radius(self, theta: Array) -> tuple[Array, Array]:
        return 2 * np.sin(theta / 2), np.cos(theta / 2)

    def _ray_terms(self, rho: Array) -> tuple[Array, ...]:
        with np.errstate(invalid="ignore"):
            s = np.sqrt(np.where(rho <= 4, 1 - rho / 4, np.nan))
            one, zero = np.ones_like(rho), np.zeros_like(rho)
            return s, -1 / (8 * s), -1 / (64 * s**3), 1 - rho / 2, -0.5 * one, zero


class Stereographic(Radial):
    """r = 2 tan(θ/2): small shapes keep their form."""

    def _radius(self, theta: Array) -> tuple[Array, Array]:
        return 2 * np.tan(theta / 2), 1 / np.cos(theta / 2) ** 2

    def _ray_terms(self, rho: Array) -> tuple[Array, ...]:
        d = 1 + rho / 4
        return 1 / d, -0.25 / d**2, 0.125 / d**3, (1 - rho / 4) / d, -0.5 / d**2, 0.25 / d**3


class Orthographic(Radial):
    """r = sin θ; no answer beyond 90°, and no lens in use that needs it."""

    def _radius(self, theta: Array) -> tuple[Array, Array]:
        inside = theta <= np.pi / 2
        return np.where(inside, np.sin(theta), np.nan), np.cos(theta)

    def _ray_terms(self, rho: Array) -> tuple[Array, ...]:
        one, zero = np.ones_like(rho), np.zeros_like(rho)
        with np.errstate(invalid="ignore"):
            c = np.sqrt(np.where(rho <= 1, 1 - rho, np.nan))
            return one, zero, zero, c, -0.5 / c, -0.25 / c**3
