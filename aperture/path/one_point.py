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
def _away(point, rotation, origin, at, focal_px, q):
    """(2,) px, into the first two of q (3,): from where one camera would see the point to where the
    track was."""
    q[:] = 0.0
    for i in range(3):
        for j in range(3):
            q[j] += rotation[i, j] * (point[i] - origin[i])
    if q[2] < 0:
        forward = max(-q[2], 1e-9)
        q[0] = min(max(at[0] - q[0] / forward, -1.0), 1.0) * focal_px
        q[1] = min(max(at[1] + q[1] / forward, -1.0), 1.0) * focal_px
    else:  # a point beside or behind the camera is as far off as anything can be
        q[0] = q[1] = focal_px


@njit(cache=True)
def off(point, rotation, origin, x, focal_px):
    """(n, 2) px: from where the point (3,) would be seen to where the track was.

    rotation (n, 3, 3) world from camera; x (n, 2) the picture in focal lengths, each focal_px (n,).
    """
    out = np.empty((len(x), 2))
    q = np.empty(3)
    for n in range(len(x)):
        _away(point, rotation[n], origin[n], x[n], focal_px[n], q)
        out[n] = q[:2]
    return out


@njit(cache=True)
def rms_of_each(points, tracks, rotation, origin, x, focal_px):
    """(P,) px: of each of the points (P, 3) the rms residual on all frames on which its track, a
    column of x (F, T, 2), is seen, 0 where it is on none; and (P,) on how many it is."""
    rms, seen = np.zeros(len(points)), np.zeros(len(points), np.int64)
    q = np.empty(3)
    for n in range(len(points)):
        squares = 0.0
        for frame in range(len(x)):
            at = x[frame, tracks[n]]
            if np.isfinite(at[0]):
                _away(points[n], rotation[frame], origin[frame], at, focal_px[frame], q)
                squares += q[0] ** 2 + q[1] ** 2
                seen[n] += 1
        if seen[n]:
            rms[n] = np.sqrt(squares / (2 * seen[n]))
    return rms, seen


@njit(cache=True)
def misfit(rays, rotation, origin, x, focal_px):
    """The rms residual in px of the point nearest to all rays."""
    left = off(nearest(rays, origin), rotation, origin, x, focal_px)
    return np.sqrt(np.mean(left**2))


@njit(cache=True)
def parts(rays, rotation, origin, x, focal_px, fewest):
    """(n,) the rms residual in px if the sightings before each one are of one point and the rest of
    another; infinite where either would have fewer than `fewest`."""
    count = len(rays)
    out = np.full(count, np.inf)
    for n in range(fewest, count - fewest + 1):
        first = misfit(rays[:n], rotation[:n], origin[:n], x[:n], focal_px[:n])
        second = misfit(rays[n:], rotation[n:], origin[n:], x[n:], focal_px[n:])
        out[n] = np.sqrt((n * first**2 + (count - n) * second**2) / count)
    return out
