"""Brown–Conrady distortion, compiled: what solvers ask for over and over, and of a few dozen points
NumPy takes most of its time to begin. `distortion` says what the functions do.

`aperture.path.imaging` is compiled with `with_slope` in it, and numba looks only at a kernel's own
file for whether it has changed: after a change here, `__pycache__` has to go.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

CLOSE = 1e-7  # Newton's next step would be of the square of this


@njit(cache=True, nogil=True)
def with_slope(u, v, k1, k2, k3, p1, p2):
    """Where one undistorted position lands, x and y, and the derivative by it: by u of x, by v of x
    (which is by u of y as well), by v of y."""
    r2 = u * u + v * v
    radial = 1 + r2 * (k1 + r2 * (k2 + r2 * k3))
    growth = k1 + r2 * (2 * k2 + r2 * 3 * k3)
    return (
        u * radial + 2 * p1 * u * v + p2 * (r2 + 2 * u * u),
        v * radial + p1 * (r2 + 2 * v * v) + 2 * p2 * u * v,
        radial + 2 * u * u * growth + 2 * p1 * v + 6 * p2 * u,
        2 * u * v * growth + 2 * p1 * u + 2 * p2 * v,
        radial + 2 * v * v * growth + 6 * p1 * v + 2 * p2 * u,
    )


@njit(cache=True, nogil=True)
def distort(x, k, limit2):
    """As `distortion.distort`; limit2: the growth radius, squared."""
    out = np.empty((len(x), 2))
    for n in range(len(x)):
        u, v = x[n, 0], x[n, 1]
        if u * u + v * v >= limit2:
            out[n, 0] = out[n, 1] = np.nan
        else:
            out[n, 0], out[n, 1], _, _, _ = with_slope(u, v, k[0], k[1], k[2], k[3], k[4])
    return out


@njit(cache=True, nogil=True)
def jacobian(x, k):
    """As `distortion.jacobian`."""
    out = np.empty((len(x), 2, 2))
    for n in range(len(x)):
        _, _, uu, uv, vv = with_slope(x[n, 0], x[n, 1], k[0], k[1], k[2], k[3], k[4])
        out[n, 0, 0], out[n, 0, 1], out[n, 1, 0], out[n, 1, 1] = uu, uv, uv, vv
    return out


@njit(cache=True, nogil=True)
def undistort(xd, k, limit, tolerance, iterations):
    """As `distortion.undistort`; limit: the growth radius."""
    k1, k2, k3, p1, p2 = k[0], k[1], k[2], k[3], k[4]
    out = np.full((len(xd), 2), np.nan)
    reach = np.inf
    if limit < np.inf:
        r2 = limit * limit
        reach = abs(limit * (1 + r2 * (k1 + r2 * (k2 + r2 * k3)))) + 3 * (abs(p1) + abs(p2)) * r2
    for n in range(len(xd)):
        there_u, there_v = xd[n, 0], xd[n, 1]
        radius = math.hypot(there_u, there_v)
        # Farther out than the model reaches there is nothing to find: not to be searched for.
        if not radius <= reach:
            continue
        # Begun inside, on the branch that means something.
        start = min(1.0, 0.7 * limit / max(radius, 1e-12))
        u, v = there_u * start, there_v * start
        length = np.inf
        for _ in range(iterations):
            x, y, uu, uv, vv = with_slope(u, v, k1, k2, k3, p1, p2)
            du, dv, det = x - there_u, y - there_v, uu * vv - uv * uv
            if det == 0:
                length = np.inf
                break
            su, sv = (vv * du - uv * dv) / det, (uu * dv - uv * du) / det
            length = math.hypot(su, sv)
            share = min(1.0, 0.3 / max(length, 1e-12))
            u, v = u - share * su, v - share * sv
            if not length > CLOSE:
                break
        found = length <= CLOSE
        if not found:  # it creeps, or goes to and fro
            x, y, _, _, _ = with_slope(u, v, k1, k2, k3, p1, p2)
            found = math.hypot(x - there_u, y - there_v) <= tolerance
        if found and u * u + v * v < limit * limit:
            out[n, 0], out[n, 1] = u, v
    return out


@njit(cache=True, nogil=True)
def straightening(xd, x, k, by_parameter):
    """As `distortion.straightening`, of positions that are undistorted already."""
    count, many = len(x), len(by_parameter)
    inverse = np.empty((count, 2, 2))
    moves, inverse_by = np.zeros((many, count, 2)), np.empty((many, count, 2, 2))
    for n in range(count):
        u, v = x[n, 0], x[n, 1]
        r2 = u * u + v * v
        _, _, uu, uv, vv = with_slope(u, v, k[0], k[1], k[2], k[3], k[4])
        det = uu * vv - uv * uv
        over = 1 / det if det != 0 else np.nan
        a, b, d = vv * over, -uv * over, uu * over  # the inverse is symmetric too
        inverse[n, 0, 0], inverse[n, 0, 1], inverse[n, 1, 0], inverse[n, 1, 1] = a, b, b, d
        growth = k[0] + r2 * (2 * k[1] + r2 * 3 * k[2])
        for f in range(many):
            what = by_parameter[f]
            # The slope by a coefficient itself, x held.
            suu, suv, svv = 0.0, 0.0, 0.0
            if what == 0:
                moves[f, n, 0], moves[f, n, 1] = -xd[n, 0], -xd[n, 1]
            elif what < 3:
                moves[f, n, what - 1] = -1.0
            elif what < 6:
                power = r2 ** (what - 3)  # r^(2n − 2)
                slope = (what - 2) * power  # of r^2n by r²
                moves[f, n, 0], moves[f, n, 1] = -u * r2 * power, -v * r2 * power
                suu, svv = r2 * power + 2 * u * u * slope, r2 * power + 2 * v * v * slope
                suv = 2 * u * v * slope
            elif what == 6:
                moves[f, n, 0], moves[f, n, 1] = -2 * u * v, -(r2 + 2 * v * v)
                suu, suv, svv = 2 * v, 2 * u, 6 * v
            else:
                moves[f, n, 0], moves[f, n, 1] = -(r2 + 2 * u * u), -2 * u * v
                suu, suv, svv = 6 * u, 2 * v, 2 * u
            # And as x moves.
            du = a * moves[f, n, 0] + b * moves[f, n, 1]
            dv = b * moves[f, n, 0] + d * moves[f, n, 1]
            dr2 = 2 * (u * du + v * dv)
            bend = (2 * k[1] + 6 * k[2] * r2) * dr2
            lean = 2 * k[3] * dv + 2 * k[4] * du
            suu += growth * (dr2 + 4 * u * du) + 2 * u * u * bend + lean + 4 * k[4] * du
            svv += growth * (dr2 + 4 * v * dv) + 2 * v * v * bend + lean + 4 * k[3] * dv
            suv += 2 * (du * v + u * dv) * growth + 2 * u * v * bend
            suv += 2 * k[3] * du + 2 * k[4] * dv
            # −D⁻¹ dD D⁻¹
            c00, c01 = suu * a + suv * b, suu * b + suv * d
            c10, c11 = suv * a + svv * b, suv * b + svv * d
            inverse_by[f, n, 0, 0] = -(a * c00 + b * c10)
            inverse_by[f, n, 0, 1] = -(a * c01 + b * c11)
            inverse_by[f, n, 1, 0] = -(b * c00 + d * c10)
            inverse_by[f, n, 1, 1] = -(b * c01 + d * c11)
    return inverse, moves, inverse_by
