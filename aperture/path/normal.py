"""The normal equations of a bundle: its unknowns in order, the points eliminated, the rest factored
and solved.

The points that no fact ties to anything else are eliminated first (`elimination`). What is left are
the cameras, in tiles (`tiles`), and the *border*: the lens, the tied points, and unknowns of facts.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.path import elimination, tiles
from aperture.path.imaging import LENS_SIZE
from aperture.path.problem import Freedom, Observations, Row, whitening
from aperture.path.several import Run, cores, sharing
from aperture.path.structure import Seen, Structure


@dataclass
class Blocks:
    """The normal equations at a state; of points in the order of the elimination."""

    chi2: float
    u: Array
    camera_gradient: Array
    border: Array  # (F, size, m)
    corner: Array  # (m, m)
    border_gradient: Array
    v: Array
    point_gradient: Array
    w: Array
    lens_point: Array


@dataclass
class Factored:
    """What is left after the points: border (T, side, m), A⁻¹ times border and gradient (T, side),
    the border's complement, its gradient (m,)."""

    border: Array
    solved: Array
    solved_gradient: Array
    rest: Array
    border_gradient: Array


class NormalEquations:
    """The unknowns of one problem, and the solving of equations for them.

    Parameters
    ----------
    observations : Observations
    freedom : Freedom
    count : int
        Of the points.
    tied : tuple of int
        Points that a fact ties to a camera, the lens or to another point.
    threads : int, optional
        All cores, if not given.
    like : Structure, optional
        Of equations that may be of the same sightings: it isn't made again then.
    """

    def __init__(
        self,
        observations: Observations,
        freedom: Freedom,
        count: int,
        tied: tuple[int, ...] = (),
        threads: int | None = None,
        like: Structure | None = None,
    ) -> None:
        self.freedom = freedom
        self.threads = threads or cores()
        self.frames, self.size = freedom.cameras.shape
        self.count = count
        seen = Seen(observations.camera, observations.point, count, self.frames, self.size, tied)
        self.structure = structure = Structure.of(seen, like)
        self.order, self.rank, self.eliminated = (
            structure.order,
            structure.rank,
            structure.eliminated,
        )
        self.unsorting, self.starts = structure.unsorting, structure.starts
        self.camera, self.point = structure.camera, structure.point
        self.seen_from, self.groups = structure.seen_from, structure.groups
        self.xy = np.take(np.asarray(observations.xy, float), structure.sorting, axis=0)
        weights = whitening(observations.sigma, observations.cross)
        self.weights = np.take(weights, structure.sorting, axis=0)
        self.held = np.ascontiguousarray(freedom.held[self.order])
        groups = self.groups
        self.border_size = LENS_SIZE + 3 * len(tied) + len(freedom.extra)
        self.border_free = np.concatenate(
            [freedom.lens, ~freedom.held[self.order[self.eliminated :]].ravel(), freedom.extra]
        )
        self.products = np.empty(int(groups.offsets[-1]))
        self.lens_products = np.zeros((3 * self.eliminated, LENS_SIZE))
        self._y = np.zeros(3 * self.eliminated)
        self.tiles = np.empty((len(groups.pattern), groups.side, groups.side))
        self.inverses = np.zeros((groups.tile_count, groups.side, groups.side))
        self.factors = np.zeros((self.eliminated, 6))

    def slices(self, count: int, parts: int) -> Iterator[tuple[int, int]]:
        """The numbers from 0 to `count` in so many runs of about the same length, the empty ones
        left out."""
        edges = np.linspace(0, count, parts + 1).astype(int)
        return ((int(a), int(b)) for a, b in zip(edges[:-1], edges[1:]) if b > a)

    def pool(self) -> AbstractContextManager[Run]:
        """A function that runs kernels on slices, in threads; BLAS itself stays on one."""
        return sharing(self.threads)

    def border_row(self, row: Row) -> Array:
        """(m,) the derivative of a row by the border."""
        out = np.zeros(self.border_size)
        if row.by_lens is not None:
            out[:LENS_SIZE] = row.by_lens
        for number, point in enumerate(row.points):
            place = int(self.rank[point]) - self.eliminated
            if place >= 0:
                at = LENS_SIZE + 3 * place
                out[at : at + 3] += row.by_points[number] * ~self.freedom.held[point]
        first_extra = self.border_size - len(self.freedom.extra)
        for index, slope in row.extra:
            out[first_extra + index] = slope
        return out

    def factored(self, blocks: Blocks, damping: float, run: Run) -> Factored | None:
        """Eliminate the points and factor what is left; None where it is not positive definite."""
        groups, size = self.groups, self.size
        elimination.factor_points(blocks.v[: self.eliminated], damping, self.factors)
        self._fill_groups(blocks, run)
        whole = groups.tile_count * groups.per_tile
        gradient = np.zeros((whole, size))
        gradient[: self.frames] = blocks.camera_gradient
        gradient = gradient.reshape(groups.tile_count, groups.side)
        lens_borders = self._subtracted(gradient, run)
        border = np.zeros((whole, size, self.border_size))
        border[: self.frames] = blocks.border
        border = border.reshape(groups.tile_count, groups.side, self.border_size)
        border[:, :, :LENS_SIZE] += lens_borders
        corner, border_gradient = blocks.corner.copy(), blocks.border_gradient.copy()
        corner[:LENS_SIZE, :LENS_SIZE] -= self.lens_products.T @ self.lens_products
        border_gradient[:LENS_SIZE] -= self.lens_products.T @ self._y
        self._add_cameras(blocks, damping)
        diagonal = np.arange(self.border_size)
        corner[diagonal, diagonal] += damping * np.diag(blocks.corner)
        self._hold(gradient, border, corner, border_gradient)
        positive = tiles.cholesky(
            self.tiles,
            self.inverses,
            groups.pattern.index,
            groups.pattern.right_starts,
            groups.pattern.right,
        )
        if not positive:
            return None
        both = np.concatenate([border, gradient[:, :, None]], axis=2)
        self.solve_cameras(both)
        solved = np.ascontiguousarray(both[:, :, :-1])
        rest = corner - np.tensordot(border, solved, ((0, 1), (0, 1)))
        return Factored(border, solved, both[:, :, -1], rest, border_gradient)

    def _fill_groups(self, blocks: Blocks, run: Run) -> None:
        """What the points, eliminated, take from the cameras that see them, group by group."""
        groups, size = self.groups, self.size

        def fill(first: int, last: int) -> float:
            elimination.fill_groups(
                first,
                last,
                self.starts,
                self.camera,
                blocks.w,
                blocks.lens_point,
                blocks.point_gradient,
                self.factors,
                groups.points,
                groups.tiles,
                groups.blocks,
                groups.offsets,
                groups.side,
                groups.per_tile,
                size,
                self.products,
                self.lens_products,
                self._y,
            )
            return 0.0

        run(fill, self.slices(len(groups.points), 4 * self.threads))

    def _subtracted(self, gradient: Array, run: Run) -> Array:
        """Take that from the tiles, and from the gradient (tiles, side); what is taken from the
        lens's border (tiles, side, 8)."""
        groups = self.groups
        lens_borders = np.zeros((groups.tile_count, groups.side, LENS_SIZE))
        self.tiles[:] = 0

        def subtract(first: int, last: int) -> float:
            elimination.subtract_products(
                first,
                last,
                groups.pattern.rows,
                groups.pattern.columns,
                groups.pair_starts,
                groups.pair_groups,
                groups.points,
                groups.tiles,
                groups.blocks,
                groups.offsets,
                groups.side,
                self.products,
                self.lens_products,
                self._y,
                self.tiles,
                lens_borders,
                gradient,
            )
            return 0.0

        run(subtract, self.slices(len(groups.pattern), 8 * self.threads))
        return lens_borders

    def _add_cameras(self, blocks: Blocks, damping: float) -> None:
        """Add U, damped, to the tiles on the diagonal."""
        u = blocks.u.copy()
        each = np.arange(self.size)
        u[:, each, each] *= 1 + damping
        pattern, per_tile = self.groups.pattern, self.groups.per_tile
        for camera in range(self.frames):
            tile = camera // per_tile
            at = self.size * (camera - tile * per_tile)
            span = slice(at, at + self.size)
            self.tiles[pattern.index[tile, tile], span, span] += u[camera]

    def _hold(self, gradient: Array, border: Array, corner: Array, border_gradient: Array) -> None:
        """Take out what is not solved for: its rows and columns exactly, with one on the
        diagonal."""
        groups = self.groups
        free = np.zeros((groups.tile_count * groups.per_tile, self.size), bool)
        free[: self.frames] = self.freedom.cameras
        free = free.reshape(groups.tile_count, groups.side)
        gradient[~free] = 0
        border[~free] = 0
        for number, (row, column) in enumerate(zip(groups.pattern.rows, groups.pattern.columns)):
            if not (free[row].all() and free[column].all()):
                self.tiles[number][~free[row]] = 0
                self.tiles[number][:, ~free[column]] = 0
                if row == column:
                    out = np.flatnonzero(~free[row])
                    self.tiles[number][out, out] = 1
        held = ~self.border_free
        border[:, :, held] = 0
        border_gradient[held] = 0
        corner[held] = 0
        corner[:, held] = 0
        corner[held, held] = 1

    def solve_cameras(self, x: Array) -> None:
        """Replace right-hand sides (T, side, k) by their solutions, the border left out."""
        pattern = self.groups.pattern
        tiles.solve(
            self.tiles, self.inverses, pattern.index, pattern.right_starts, pattern.right, x
        )

    def step(self, blocks: Blocks, factored: Factored) -> tuple[Array, Array, Array]:
        """The steps of cameras (F, size), border (m,) and points (P, 3) in their order of
        elimination."""
        x = factored.solved_gradient
        right = factored.border_gradient - np.einsum("tim,ti->m", factored.border, x)
        border_step = -np.linalg.solve(factored.rest, right)
        cameras = -x - factored.solved @ border_step
        cameras = np.ascontiguousarray(cameras.reshape(-1, self.size)[: self.frames])
        points = self.point_steps(blocks, blocks.point_gradient, cameras, border_step)
        return cameras, border_step, points

    def point_steps(
        self, blocks: Blocks, point_gradient: Array, cameras: Array, border: Array
    ) -> Array:
        """(P, 3) the steps of the points, in their order of elimination, that follow of those of
        cameras (F, size) and border (m,), and of their own gradients (P, 3)."""
        points = np.zeros((self.count, 3))
        elimination.point_steps(
            0,
            self.eliminated,
            self.starts,
            self.camera,
            blocks.w,
            blocks.lens_point,
            point_gradient,
            self.factors,
            cameras,
            border[:LENS_SIZE],
            points,
        )
        tied = slice(LENS_SIZE, self.border_size - len(self.freedom.extra))
        points[self.eliminated :] = border[tied].reshape(-1, 3)
        points[self.held] = 0
        return points

    def predicted(
        self, blocks: Blocks, damping: float, cameras: Array, border: Array, points: Array
    ) -> float:
        """The sum of squares that a damped step gains if everything is linear: δᵀ (λ D δ − g)."""
        free = self.freedom.cameras
        diagonal = np.einsum("fii->fi", blocks.u)
        gained = (cameras * (damping * diagonal * cameras - blocks.camera_gradient))[free].sum()
        corner = np.diag(blocks.corner)
        inner = border * (damping * corner * border - blocks.border_gradient)
        gained += inner[self.border_free].sum()
        mine = slice(0, self.eliminated)
        own = blocks.v[mine][:, [0, 2, 5]]
        step = points[mine]
        gained += (step * (damping * own * step - blocks.point_gradient[mine])).sum()
        return float(gained)
