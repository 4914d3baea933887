"""The equations of the drawn points of edges and bows, compiled.

A point's residual is the distance, in the picture and in σ, of where it was drawn from where the
plane of its line is imaged, e / |∇e| with e = n · ray, to first order (Sampson 1982, "Fitting conic
sections to very scattered data"; cited from memory). `System` says what the unknowns are.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

MOST_SIGMAS = 1e4  # what one point may add to the cost of a guess


@njit(cache=True, nogil=True)
def fill(rays, by_mm, by_lens, by_mm_by_lens, drawn, lines, linear, columns, r, jac):
    """Fill the residuals (N,) and their derivatives (N, size) of N drawn points.

    rays, by_mm, by_lens, by_mm_by_lens : as `Lens.ray_derivatives` has them, of the points.
    drawn : of each point the line's number (N,), and its σ, px (N,).
    lines : edges come first. Normals of all lines' planes (L, 3); how those of the edges turn with
    their angle (E, 3); the two sides that those of the bows lean to (L − E, 2, 3). In camera space.
    linear : (2, 2) mm per px.
    columns : the first of the rotation, the lens, the edges' angles, the bows.
    """
    of, sigma = drawn
    normals, turned, sides = lines
    at_rotation, at_lens, at_angles, at_bows = columns
    edges, free = len(turned), by_lens.shape[2]
    by_normal = np.empty(3)
    for m in range(len(of)):
        line = of[m]
        n = normals[line]
        e, across, down = 0.0, 0.0, 0.0  # n · ray, and its gradient by mm
        for i in range(3):
            e += n[i] * rays[m, i]
            across += n[i] * by_mm[m, i, 0]
            down += n[i] * by_mm[m, i, 1]
        gx = across * linear[0, 0] + down * linear[1, 0]  # by px
        gy = across * linear[0, 1] + down * linear[1, 1]
        steep2 = gx * gx + gy * gy
        if steep2 == 0.0:  # no picture of the plane, to be told from a point that lies on it
            r[m] = np.nan
            continue
        weight = 1 / (np.sqrt(steep2) * sigma[m])
        r[m] = e * weight
        # The gradient, in px along itself, as a direction in mm.
        to_x = gx * linear[0, 0] + gy * linear[0, 1]
        to_y = gx * linear[1, 0] + gy * linear[1, 1]
        share = e / steep2
        for i in range(3):
            steeper = by_mm[m, i, 0] * to_x + by_mm[m, i, 1] * to_y
            by_normal[i] = (rays[m, i] - share * steeper) * weight
        for f in range(free):
            slope = 0.0
            for i in range(3):
                steeper = by_mm_by_lens[m, i, 0, f] * to_x + by_mm_by_lens[m, i, 1, f] * to_y
                slope += n[i] * (by_lens[m, i, f] - share * steeper)
            jac[m, at_lens + f] = slope * weight
        if line < edges:
            jac[m, at_rotation] = by_normal[1] * n[2] - by_normal[2] * n[1]
            jac[m, at_rotation + 1] = by_normal[2] * n[0] - by_normal[0] * n[2]
            jac[m, at_rotation + 2] = by_normal[0] * n[1] - by_normal[1] * n[0]
            jac[m, at_angles + line] = (
                by_normal[0] * turned[line, 0]
                + by_normal[1] * turned[line, 1]
                + by_normal[2] * turned[line, 2]
            )
        else:
            for side in range(2):
                own = sides[line - edges, side]
                jac[m, at_bows + 2 * (line - edges) + side] = (
                    by_normal[0] * own[0] + by_normal[1] * own[1] + by_normal[2] * own[2]
                )


@njit(cache=True, nogil=True)
def edge_cost(rays, by_mm, drawn, axes, rotation, linear):
    """The sum of squared residuals of the points of edges, for a rotation, each edge's plane as it
    fits best.

    rays, by_mm : (N, 3) and (N, 3, 2), of the points in order. drawn, linear : as in `fill`.
    axes : (E,) the world axis that each edge runs along. rotation : (3, 3) world from camera.
    """
    of, sigma = drawn
    even, twice = np.zeros(len(axes)), np.zeros(len(axes))
    for m in range(len(of)):
        axis = axes[of[m]]
        b, c = rotation[(axis + 1) % 3], rotation[(axis + 2) % 3]
        long2, along_b, along_c = 0.0, 0.0, 0.0
        for i in range(3):
            long2 += rays[m, i] * rays[m, i]
            along_b += b[i] * rays[m, i]
            along_c += c[i] * rays[m, i]
        even[of[m]] += (along_b * along_b - along_c * along_c) / long2
        twice[of[m]] += 2 * along_b * along_c / long2
    total = 0.0
    for m in range(len(of)):
        line = of[m]
        axis = axes[line]
        angle = 0.5 * math.atan2(twice[line], even[line]) + 0.5 * math.pi
        cos, sin = math.cos(angle), math.sin(angle)
        e, across, down = 0.0, 0.0, 0.0
        for i in range(3):
            n = cos * rotation[(axis + 1) % 3, i] + sin * rotation[(axis + 2) % 3, i]
            e += n * rays[m, i]
            across += n * by_mm[m, i, 0]
            down += n * by_mm[m, i, 1]
        gx = across * linear[0, 0] + down * linear[1, 0]
        gy = across * linear[0, 1] + down * linear[1, 1]
        steep = math.hypot(gx, gy) * sigma[m]
        miss = abs(e) / steep if steep > 0 else MOST_SIGMAS
        total += min(miss, MOST_SIGMAS) ** 2
    return total
