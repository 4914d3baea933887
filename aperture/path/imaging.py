"""Residuals of tracked points and their derivatives, compiled.

What `aperture.camera.Camera.project` computes for one camera and many points is computed here for
many cameras, with derivatives by the pose, the point and the lens's PARAMETERS, and summed into the
blocks of the normal equations at once (`linearise`). The tests hold it against `Camera`, whose
formulas these are: docs/conventions.md.

A pose is `world_from_camera`, R and C. A step turns R to R exp(ω) and moves C to C + d, so that the
derivatives of a camera are by (ω, d), and by its own ln focal length where that changes over time.

The kernels work on the points [first, last) and release Python's lock: threads share the points,
each with sums of its own.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numba import njit

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.compiled import with_slope
from aperture.lens.distortion import growth_radius
from aperture.lens.lens import PARAMETERS, Lens

LENS_SIZE = len(PARAMETERS)
# Of an observation, in one row: derivatives by ω, d and ln focal of its camera, by the lens, and
# the residual.
OF_LENS, RESIDUAL = 7, 7 + LENS_SIZE
ROW = RESIDUAL + 1
# Added to the sum of squares by an observation that the camera can't have made: behind it, or where
# the distortion has folded over. Large, so that no step is taken that leads there.
IMPOSSIBLE = 1e12
_KINDS = (
    "rectilinear",
    "equidistant",
    "equisolid",
    "stereographic",
    "orthographic",
    "equirectangular",
    "cylindrical",
)
AROUND = 5  # from this kind on a picture goes on at its other side


@dataclass(frozen=True)
class Optics:
    """What of grid and lens doesn't change in a solution.

    Parameters
    ----------
    grid : Grid
        Of the plate as it was tracked.
    lens : Lens
        Projection and squeeze; its other values are where the solution begins.
    """

    grid: Grid
    lens: Lens

    @property
    def packed(self) -> Array:
        """(8,) for the kernels: kind of projection, squeeze, and the affine map from mm to px."""
        linear = self.grid.px_linear
        origin = self.grid.to_px([[0.0, 0.0]])[0]
        name = self.lens.projection.name
        if name not in _KINDS:
            raise Problem(
                f"The path of a film that is laid out as a {name} can’t be solved: match its frames"
                " one by one, as photographs, or bring it equirectangular."
            )
        kind = _KINDS.index(name)
        return np.array([kind, self.lens.squeeze, *linear.ravel(), *origin], float)


def limit2(lens: Array) -> float:
    """The squared radius at which the distortion of lens PARAMETERS (8,) stops growing."""
    return min(growth_radius(lens[3:]) ** 2, 1e12)


@njit(cache=True, nogil=True, inline="always")
def _radius(kind, theta):
    """Radius in focal lengths of a curved projection at the angle θ, and its derivative."""
    if kind == 1:
        return theta, 1.0
    if kind == 2:
        return 2.0 * math.sin(theta / 2), math.cos(theta / 2)
    if kind == 3:
        return 2.0 * math.tan(theta / 2), 1.0 / math.cos(theta / 2) ** 2
    return math.sin(theta), math.cos(theta)


@njit(cache=True, nogil=True)
def _onto_picture(kind, p0, p1, p2, q, by_point):
    """Put the normalised position of a camera-space point into `q` (2,) and its derivative into (2,
    3).

    Returns whether the point has an image.
    """
    z = -p2
    if kind == 0:
        if z < 1e-9:
            return False
        over = 1.0 / z
        q[0], q[1] = p0 * over, -p1 * over
        by_point[0, 0], by_point[0, 1], by_point[0, 2] = over, 0.0, q[0] * over
        by_point[1, 0], by_point[1, 1], by_point[1, 2] = 0.0, -over, q[1] * over
        return True
    if kind >= AROUND:
        level = math.hypot(p0, z)
        if level < 1e-12:
            return False
        q[0] = math.atan2(p0, z)
        by_point[0, 0], by_point[0, 1], by_point[0, 2] = z / level**2, 0.0, p0 / level**2
        if kind == AROUND:
            far = level * level + p1 * p1
            q[1], by_up, by_level = -math.atan2(p1, level), -level / far, p1 / far
        else:
            q[1], by_up, by_level = -p1 / level, -1.0 / level, p1 / level**2
        by_point[1, 0] = by_level * p0 / level
        by_point[1, 1] = by_up
        by_point[1, 2] = by_level * p2 / level
        return True
    side = math.hypot(p0, p1)
    squared = side * side + z * z
    if side < 1e-9 * abs(z):
        if z <= 0:
            return False
        ratio, by_side, by_forward = 1.0 / z, 0.0, -1.0 / (z * z)
        ux, uy = 0.0, 0.0
    else:
        theta = math.atan2(side, z)
        if kind == 4 and theta > 0.5 * math.pi:
            return False
        radius, slope = _radius(kind, theta)
        ratio = radius / side
        by_side = (slope * z / squared - ratio) / side
        by_forward = -slope / squared
        ux, uy = p0 / side, -p1 / side
    x, y = p0, -p1
    q[0], q[1] = x * ratio, y * ratio
    by_point[0, 0] = ratio + x * by_side * ux
    by_point[0, 1] = -x * by_side * uy
    by_point[0, 2] = -x * by_forward
    by_point[1, 0] = y * by_side * ux
    by_point[1, 1] = -(ratio + y * by_side * uy)
    by_point[1, 2] = -y * by_forward
    return True


@njit(cache=True, nogil=True, inline="always")
def _near(kind, off, own_zoom, lens, optics):
    """A difference across, px, of a picture that goes on at its other side by the nearer way."""
    if kind < AROUND:
        return off
    turn = 2 * math.pi * math.exp(lens[0] + own_zoom) / optics[1] * abs(optics[2])
    if turn < 1.0:  # the plate lies on its side: there it doesn't go on across
        return off
    return off - turn * math.floor(off / turn + 0.5)


@njit(cache=True, nogil=True, inline="always")
def _in_camera(rotations, positions, camera, points, point):
    """A point in the space of a camera."""
    d0 = points[point, 0] - positions[camera, 0]
    d1 = points[point, 1] - positions[camera, 1]
    d2 = points[point, 2] - positions[camera, 2]
    p0 = rotations[camera, 0, 0] * d0 + rotations[camera, 1, 0] * d1 + rotations[camera, 2, 0] * d2
    p1 = rotations[camera, 0, 1] * d0 + rotations[camera, 1, 1] * d1 + rotations[camera, 2, 1] * d2
    p2 = rotations[camera, 0, 2] * d0 + rotations[camera, 1, 2] * d1 + rotations[camera, 2, 2] * d2
    return p0, p1, p2


@njit(cache=True, nogil=True)
def residuals(
    first,
    last,
    starts,
    cameras,
    xy,
    weights,
    rotations,
    positions,
    zoom,
    lens,
    optics,
    limit2,
    points,
    out,
):
    """Fill the weighted residuals (N, 2) of the points [first, last); returns their sum of squares.
    weights (N, 3) as `whitening`."""
    kind = int(optics[0])
    q, by_point = np.empty(2), np.empty((2, 3))
    total = 0.0
    for point in range(first, last):
        for o in range(starts[point], starts[point + 1]):
            camera = cameras[o]
            p0, p1, p2 = _in_camera(rotations, positions, camera, points, point)
            seen = _onto_picture(kind, p0, p1, p2, q, by_point)
            if not seen or q[0] * q[0] + q[1] * q[1] >= limit2:
                out[o, 0] = out[o, 1] = np.nan
                total += IMPOSSIBLE
                continue
            bent_x, bent_y, _, _, _ = with_slope(
                q[0], q[1], lens[3], lens[4], lens[5], lens[6], lens[7]
            )
            focal = math.exp(lens[0] + zoom[camera])
            mm0 = bent_x * focal / optics[1] + lens[1]
            mm1 = bent_y * focal + lens[2]
            across = optics[2] * mm0 + optics[3] * mm1 + optics[6] - xy[o, 0]
            across = _near(kind, across, zoom[camera], lens, optics)
            down = optics[4] * mm0 + optics[5] * mm1 + optics[7] - xy[o, 1]
            out[o, 0] = across * weights[o, 0]
            out[o, 1] = down * weights[o, 1] + across * weights[o, 2]
            total += out[o, 0] ** 2 + out[o, 1] ** 2
    return total


@njit(cache=True, nogil=True, inline="always")
def _row(rotations, camera, point, onto, by_0, by_1, fx, fy, row, rows, by_point):
    """Derivatives of one row of an observation, which is by_0, by_1 times the mm on the sensor.

    point: in the space of the camera; onto: position in the picture's plane, squared radius, where
    it lands distorted, the derivatives of that, and those of the position by the point.
    """
    p0, p1, p2 = point
    u, v, r2, bent_x, bent_y, by_uu, by_uv, by_vv, u0, u1, u2, v0, v1, v2 = onto
    l0, l1 = by_0 * fx, by_1 * fy
    outward = (l0 * u + l1 * v) * r2
    s0 = l0 * by_uu + l1 * by_uv
    s1 = l0 * by_uv + l1 * by_vv
    j0, j1, j2 = s0 * u0 + s1 * v0, s0 * u1 + s1 * v1, s0 * u2 + s1 * v2
    w0 = rotations[camera, 0, 0] * j0 + rotations[camera, 0, 1] * j1 + rotations[camera, 0, 2] * j2
    w1 = rotations[camera, 1, 0] * j0 + rotations[camera, 1, 1] * j1 + rotations[camera, 1, 2] * j2
    w2 = rotations[camera, 2, 0] * j0 + rotations[camera, 2, 1] * j1 + rotations[camera, 2, 2] * j2
    by_point[row, 0], by_point[row, 1], by_point[row, 2] = w0, w1, w2
    # R exp(ω) sees the point at p + p × ω.
    rows[row, 0], rows[row, 1] = j1 * p2 - j2 * p1, j2 * p0 - j0 * p2
    rows[row, 2] = j0 * p1 - j1 * p0
    rows[row, 3], rows[row, 4], rows[row, 5] = -w0, -w1, -w2
    rows[row, 6] = rows[row, OF_LENS] = l0 * bent_x + l1 * bent_y
    rows[row, OF_LENS + 1], rows[row, OF_LENS + 2] = by_0, by_1
    rows[row, OF_LENS + 3], rows[row, OF_LENS + 4] = outward, outward * r2
    rows[row, OF_LENS + 5] = outward * r2 * r2
    rows[row, OF_LENS + 6] = l0 * 2 * u * v + l1 * (r2 + 2 * v * v)
    rows[row, OF_LENS + 7] = l0 * (r2 + 2 * u * u) + l1 * 2 * u * v


@njit(cache=True, nogil=True, inline="always")
def _rows(rotations, camera, zoom, lens, optics, point, q, xy, weights, o, rows, by_point):
    """Fill rows (2, ROW) and by_point (2, 3) of an observation that can be seen, over its σ; q (2,)
    and by_point are as `_onto_picture` leaves them.

    Weights (a, b, c) make (a δx, b δy + c δx) of a difference in px: they go into the map from mm
    to px at the beginning. There is no branch in here, and what is computed stays in single numbers
    until it is whole. With branches numba counts this function's use of each array up and down, and
    with numbers that are written into an array and read again the processor waits: it took four
    times as long.
    """
    u, v = q[0], q[1]
    bent_x, bent_y, by_uu, by_uv, by_vv = with_slope(
        u, v, lens[3], lens[4], lens[5], lens[6], lens[7]
    )
    focal = math.exp(lens[0] + zoom[camera])
    fx, fy = focal / optics[1], focal
    mm0, mm1 = bent_x * fx + lens[1], bent_y * fy + lens[2]
    across = optics[2] * mm0 + optics[3] * mm1 + optics[6] - xy[o, 0]
    down = optics[4] * mm0 + optics[5] * mm1 + optics[7] - xy[o, 1]
    a, b, c = weights[o, 0], weights[o, 1], weights[o, 2]
    rows[0, RESIDUAL], rows[1, RESIDUAL] = a * across, b * down + c * across
    by_u = by_point[0, 0], by_point[0, 1], by_point[0, 2]
    by_v = by_point[1, 0], by_point[1, 1], by_point[1, 2]
    onto = (u, v, u * u + v * v, bent_x, bent_y, by_uu, by_uv, by_vv, *by_u, *by_v)
    x0, x1 = a * optics[2], a * optics[3]
    y0, y1 = b * optics[4] + c * optics[2], b * optics[5] + c * optics[3]
    _row(rotations, camera, point, onto, x0, x1, fx, fy, 0, rows, by_point)
    _row(rotations, camera, point, onto, y0, y1, fx, fy, 1, rows, by_point)


@njit(cache=True, nogil=True)
def _nearer_way(own_zoom, lens, optics, weights, o, rows):
    """Where a picture goes on at its other side, the residual by the nearer way."""
    across = rows[0, RESIDUAL] / weights[o, 0]
    shift = _near(int(optics[0]), across, own_zoom, lens, optics) - across
    rows[0, RESIDUAL] += weights[o, 0] * shift
    rows[1, RESIDUAL] += weights[o, 2] * shift


@njit(cache=True, nogil=True)
def linearise(
    first,
    last,
    starts,
    cameras,
    xy,
    weights,
    rotations,
    positions,
    zoom,
    lens,
    optics,
    limit2,
    points,
    held,
    at_infinity,
    size,
    free_lens,
    v,
    point_gradient,
    w,
    lens_point,
    by_cameras,
    by_lenses,
):
    """Sum the blocks of the normal equations of the points [first, last); returns the sum of
    squares.

    By letters of the literature (Triggs et al. 2000, section 6): V point–point (P, 6: lower half),
    W camera–point (N, size, 3), one per observation; of a camera's derivatives with those of camera
    and lens and the residual by_cameras (F, size, ROW), of the lens's by_lenses (LENS_SIZE, ROW):
    with those of lens and residual alone, and only of what is free, free_lens (LENS_SIZE,). `held`
    (P, 3) are coordinates that are known exactly. `at_infinity`: all cameras are in one
    place, so that the distance of a point has no meaning; V gets a term along the point's own
    direction, on which nothing else depends, and is invertible.
    """
    kind, q, by_point = int(optics[0]), np.empty(2), np.empty((2, 3))
    rows, of_point = np.empty((2, ROW)), np.empty((3, ROW))
    # Of a loop over ROW the compiler would write out all turns, one number at a time, where it
    # can take eight at once if it doesn't know how many there are.
    width = by_lenses.shape[1]
    total = 0.0
    for point in range(first, last):
        v[point] = 0.0
        of_point[:] = 0.0
        for o in range(starts[point], starts[point + 1]):
            camera = cameras[o]
            p0, p1, p2 = _in_camera(rotations, positions, camera, points, point)
            seen = _onto_picture(kind, p0, p1, p2, q, by_point)
            if not seen or q[0] * q[0] + q[1] * q[1] >= limit2:
                w[o] = 0.0
                total += IMPOSSIBLE
                continue
            at = p0, p1, p2
            _rows(rotations, camera, zoom, lens, optics, at, q, xy, weights, o, rows, by_point)
            if kind >= AROUND:
                _nearer_way(zoom[camera], lens, optics, weights, o, rows)
            total += rows[0, RESIDUAL] ** 2 + rows[1, RESIDUAL] ** 2
            for a in range(3):
                if held[point, a]:
                    by_point[0, a] = by_point[1, a] = 0.0
            entry = 0
            for a in range(3):
                ja, jb = by_point[0, a], by_point[1, a]
                for k in range(width):
                    of_point[a, k] += ja * rows[0, k] + jb * rows[1, k]
                for b in range(a + 1):
                    v[point, entry] += (
                        by_point[0, a] * by_point[0, b] + by_point[1, a] * by_point[1, b]
                    )
                    entry += 1
            for a in range(LENS_SIZE):
                if not free_lens[a]:
                    continue
                ja, jb = rows[0, OF_LENS + a], rows[1, OF_LENS + a]
                for k in range(OF_LENS, width):
                    by_lenses[a, k] += ja * rows[0, k] + jb * rows[1, k]
            for a in range(size):
                ja, jb = rows[0, a], rows[1, a]
                for k in range(width):
                    by_cameras[camera, a, k] += ja * rows[0, k] + jb * rows[1, k]
                for b in range(3):
                    w[o, a, b] = ja * by_point[0, b] + jb * by_point[1, b]
        point_gradient[point] = of_point[:, RESIDUAL]
        lens_point[point] = of_point[:, OF_LENS:RESIDUAL].T
        if at_infinity and starts[point + 1] > starts[point]:
            camera = cameras[starts[point]]
            d0 = points[point, 0] - positions[camera, 0]
            d1 = points[point, 1] - positions[camera, 1]
            d2 = points[point, 2] - positions[camera, 2]
            scale = (v[point, 0] + v[point, 2] + v[point, 5]) / (d0 * d0 + d1 * d1 + d2 * d2)
            v[point, 0] += scale * d0 * d0
            v[point, 1] += scale * d1 * d0
            v[point, 2] += scale * d1 * d1
            v[point, 3] += scale * d2 * d0
            v[point, 4] += scale * d2 * d1
            v[point, 5] += scale * d2 * d2
        for a in range(3):
            if held[point, a]:
                v[point, (0, 2, 5)[a]] = 1.0
    return total


@njit(cache=True, nogil=True)
def jacobians(
    cameras,
    of_point,
    xy,
    weights,
    rotations,
    positions,
    zoom,
    lens,
    optics,
    limit2,
    points,
    residual,
    by_camera,
    by_lens,
    by_point,
):
    """Fill residuals (n, 2) and derivatives (n, 2, 7), (n, 2, 8), (n, 2, 3), all weighted; zero
    where nothing is imaged."""
    kind, q = int(optics[0]), np.empty(2)
    rows, point_rows = np.empty((2, ROW)), np.empty((2, 3))
    for o in range(len(cameras)):
        camera = cameras[o]
        p0, p1, p2 = _in_camera(rotations, positions, camera, points, of_point[o])
        seen = _onto_picture(kind, p0, p1, p2, q, point_rows)
        if not seen or q[0] * q[0] + q[1] * q[1] >= limit2:
            residual[o] = 0.0
            by_camera[o], by_lens[o], by_point[o] = 0.0, 0.0, 0.0
            continue
        at = p0, p1, p2
        _rows(rotations, camera, zoom, lens, optics, at, q, xy, weights, o, rows, point_rows)
        if kind >= AROUND:
            _nearer_way(zoom[camera], lens, optics, weights, o, rows)
        for row in range(2):
            residual[o, row] = rows[row, RESIDUAL]
            for k in range(OF_LENS):
                by_camera[o, row, k] = rows[row, k]
            for k in range(LENS_SIZE):
                by_lens[o, row, k] = rows[row, OF_LENS + k]
            for k in range(3):
                by_point[o, row, k] = point_rows[row, k]
