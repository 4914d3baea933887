"""The one point that fits all sightings of a track best, compiled: it is looked for in thousands of
parts of tracks."""

from __future__ import annotations

import numpy as np
from numba import njit

# Below this share of the cube of its trace a determinant counts as none: the rays are parallel.
SINGULAR = 1e-13


@njit(cache=True)
def _solved(a, b):
    """The solution (3,) of a symmetric system (3, 3), by cofactors; the shortest one where it is
    singular."""
    c00 = a[1, 1] * a[2, 2] - a[1, 2] * a[1, 2]
    c01 = a[0, 2] * a[1, 2] - a[0, 1] * a[2, 2]
    c02 = a[0, 1] * a[1, 2] - a[0, 2] * a[1, 1]
    determinant = a[0, 0] * c00 + a[0, 1] * c01 + a[0, 2] * c02
    if abs(determinant) < SINGULAR * (a[0, 0] + a[1, 1] + a[2, 2]) ** 3:
        return np.linalg.lstsq(a, b, 1e-15)[0]
    c11 = a[0, 0] * a[2, 2] - a[0, 2] * a[0, 2]
    c12 = a[0, 1] * a[0, 2] - a[0, 0] * a[1, 2]
    c22 = a[0, 0] * a[1, 1] - a[0, 1] * a[0, 1]
    out = np.empty(3)
    out[0] = (c00 * b[0] + c01 * b[1] + c02 * b[2]) / determinant
    out[1] = (c01 * b[0] + c11 * b[1] + c12 * b[2]) / determinant
    out[2] = (c02 * b[0] + c12 * b[1] + c22 * b[2]) / determinant
    return out


@njit(cache=True)
def nearest(rays, origin):
    """(3,) the point nearest to all rays (n, 3), weighted by distance, so that it is the picture
    that counts."""
    weight = np.ones(len(rays))
    point = np.zeros(3)
    for _ in range(4):
        normal, right = np.zeros((3, 3)), np.zeros(3)
        for n in range(len(rays)):
            for i in range(3):
                for j in range(3):
                    across = weight[n] * ((1.0 if i == j else 0.0) - rays[n, i] * rays[n, j])
                    normal[i, j] += across
                    right[i] += across * origin[n, j]
        point = _solved(normal, right)
        for n in range(len(rays)):
            squared = 0.0
            for i in range(3):
                squared += (point[i] - origin[n, i]) ** 2
            weight[n] = 1 / max(squared, 1e-18)
    return point


@njit(cache=True)
def off(point, rotation, origin, x, focal_px):
    """(n, 2) px: from where the point (3,) would be seen to where the track was.

    rotation (n, 3, 3) world from camera; x (n, 2) the picture in focal lengths, each focal_px (n,).
    """
    out = np.empty((len(x), 2))
    q = np.empty(3)
    for n in range(len(x)):
        q[:] = 0.0
        for i in range(3):
            for j in range(3):
                q[j] += rotation[n, i, j] * (point[i] - origin[n, i])
        for axis in range(2):
            # A point beside or behind the camera is as far off as anything can be.
            away = 1.0
            if q[2] < 0:
                at = (q[0] if axis == 0 else -q[1]) / max(-q[2], 1e-9)
                away = min(max(x[n, axis] - at, -1.0), 1.0)
            out[n, axis] = away * focal_px[n]
    return out


@njit(cache=True)
def misfit(rays, rotation, origin, x, focal_px):
    """The rms residual in px of the point nearest to all rays."""
    left = off(nearest(rays, origin), rotation, origin, x, focal_px)
    return np.sqrt(np.mean(left**2))
