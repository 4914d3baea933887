"""Brown–Conrady distortion, undistorted → distorted, in the coordinates and with the signs of
OpenCV.

Brown, D. C., "Close-range camera calibration", Photogrammetric Engineering 37 (8), 1971; as in
OpenCV's camera model (x right, y down, normalised by the focal length): x_d = x(1 + k1 r² + k2 r⁴ +
k3 r⁶) + 2 p1 x y + p2 (r² + 2x²), and so on. Coefficients are passed as one array k = (k1, k2, k3,
p1, p2); this order is ours, OpenCV's is (k1, k2, p1, p2, k3).
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import Any

import numpy as np

from aperture.arrays import Array

NAMES = ("k1", "k2", "k3", "p1", "p2")
CLOSE = 1e-7


def opencv_order(k: Any) -> Array:
    """(5,) our coefficients in the order of OpenCV's functions."""
    k1, k2, k3, p1, p2 = k
    return np.array([k1, k2, p1, p2, k3])


def growth_radius(k: Any) -> float:
    """The undistorted radius at which the radial part stops growing; inf where it never does.

    Beyond it the model folds back and has no meaning.
    """
    return _growth_radius(*(float(value) for value in k[:3]))


@lru_cache(maxsize=256)
def _growth_radius(k1: float, k2: float, k3: float) -> float:
    if not (k1 or k2 or k3):
        return np.inf
    if not k3:  # by far the most frequent: 1 + 3 k1 r² + 5 k2 r⁴ = 0, the smallest r² above zero
        root = 9 * k1 * k1 - 20 * k2
        if root < 0:
            return np.inf
        # Citardauq's form of the quadratic's roots: good where k2 is next to nothing.
        below = [-3 * k1 + math.sqrt(root), -3 * k1 - math.sqrt(root)]
        squares = [2 / value for value in below if value > 0]
        return math.sqrt(min(squares)) if squares else np.inf
    # In s = 1/r² the polynomial is monic, so that coefficients next to nothing do no harm.
    roots = np.roots([1.0, 3 * k1, 5 * k2, 7 * k3])
    real = roots.real[(np.abs(roots.imag) < 1e-9 * (1 + np.abs(roots.real))) & (roots.real > 1e-12)]
    return float(1 / np.sqrt(real.max())) if real.size else np.inf


def distort(x: Array, k: Any) -> Array:
    """Distorted positions (N, 2) of undistorted ones (N, 2), both normalised. NaN beyond the growth
    radius."""
    x = np.asarray(x, float)
    out = _distort_anywhere(x, k)
    limit = growth_radius(k)
    if np.isfinite(limit):
        out[np.einsum("ni,ni->n", x, x) >= limit**2] = np.nan
    return out


def jacobian(x: Array, k: Any) -> Array:
    """(N, 2, 2) derivative of `distort` by the undistorted position."""
    k1, k2, k3, p1, p2 = k
    u, v = x[:, 0], x[:, 1]
    r2 = u * u + v * v
    radial = 1 + r2 * (k1 + r2 * (k2 + r2 * k3))
    slope = k1 + r2 * (2 * k2 + r2 * 3 * k3)
    cross = 2 * u * v * slope + 2 * p1 * u + 2 * p2 * v
    out = np.empty((len(x), 2, 2))
    out[:, 0, 0] = radial + 2 * u * u * slope + 2 * p1 * v + 6 * p2 * u
    out[:, 0, 1] = out[:, 1, 0] = cross
    out[:, 1, 1] = radial + 2 * v * v * slope + 6 * p1 * v + 2 * p2 * u
    return out


def jacobian_along(x: Array, k: Any, dx: Array) -> Array:
    """(N, 2, 2) derivative of `jacobian` along the direction dx (N, 2)."""
    k1, k2, k3, p1, p2 = k
    u, v, du, dv = x[:, 0], x[:, 1], dx[:, 0], dx[:, 1]
    r2, dr2 = u * u + v * v, 2 * (u * du + v * dv)
    slope = k1 + r2 * (2 * k2 + r2 * 3 * k3)
    bend = (2 * k2 + 6 * k3 * r2) * dr2
    out = np.empty((len(x), 2, 2))
    out[:, 0, 0] = slope * dr2 + 4 * u * du * slope + 2 * u * u * bend + 2 * p1 * dv + 6 * p2 * du
    out[:, 0, 1] = out[:, 1, 0] = (
        2 * (du * v + u * dv) * slope + 2 * u * v * bend + 2 * p1 * du + 2 * p2 * dv
    )
    out[:, 1, 1] = slope * dr2 + 4 * v * dv * slope + 2 * v * v * bend + 6 * p1 * dv + 2 * p2 * du
    return out


def by_coefficients(x: Array) -> Array:
    """(N, 2, 5) derivative of `distort` by (k1, k2, k3, p1, p2)."""
    u, v = x[:, 0], x[:, 1]
    r2 = u * u + v * v
    out = np.empty((len(x), 2, 5))
    power = np.ones_like(r2)
    for column in range(3):
        power = power * r2
        out[:, :, column] = x * power[:, None]
    out[:, 0, 3], out[:, 1, 3] = 2 * u * v, r2 + 2 * v * v
    out[:, 0, 4], out[:, 1, 4] = r2 + 2 * u * u, 2 * u * v
    return out


def jacobian_by_coefficients(x: Array) -> Array:
    """(N, 2, 2, 5) derivative of `jacobian` by (k1, k2, k3, p1, p2)."""
    u, v = x[:, 0], x[:, 1]
    r2 = u * u + v * v
    out = np.empty((len(x), 2, 2, 5))
    power, slope = (
        np.ones_like(r2),
        np.ones_like(r2),
    )  # r^(2n − 2), and n times that: the slope of r^2n by r²
    for column in range(3):
        slope = (column + 1) * power
        power = power * r2
        out[:, 0, 0, column] = power + 2 * u * u * slope
        out[:, 0, 1, column] = out[:, 1, 0, column] = 2 * u * v * slope
        out[:, 1, 1, column] = power + 2 * v * v * slope
    out[:, 0, 0, 3], out[:, 1, 1, 3] = 2 * v, 6 * v
    out[:, 0, 1, 3] = out[:, 1, 0, 3] = 2 * u
    out[:, 0, 0, 4], out[:, 1, 1, 4] = 6 * u, 2 * u
    out[:, 0, 1, 4] = out[:, 1, 0, 4] = 2 * v
    return out


def undistort(
    xd: Array,
    k: Any,
    tolerance: float = 1e-10,
    iterations: int = 30,
) -> Array:
    """Undistorted positions (N, 2) of distorted ones (N, 2), by Newton's method to `tolerance`; NaN
    where there is none."""
    xd = np.asarray(xd, float)
    k = np.asarray(k, float)
    if not k.any():
        return xd.copy()
    limit = growth_radius(k)
    x = xd.copy()
    if np.isfinite(limit):  # start inside, on the branch that means something
        radius = np.linalg.norm(x, axis=1)
        x *= np.minimum(1.0, 0.7 * limit / np.maximum(radius, 1e-12))[:, None]
        # Farther out than the model reaches there is nothing to find: not to be searched for over
        # and over.
        r2 = limit**2
        reach = abs(limit * (1 + r2 * (k[0] + r2 * (k[1] + r2 * k[2]))))
        x[radius > reach + 3 * (abs(k[3]) + abs(k[4])) * r2] = np.nan
    with np.errstate(all="ignore"):
        u, v = x.T
        for _ in range(iterations):
            du, dv, uu, uv, vv = _with_slope(u, v, k)
            du, dv = du - xd[:, 0], dv - xd[:, 1]
            det = uu * vv - uv * uv
            su, sv = (vv * du - uv * dv) / det, (uu * dv - uv * du) / det
            length = np.hypot(su, sv)
            share = np.minimum(1.0, 0.3 / np.maximum(length, 1e-12))
            u, v = u - share * su, v - share * sv
            if not (length > CLOSE).any():  # Newton's next step would be of the square of this
                bad = ~(length <= CLOSE) | (u * u + v * v >= limit**2)
                break
        else:
            miss = np.linalg.norm(_distort_anywhere(np.stack([u, v], -1), k) - xd, axis=1)
            bad = ~(miss <= tolerance) | (u * u + v * v >= limit**2)
    x = np.stack([u, v], -1)
    x[bad] = np.nan
    return x


def _with_slope(u: Array, v: Array, k: Array) -> tuple[Array, Array, Array, Array, Array]:
    """The distorted (N,), (N,) and the three different entries of `jacobian`, for positions as two
    arrays."""
    k1, k2, k3, p1, p2 = k
    r2 = u * u + v * v
    radial = 1 + r2 * (k1 + r2 * (k2 + r2 * k3))
    slope = 2 * (k1 + r2 * (2 * k2 + r2 * 3 * k3))
    uv, pu, pv = u * v, 2 * p1 * u, 2 * p2 * v
    return (
        u * radial + 2 * p1 * uv + p2 * (r2 + 2 * u * u),
        v * radial + p1 * (r2 + 2 * v * v) + 2 * p2 * uv,
        radial + u * u * slope + 2 * p1 * v + 6 * p2 * u,
        uv * slope + pu + pv,
        radial + v * v * slope + 6 * p1 * v + 2 * p2 * u,
    )


def _distort_anywhere(x: Array, k: Any) -> Array:
    k1, k2, k3, p1, p2 = k
    u, v = x[:, 0], x[:, 1]
    r2 = u * u + v * v
    radial = 1 + r2 * (k1 + r2 * (k2 + r2 * k3))
    return np.stack(
        [
            u * radial + 2 * p1 * u * v + p2 * (r2 + 2 * u * u),
            v * radial + p1 * (r2 + 2 * v * v) + 2 * p2 * u * v,
        ],
        -1,
    )
