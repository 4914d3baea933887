"""What the sightings of each point have to do with something, compiled: sums over all of them, by
their derivatives.

points in their order of elimination, of each point p the sightings starts[p] to starts[p + 1]:
camera (N,), and over their σ the derivatives by_camera (N, 2, size), by_lens (N, 2, LENS_SIZE) and
by_point (N, 2, 3).
"""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def add_traces(first, last, starts, camera, by_camera, by_lens, by_point, joint, total):
    """Add to `total` (P,), for the points [first, last), the traces of J C Jᵀ: J by a sighting's
    camera and the lens, and C what `joint` (F, size + LENS_SIZE, size + LENS_SIZE) has for that
    camera."""
    size = by_camera.shape[2]
    row = np.empty(size + by_lens.shape[2])
    for p in range(first, last):
        for o in range(starts[p], starts[p + 1]):
            covariance = joint[camera[o]]
            for axis in range(2):
                row[:size] = by_camera[o, axis]
                row[size:] = by_lens[o, axis]
                for i in range(len(row)):
                    if covariance[i, i] == 0.0:
                        continue  # what is held
                    below = 0.0
                    for j in range(i):
                        below += covariance[i, j] * row[j]
                    total[p] += row[i] * (2 * below + covariance[i, i] * row[i])


@njit(cache=True, nogil=True)
def add_squares(
    first,
    last,
    starts,
    camera,
    by_camera,
    by_lens,
    by_point,
    x_camera,
    x_lens,
    x_point,
    total,
):
    """Add to `total` (P,), for the points [first, last), the squares of what steps move in their
    sightings: x_camera (F, size), x_lens (LENS_SIZE,) and x_point (P, 3)."""
    for p in range(first, last):
        for o in range(starts[p], starts[p + 1]):
            for axis in range(2):
                moved = 0.0
                for i in range(by_camera.shape[2]):
                    moved += by_camera[o, axis, i] * x_camera[camera[o], i]
                for i in range(len(x_lens)):
                    moved += by_lens[o, axis, i] * x_lens[i]
                for i in range(3):
                    moved += by_point[o, axis, i] * x_point[p, i]
                total[p] += moved * moved
