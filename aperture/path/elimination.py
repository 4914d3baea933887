"""Eliminating the points: from the blocks of the normal equations to the reduced camera matrix.

With the cameras' parameters c, the shared ones s and the points' x, a Gauss–Newton step solves

    [U   B   W ] [δc]     [g_c]
    [Bᵀ  D   E ] [δs] = − [g_s]
    [Wᵀ  Eᵀ  V ] [δx]     [g_x]

V is block diagonal, so that δx = −V⁻¹ (g_x + Wᵀ δc + Eᵀ δs) and the rest is the Schur complement
(Brown 1976; Triggs et al. 2000, section 6.1)

    [U − W V⁻¹ Wᵀ   B − W V⁻¹ Eᵀ]        with V = L Lᵀ:  W V⁻¹ Wᵀ = M Mᵀ,  M = W L⁻ᵀ.
    [               D − E V⁻¹ Eᵀ]

The points are taken in groups that begin to be seen in the same tile of cameras, those that are
seen longest first. A group's Mᵀ is kept tile by tile: of each tile so many rows as there are points
that are still seen there, and a column for each of its parameters, so that next to nothing is
padded with zeros, and all products are of full matrices, which BLAS computes. They are XᵀY
(`tiles`).
"""

from __future__ import annotations

import numpy as np
from numba import njit

from aperture.arrays import Array
from aperture.path.imaging import LENS_SIZE
from aperture.path.tiles import Pattern

# Cameras of one tile, and points of one group: fastest of what was tried.
CAMERAS_PER_TILE = 12
POINTS_PER_GROUP = 48


class Groups:
    """Points in groups, and which tiles each group touches. The points must be in the order of
    `point_order`.

    Attributes
    ----------
    points : ndarray of int, shape (G, 2)
        The first point of each group, and the one after its last.
    tiles : ndarray of int, shape (G, 2)
        The same of its tiles.
    blocks : ndarray of int, shape (G,)
        The number of its first block; it has one for each of its tiles.
    offsets : ndarray of int, shape (B + 1,)
        Where each block begins, of (rows, side) numbers.

    Parameters
    ----------
    cameras, points : ndarray of int, shape (N,)
        Of each observation. Points from `eliminated` on aren't eliminated and are in no group.
    """

    def __init__(
        self, cameras: Array, points: Array, eliminated: int, frames: int, size: int
    ) -> None:
        self.per_tile = min(CAMERAS_PER_TILE, max(frames, 1))
        self.side = self.per_tile * size
        self.tile_count = -(-frames // self.per_tile)
        mine = points < eliminated
        first, last = _seen(cameras[mine], points[mine], eliminated)
        first, last = first // self.per_tile, last // self.per_tile
        begins = np.flatnonzero(np.diff(first, prepend=-1))
        ends = np.append(begins[1:], eliminated)
        self.points = np.array(
            [
                (at, min(at + POINTS_PER_GROUP, end))
                for begin, end in zip(begins.tolist(), ends.tolist())
                for at in range(begin, end, POINTS_PER_GROUP)
            ],
            int,
        ).reshape(-1, 2)
        self.tiles = np.array([(first[a], last[a:b].max() + 1) for a, b in self.points], int)
        self.tiles = self.tiles.reshape(-1, 2)
        counts = self.tiles[:, 1] - self.tiles[:, 0]
        self.blocks = np.cumsum(counts) - counts
        rows = [
            3 * np.count_nonzero(last[a:b] >= tile)
            for (a, b), tiles in zip(self.points, self.tiles)
            for tile in range(*tiles)
        ]
        self.offsets = np.concatenate([[0], np.cumsum(np.array(rows, int) * self.side)])
        of_pair: dict[tuple[int, int], list[int]] = {}
        for group, (a, b) in enumerate(self.tiles.tolist()):
            for row in range(a, b):
                for column in range(row, b):
                    of_pair.setdefault((row, column), []).append(group)
        self.pattern = Pattern(self.tile_count, of_pair)
        lists = [
            of_pair.get((int(row), int(column)), [])
            for row, column in zip(self.pattern.rows, self.pattern.columns)
        ]
        self.pair_starts = np.concatenate([[0], np.cumsum([len(groups) for groups in lists])])
        self.pair_groups = np.array([group for groups in lists for group in groups], int)


def _seen(cameras: Array, points: Array, count: int) -> tuple[Array, Array]:
    """The first and the last camera that sees each point; 0 and 0 of one that none sees."""
    first, last = np.full(count, np.iinfo(int).max), np.zeros(count, int)
    cameras = cameras.astype(int)  # of the same type it is ten times as quick
    np.minimum.at(first, points, cameras)
    np.maximum.at(last, points, cameras)
    return np.where(first > last, 0, first), last


def point_order(cameras: Array, points: Array, count: int) -> Array:
    """(count,) the points by the tile in which they are seen first, of each those first that are
    seen longest."""
    first, last = _seen(cameras, points, count)
    return np.lexsort((-last, first // CAMERAS_PER_TILE))


@njit(cache=True, nogil=True)
def factor_points(v, damping, factors):
    """Cholesky factors (P, 6) of the damped V (P, 6), lower halves."""
    for p in range(v.shape[0]):
        a = v[p, 0] * (1 + damping) + 1e-300
        c = v[p, 2] * (1 + damping)
        e = v[p, 5] * (1 + damping)
        l00 = np.sqrt(a)
        l10 = v[p, 1] / l00
        l11 = np.sqrt(max(c - l10 * l10, 1e-13 * c + 1e-300))
        l20 = v[p, 3] / l00
        l21 = (v[p, 4] - l20 * l10) / l11
        l22 = np.sqrt(max(e - l20 * l20 - l21 * l21, 1e-13 * e + 1e-300))
        factors[p, 0], factors[p, 1], factors[p, 2] = l00, l10, l11
        factors[p, 3], factors[p, 4], factors[p, 5] = l20, l21, l22


@njit(cache=True, nogil=True, inline="always")
def _forward(factors, p, a, b, c):
    """L⁻¹ (a, b, c)."""
    y0 = a / factors[p, 0]
    y1 = (b - factors[p, 1] * y0) / factors[p, 2]
    y2 = (c - factors[p, 3] * y0 - factors[p, 4] * y1) / factors[p, 5]
    return y0, y1, y2


@njit(cache=True, nogil=True)
def fill_groups(
    first,
    last,
    starts,
    cameras,
    w,
    lens_point,
    point_gradient,
    factors,
    group_points,
    group_tiles,
    blocks,
    offsets,
    side,
    per_tile,
    size,
    products,
    lens_products,
    y,
):
    """For the groups [first, last): Mᵀ into `products`, L⁻¹ Eᵀ into `lens_products` (3 P,
    LENS_SIZE), L⁻¹ g_x into `y` (3 P,)."""
    for group in range(first, last):
        begin, end = group_points[group]
        block = blocks[group] - group_tiles[group, 0]
        products[offsets[blocks[group]] : offsets[block + group_tiles[group, 1]]] = 0.0
        for p in range(begin, end):
            row = 3 * side * (p - begin)
            y[3 * p], y[3 * p + 1], y[3 * p + 2] = _forward(
                factors, p, point_gradient[p, 0], point_gradient[p, 1], point_gradient[p, 2]
            )
            over0, over1, over2 = 1 / factors[p, 0], 1 / factors[p, 2], 1 / factors[p, 5]
            l10, l20, l21 = factors[p, 1], factors[p, 3], factors[p, 4]
            for o in range(starts[p], starts[p + 1]):
                tile = cameras[o] // per_tile
                at = offsets[block + tile] + row + size * (cameras[o] - tile * per_tile)
                for a in range(size):
                    m0 = w[o, a, 0] * over0
                    m1 = (w[o, a, 1] - l10 * m0) * over1
                    products[at + a] = m0
                    products[at + side + a] = m1
                    products[at + 2 * side + a] = (w[o, a, 2] - l20 * m0 - l21 * m1) * over2
            for a in range(LENS_SIZE):
                e0, e1, e2 = _forward(
                    factors, p, lens_point[p, a, 0], lens_point[p, a, 1], lens_point[p, a, 2]
                )
                lens_products[3 * p, a] = e0
                lens_products[3 * p + 1, a] = e1
                lens_products[3 * p + 2, a] = e2


@njit(cache=True, nogil=True)
def subtract_products(
    first,
    last,
    rows,
    columns,
    pair_starts,
    pair_groups,
    group_points,
    group_tiles,
    blocks,
    offsets,
    side,
    products,
    lens_products,
    y,
    tiles,
    borders,
    gradient,
):
    """Subtract the groups' M Mᵀ from the tiles [first, last), and M Eᵀ and M y where a tile lies on
    the diagonal.

    borders (T, side, LENS_SIZE), gradient (T, side).
    """
    buffer = np.empty((side, side))
    for pair in range(first, last):
        row, column = rows[pair], columns[pair]
        for place in range(pair_starts[pair], pair_starts[pair + 1]):
            group = pair_groups[place]
            block = blocks[group] - group_tiles[group, 0]
            # The points that are seen in the later tile are the first ones of those in the earlier.
            begin, end = offsets[block + column], offsets[block + column + 1]
            right = products[begin:end].reshape(-1, side)
            begin, end = offsets[block + row], offsets[block + row] + end - begin
            left = products[begin:end].reshape(-1, side)
            np.dot(left.T, right, buffer)
            tiles[pair] -= buffer
            if row == column:
                begin = 3 * group_points[group, 0]
                end = begin + len(left)
                borders[row] -= np.dot(left.T, lens_products[begin:end])
                gradient[row] -= np.dot(left.T, y[begin:end])


@njit(cache=True, nogil=True)
def point_steps(
    first,
    last,
    starts,
    cameras,
    w,
    lens_point,
    point_gradient,
    factors,
    camera_step,
    lens_step,
    out,
):
    """δx (P, 3) of the points [first, last), given those of cameras (F, size) and lens
    (LENS_SIZE,)."""
    size = camera_step.shape[1]
    for p in range(first, last):
        g0, g1, g2 = point_gradient[p, 0], point_gradient[p, 1], point_gradient[p, 2]
        for o in range(starts[p], starts[p + 1]):
            step = camera_step[cameras[o]]
            for a in range(size):
                g0 += w[o, a, 0] * step[a]
                g1 += w[o, a, 1] * step[a]
                g2 += w[o, a, 2] * step[a]
        for a in range(LENS_SIZE):
            g0 += lens_point[p, a, 0] * lens_step[a]
            g1 += lens_point[p, a, 1] * lens_step[a]
            g2 += lens_point[p, a, 2] * lens_step[a]
        y0, y1, y2 = _forward(factors, p, g0, g1, g2)
        x2 = y2 / factors[p, 5]
        x1 = (y1 - factors[p, 4] * x2) / factors[p, 2]
        x0 = (y0 - factors[p, 1] * x1 - factors[p, 3] * x2) / factors[p, 0]
        out[p, 0], out[p, 1], out[p, 2] = -x0, -x1, -x2


@njit(cache=True, nogil=True, inline="always")
def _between_factors(factors, p, inner, out):
    """L⁻ᵀ inner L⁻¹, both (3, 3)."""
    l00, l10, l11 = factors[p, 0], factors[p, 1], factors[p, 2]
    l20, l21, l22 = factors[p, 3], factors[p, 4], factors[p, 5]
    lower = np.array([[l00, 0.0, 0.0], [l10, l11, 0.0], [l20, l21, l22]])
    back = np.linalg.inv(lower)
    out[p] += np.dot(back.T, np.dot(inner, back))


@njit(cache=True, nogil=True)
def add_point_covariances(
    first,
    last,
    group_points,
    group_tiles,
    blocks,
    offsets,
    side,
    products,
    lens_products,
    factors,
    inverse,
    index,
    camera_lens,
    lens_lens,
    out,
):
    """Add V⁻¹ + V⁻¹ [W; E]ᵀ Z [W; E] V⁻¹ of the points of the groups [first, last) to `out` (P, 3,
    3), which is L⁻ᵀ (1 + [M; E L⁻ᵀ]ᵀ Z [M; E L⁻ᵀ]) L⁻¹.

    `inverse` holds the tiles of Z for the cameras; camera_lens (T, side, LENS_SIZE) and lens_lens
    are the rest of it.
    """
    for group in range(first, last):
        begin, end = group_points[group]
        base = blocks[group] - group_tiles[group, 0]
        inner = np.zeros((end - begin, 3, 3))
        shared = lens_products[3 * begin : 3 * end]
        for column in range(group_tiles[group, 0], group_tiles[group, 1]):
            right = products[offsets[base + column] : offsets[base + column + 1]]
            right = right.reshape(-1, side)
            count = len(right)
            for row in range(group_tiles[group, 0], column + 1):
                at = offsets[base + row]
                left = products[at : at + count * side].reshape(count, side)
                half = np.dot(left, inverse[index[row, column]])
                _add_blocks(half, right, 1.0 if row < column else 0.5, inner)
            _add_blocks(np.dot(right, camera_lens[column]), shared, 1.0, inner)
        _add_blocks(np.dot(shared, lens_lens), shared, 0.5, inner)
        for p in range(begin, end):
            own = inner[p - begin]
            _between_factors(factors, p, np.eye(3) + own + own.T, out)


@njit(cache=True, nogil=True)
def _add_blocks(left, right, share, inner):
    """Add the (3, 3) on the diagonal of left rightᵀ to `inner` (n, 3, 3): one for each three rows
    of `left`, where `right` has as many or more."""
    for p in range(len(left) // 3):
        for a in range(3):
            for b in range(3):
                total = 0.0
                for k in range(left.shape[1]):
                    total += left[3 * p + a, k] * right[3 * p + b, k]
                inner[p, a, b] += share * total


@njit(cache=True, nogil=True)
def add_point_squares(
    first,
    last,
    group_points,
    group_tiles,
    blocks,
    offsets,
    side,
    products,
    lens_products,
    factors,
    x,
    x_lens,
    out,
):
    """Add to `out` (P, 3, 3) the squares of the steps that points of the groups [first, last) take
    with those x (T, side, k) of cameras and x_lens (LENS_SIZE, k) of the lens."""
    for group in range(first, last):
        begin, end = group_points[group]
        base = blocks[group] - group_tiles[group, 0]
        moved = np.dot(lens_products[3 * begin : 3 * end], x_lens)
        for tile in range(group_tiles[group, 0], group_tiles[group, 1]):
            own = products[offsets[base + tile] : offsets[base + tile + 1]].reshape(-1, side)
            moved[: len(own)] += np.dot(own, x[tile])
        inner = np.zeros((end - begin, 3, 3))
        _add_blocks(moved, moved, 1.0, inner)
        for p in range(begin, end):
            _between_factors(factors, p, inner[p - begin], out)
