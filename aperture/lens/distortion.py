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
from aperture.lens import compiled

NAMES = ("k1", "k2", "k3", "p1", "p2")


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
    k = np.asarray(k, float)
    return np.asarray(compiled.distort(np.ascontiguousarray(x, float), k, growth_radius(k) ** 2))


def jacobian(x: Array, k: Any) -> Array:
    """(N, 2, 2) derivative of `distort` by the undistorted position."""
    return np.asarray(compiled.jacobian(np.ascontiguousarray(x, float), np.asarray(k, float)))


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


def undistort(
    xd: Array,
    k: Any,
    tolerance: float = 1e-10,
    iterations: int = 30,
) -> Array:
    """Undistorted positions (N, 2) of distorted ones (N, 2), by Newton's method to `tolerance`; NaN
    where there is none."""
    xd = np.ascontiguousarray(xd, float)
    k = np.asarray(k, float)
    if not k.any():
        return xd.copy()
    return np.asarray(compiled.undistort(xd, k, growth_radius(k), tolerance, iterations))


def straightening(xd: Array, k: Any, by_parameter: Array) -> tuple[Array, Array, Array, Array]:
    """Undistorting with its derivatives, by the inverse function theorem.

    Parameters
    ----------
    xd : ndarray, shape (N, 2)
        Distorted positions, normalised.
    k : array_like, shape (5,)
    by_parameter : ndarray of int, shape (F,)
        What some parameters of a lens are, the place on its sensor held: 0 for the focal length's
        logarithm, 1 and 2 for the principal point (here in focal lengths), 3 to 7 for k.

    Returns
    -------
    x : ndarray, shape (N, 2)
        Undistorted, NaN where there is none.
    inverse : ndarray, shape (N, 2, 2)
        Derivative of x by xd.
    moves : ndarray, shape (F, N, 2)
        How far xd has to go along with each parameter, so that x is its own: inverse @ moves is the
        derivative of x.
    inverse_by : ndarray, shape (F, N, 2, 2)
        Derivative of `inverse` by each parameter.
    """
    k = np.asarray(k, float)
    x = undistort(xd, k)
    return x, *compiled.straightening(np.ascontiguousarray(xd, float), x, k, by_parameter)
