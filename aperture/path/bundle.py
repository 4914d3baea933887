"""Bundle adjustment: cameras, lens and points that explain all observations and facts best.

Minimised is the sum of squared residuals, each over its σ: of tracked points in the picture, and of facts
(`Row`). Levenberg–Marquardt on the reduced camera matrix (`elimination`), damped after Nielsen (1999),
as the still matcher is. It stops on the Newton decrement, the sum of squares that a step is expected to
gain: below LEAST_GAIN every parameter is within a hundredth of its ± of the optimum. A test of
how little the sum changes from one step to the next isn't one: along a valley it stops far from the end.

Parameters: per camera ω and position, and ln focal length where it changes over time; the lens's
PARAMETERS, and behind them as *border* the points that facts tie to others, and unknowns of facts.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass

import numpy as np
from threadpoolctl import threadpool_limits

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.path import elimination, imaging, tiles
from aperture.path.imaging import LENS_SIZE, Optics
from aperture.path.problem import Facts, Freedom, Observations, Row, State, exponentials, whitening

# Of the sum of squares, in squared σ as the residuals have them.
LEAST_GAIN = 1e-4
FIRST_DAMPING = 1e-4
MOST_DAMPING = 1e6
# By what factor a point's distance changes at most in one step; and how much farther than the middle one a point may go.
MOST_FARTHER, FARTHEST = 5.0, 300.0
# How many times its own information a distance that is held gets.
HELD_FAST = 1e6


@dataclass
class _Blocks:
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


class Bundle:
    """The equations of one problem; `solve` moves its `state` to the optimum.

    Parameters
    ----------
    observations : Observations
    optics : Optics
    state : State
        Where to begin.
    freedom : Freedom
    facts : Facts, optional
    tied : tuple of int
        Points that a fact ties to a camera, the lens or to another point.
    threads : int, optional
        All cores, if not given.
    """

    def __init__(
        self,
        observations: Observations,
        optics: Optics,
        state: State,
        freedom: Freedom,
        facts: Facts | None = None,
        tied: tuple[int, ...] = (),
        threads: int | None = None,
    ) -> None:
        self.optics, self.packed = optics, optics.packed
        self.freedom, self.facts = freedom, facts
        self.threads = threads or len(os.sched_getaffinity(0))
        self.frames, self.size = freedom.cameras.shape
        self._order_points(observations, len(state.points), tied)
        eliminated = self.count - len(tied)
        self.groups = elimination.Groups(
            self.camera, self.point, eliminated, self.frames, self.size
        )
        self.eliminated = eliminated
        self.border_size = LENS_SIZE + 3 * len(tied) + len(state.extra)
        self.border_free = np.concatenate(
            [freedom.lens, ~freedom.held[self.order[eliminated:]].ravel(), freedom.extra]
        )
        self.state = state
        self.straight: Array = np.asarray(freedom.held.any(axis=1))
        for row in self._rows(state):
            self.straight[list(row.points)] = True
        self._products = np.zeros(int(self.groups.offsets[-1]))
        self._lens_products = np.zeros((LENS_SIZE, 3 * eliminated))
        self._y = np.zeros(3 * eliminated)
        self._tiles = np.zeros((len(self.groups.pattern), self.groups.side, self.groups.side))
        self._inverses = np.zeros((self.groups.tile_count, self.groups.side, self.groups.side))
        self._factors = np.zeros((eliminated, 6))
        self.iterations = 0

    def _order_points(self, observations: Observations, count: int, tied: tuple[int, ...]) -> None:
        """Sort the points for the elimination, the tied ones last, and the observations by them."""
        is_tied = np.zeros(count, bool)
        is_tied[list(tied)] = True
        order = elimination.point_order(observations.camera, observations.point, count)
        self.order = np.concatenate([order[~is_tied[order]], np.array(tied, int)]).astype(int)
        self.rank = np.empty(count, int)
        self.rank[self.order] = np.arange(count)
        self.count = count
        point = self.rank[observations.point]
        self.sorting = np.lexsort((observations.camera, point))
        self.point = point[self.sorting]
        self.camera = np.ascontiguousarray(observations.camera[self.sorting], np.int32)
        self.xy = np.ascontiguousarray(observations.xy[self.sorting], float)
        weights = whitening(observations.sigma, observations.cross)
        self.weights = np.ascontiguousarray(weights[self.sorting])
        self.starts = np.searchsorted(self.point, np.arange(count + 1))
        # Of each point, in the caller's order, the camera in the middle of those that see it.
        middle = np.minimum((self.starts[:-1] + self.starts[1:]) // 2, len(self.camera) - 1)
        self.seen_from = np.zeros(count, int)
        if len(self.camera):
            self.seen_from[self.order] = self.camera[middle]
        self.held = np.ascontiguousarray(self.freedom.held[self.order])

    # Residuals --------------------------------------------------------------------------------------------

    def _slices(self, count: int, parts: int) -> Iterator[tuple[int, int]]:
        edges = np.linspace(0, count, parts + 1).astype(int)
        return ((int(a), int(b)) for a, b in zip(edges[:-1], edges[1:]) if b > a)

    @contextmanager
    def _pool(self) -> Iterator[Callable[..., list[float]]]:
        """A function that runs kernels on slices, in threads; BLAS itself stays on one."""
        with threadpool_limits(1, user_api="blas"):
            if self.threads == 1:
                yield lambda work, slices: [work(*slice_) for slice_ in slices]
                return
            with ThreadPoolExecutor(self.threads) as pool:
                yield lambda work, slices: list(pool.map(lambda s: work(*s), list(slices)))

    def residuals(self, state: State) -> tuple[Array, float]:
        """(N, 2) the weighted residuals in the order of the observations given, and the sum of squares, facts included."""
        sorted_, total = self._residuals(state)
        out = np.empty_like(sorted_)
        out[self.sorting] = sorted_
        return out, total

    def off_px(self, state: State) -> Array:
        """(N, 2) px: the residuals without their weights, in the order of the observations given."""
        off, _ = self._residuals(state)
        across = off[:, 0] / self.weights[:, 0]
        down = (off[:, 1] - self.weights[:, 2] * across) / self.weights[:, 1]
        out = np.empty_like(off)
        out[self.sorting] = np.stack([across, down], axis=1)
        return out

    def _residuals(self, state: State) -> tuple[Array, float]:
        out = np.empty((len(self.camera), 2))
        total = imaging.residuals(
            0,
            self.count,
            self.starts,
            self.camera,
            self.xy,
            self.weights,
            np.ascontiguousarray(state.rotations),
            np.ascontiguousarray(state.positions),
            state.zoom,
            state.lens,
            self.packed,
            imaging.limit2(state.lens),
            np.ascontiguousarray(state.points[self.order]),
            out,
        )
        for row in self._rows(state):
            total += row.residual**2
        return out, float(total)

    def _rows(self, state: State) -> Sequence[Row]:
        return self.facts.rows(state) if self.facts else ()

    def _linearised(self, state: State, run: Callable[..., list[float]]) -> _Blocks:
        frames, size, lens = self.frames, self.size, LENS_SIZE
        slices = list(self._slices(self.count, self.threads))
        parts = len(slices)
        u = np.zeros((parts, frames, size, size))
        camera_gradient = np.zeros((parts, frames, size))
        camera_lens = np.zeros((parts, frames, size, lens))
        lens_lens, lens_gradient = np.zeros((parts, lens, lens)), np.zeros((parts, lens))
        v, point_gradient = np.zeros((self.count, 6)), np.zeros((self.count, 3))
        w = np.zeros((len(self.camera), size, 3))
        lens_point = np.zeros((self.count, lens, 3))
        points = np.ascontiguousarray(state.points[self.order])
        rotations = np.ascontiguousarray(state.rotations)
        positions = np.ascontiguousarray(state.positions)
        limit2 = imaging.limit2(state.lens)

        def part(number: int, first: int, last: int) -> float:
            return imaging.linearise(
                first,
                last,
                self.starts,
                self.camera,
                self.xy,
                self.weights,
                rotations,
                positions,
                state.zoom,
                state.lens,
                self.packed,
                limit2,
                points,
                self.held,
                self.freedom.at_infinity,
                size,
                v,
                point_gradient,
                w,
                lens_point,
                u[number],
                camera_gradient[number],
                camera_lens[number],
                lens_lens[number],
                lens_gradient[number],
            )

        chi2 = sum(run(part, [(number, a, b) for number, (a, b) in enumerate(slices)]))
        blocks = _Blocks(
            chi2=float(chi2),
            u=_mirrored(u.sum(axis=0)),
            camera_gradient=camera_gradient.sum(axis=0),
            border=np.zeros((frames, size, self.border_size)),
            corner=np.zeros((self.border_size, self.border_size)),
            border_gradient=np.zeros(self.border_size),
            v=v,
            point_gradient=point_gradient,
            w=w,
            lens_point=lens_point,
        )
        blocks.border[:, :, :lens] = camera_lens.sum(axis=0)
        blocks.corner[:lens, :lens] = _mirrored(lens_lens.sum(axis=0))
        blocks.border_gradient[:lens] = lens_gradient.sum(axis=0)
        self._move_tied(blocks)
        for row in self._rows(state):
            self._add_row(blocks, row)
        return blocks

    def _move_tied(self, blocks: _Blocks) -> None:
        """Put the blocks of the tied points into the border."""
        for number, point in enumerate(range(self.eliminated, self.count)):
            at = slice(LENS_SIZE + 3 * number, LENS_SIZE + 3 * number + 3)
            blocks.corner[at, at] += _unpacked(blocks.v[point])
            blocks.corner[:LENS_SIZE, at] += blocks.lens_point[point]
            blocks.corner[at, :LENS_SIZE] += blocks.lens_point[point].T
            blocks.border_gradient[at] += blocks.point_gradient[point]
            mine = slice(self.starts[point], self.starts[point + 1])
            blocks.border[self.camera[mine], :, at] += blocks.w[mine]

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

    def _eliminated_point(self, row: Row) -> tuple[int, Array] | None:
        """The rank of the eliminated point that a row is about, and the derivative by it (3,)."""
        ranks = [int(self.rank[point]) for point in row.points]
        own = [number for number, rank in enumerate(ranks) if rank < self.eliminated]
        if not own:
            return None
        others = row.camera is not None or row.by_lens is not None or row.extra
        if len(ranks) > 1 or others:
            raise ValueError(
                "A point that a fact ties to something else must be among the tied ones."
            )
        return ranks[0], row.by_points[0] * ~self.freedom.held[row.points[0]]

    def _add_row(self, blocks: _Blocks, row: Row) -> None:
        blocks.chi2 += row.residual**2
        own = self._eliminated_point(row)
        if own is not None:
            rank, slope = own
            blocks.point_gradient[rank] += slope * row.residual
            blocks.v[rank] += np.outer(slope, slope)[np.tril_indices(3)]
            return
        border = self.border_row(row)
        blocks.corner += np.outer(border, border)
        blocks.border_gradient += border * row.residual
        if row.camera is not None and row.by_camera is not None:
            by_camera = row.by_camera[: self.size]
            blocks.u[row.camera] += np.outer(by_camera, by_camera)
            blocks.camera_gradient[row.camera] += by_camera * row.residual
            blocks.border[row.camera] += np.outer(by_camera, border)

    # Steps ------------------------------------------------------------------------------------------------

    def _factored(
        self, blocks: _Blocks, damping: float, run: Callable[..., list[float]]
    ) -> _Factored | None:
        """Eliminate the points and factor what is left; None where it is not positive definite."""
        groups, size = self.groups, self.size
        elimination.factor_points(blocks.v[: self.eliminated], damping, self._factors)
        count = len(groups.points)

        def fill(first: int, last: int) -> float:
            elimination.fill_groups(
                first,
                last,
                self.starts,
                self.camera,
                blocks.w,
                blocks.lens_point,
                blocks.point_gradient,
                self._factors,
                groups.points,
                groups.tiles,
                groups.widths,
                groups.offsets,
                groups.side,
                groups.per_tile,
                size,
                self._products,
                self._lens_products,
                self._y,
            )
            return 0.0

        run(fill, self._slices(count, 4 * self.threads))
        whole = groups.tile_count * groups.per_tile
        gradient = np.zeros((whole, size))
        gradient[: self.frames] = blocks.camera_gradient
        gradient = gradient.reshape(groups.tile_count, groups.side)
        lens_borders = np.zeros((groups.tile_count, LENS_SIZE, groups.side))
        self._tiles[:] = 0

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
                groups.widths,
                groups.offsets,
                groups.side,
                self._products,
                self._lens_products,
                self._y,
                self._tiles,
                lens_borders,
                gradient,
            )
            return 0.0

        run(subtract, self._slices(len(groups.pattern), 8 * self.threads))
        border = np.zeros((whole, size, self.border_size))
        border[: self.frames] = blocks.border
        border = border.reshape(groups.tile_count, groups.side, self.border_size)
        border[:, :, :LENS_SIZE] += lens_borders.transpose(0, 2, 1)
        corner, border_gradient = blocks.corner.copy(), blocks.border_gradient.copy()
        corner[:LENS_SIZE, :LENS_SIZE] -= self._lens_products @ self._lens_products.T
        border_gradient[:LENS_SIZE] -= self._lens_products @ self._y
        self._add_cameras(blocks, damping)
        diagonal = np.arange(self.border_size)
        corner[diagonal, diagonal] += damping * np.diag(blocks.corner)
        self._hold(gradient, border, corner, border_gradient)
        positive = tiles.cholesky(
            self._tiles,
            self._inverses,
            groups.pattern.index,
            groups.pattern.below_starts,
            groups.pattern.below,
        )
        if not positive:
            return None
        solved = border.copy()
        self._solve(solved)
        rest = corner - np.einsum("tim,tin->mn", border, solved)
        return _Factored(gradient, border, solved, rest, border_gradient)

    def _add_cameras(self, blocks: _Blocks, damping: float) -> None:
        """Add U, damped, to the tiles on the diagonal."""
        u = blocks.u.copy()
        each = np.arange(self.size)
        u[:, each, each] *= 1 + damping
        pattern, per_tile = self.groups.pattern, self.groups.per_tile
        for camera in range(self.frames):
            tile = camera // per_tile
            at = self.size * (camera - tile * per_tile)
            span = slice(at, at + self.size)
            self._tiles[pattern.index[tile, tile], span, span] += u[camera]

    def _hold(self, gradient: Array, border: Array, corner: Array, border_gradient: Array) -> None:
        """Take out what is not solved for: its rows and columns exactly, with one on the diagonal."""
        groups = self.groups
        free = np.zeros((groups.tile_count * groups.per_tile, self.size), bool)
        free[: self.frames] = self.freedom.cameras
        free = free.reshape(groups.tile_count, groups.side)
        gradient[~free] = 0
        border[~free] = 0
        for number, (row, column) in enumerate(zip(groups.pattern.rows, groups.pattern.columns)):
            if not (free[row].all() and free[column].all()):
                self._tiles[number][~free[row]] = 0
                self._tiles[number][:, ~free[column]] = 0
                if row == column:
                    out = np.flatnonzero(~free[row])
                    self._tiles[number][out, out] = 1
        held = ~self.border_free
        border[:, :, held] = 0
        border_gradient[held] = 0
        corner[held] = 0
        corner[:, held] = 0
        corner[held, held] = 1

    def _solve(self, x: Array) -> None:
        """Replace right-hand sides (T, side, k) by their solutions, the border left out."""
        pattern = self.groups.pattern
        tiles.solve(
            self._tiles, self._inverses, pattern.index, pattern.below_starts, pattern.below, x
        )

    def _step(self, blocks: _Blocks, factored: _Factored) -> tuple[Array, Array, Array]:
        """The steps of cameras (F, size), border (m,) and points (P, 3) in their order of elimination."""
        x = factored.gradient[:, :, None].copy()
        self._solve(x)
        right = factored.border_gradient - np.einsum("tim,ti->m", factored.border, x[:, :, 0])
        border_step = -np.linalg.solve(factored.rest, right)
        cameras = -x[:, :, 0] - factored.solved @ border_step
        cameras = np.ascontiguousarray(cameras.reshape(-1, self.size)[: self.frames])
        points = np.zeros((self.count, 3))
        elimination.point_steps(
            0,
            self.eliminated,
            self.starts,
            self.camera,
            blocks.w,
            blocks.lens_point,
            blocks.point_gradient,
            self._factors,
            cameras,
            border_step[:LENS_SIZE],
            points,
        )
        tied = slice(LENS_SIZE, self.border_size - len(self.freedom.extra))
        points[self.eliminated :] = border_step[tied].reshape(-1, 3)
        points[self.held] = 0
        return cameras, border_step, points

    def moved(self, state: State, cameras: Array, border: Array, points: Array) -> State:
        """The state after a step, points in the order of elimination."""
        moved = np.empty_like(points)
        moved[self.order] = points
        extra_from = self.border_size - len(self.freedom.extra)
        zoom = state.zoom + cameras[:, 6] if self.size == 7 else state.zoom
        if self.freedom.at_infinity:
            # Directions, on a sphere about the camera.
            away = state.points + moved - state.positions[0]
            places = state.positions[0] + away / np.linalg.norm(away, axis=1, keepdims=True)
        else:
            places = self._stepped(state, moved)
        return State(
            state.rotations @ exponentials(cameras[:, :3]),
            state.positions + cameras[:, 3:6],
            zoom,
            state.lens + border[:LENS_SIZE],
            places,
            state.extra + border[extra_from:],
        )

    def _stepped(self, state: State, step: Array) -> Array:
        """(P, 3) the points after a step (P, 3), taken in direction and inverse distance from a camera that sees them.

        The sum of squares is nearly a parabola over the inverse distance (Civera, Davison and Montiel 2008), and
        not at all one over the distance of a point whose rays hardly differ: along it no end is found. To
        first order both steps are the same. Points that are held, or that facts are about, go straight.
        """
        from_, ray, distance, farthest = self._rays(state)
        along = np.einsum("pi,pi->p", step, ray)[:, None]
        turned = ray + (step - along * ray) / distance
        turned /= np.linalg.norm(turned, axis=1, keepdims=True)
        inverse = np.clip(1 - along / distance, 1 / MOST_FARTHER, MOST_FARTHER)
        farther = np.minimum(distance / inverse, np.maximum(farthest, distance))
        places = from_ + turned * farther
        places[self.straight] = (state.points + step)[self.straight]
        return places

    def _rays(self, state: State) -> tuple[Array, Array, Array, float]:
        """Of each point a camera that sees it (P, 3), the ray to it (P, 3), its distance (P, 1), and the farthest that is told apart."""
        from_ = state.positions[self.seen_from]
        away = state.points - from_
        distance = np.maximum(np.linalg.norm(away, axis=1, keepdims=True), 1e-12)
        farthest = FARTHEST * float(np.median(distance)) if len(distance) else np.inf
        return from_, away / distance, distance, farthest

    def _to_step_from(self, state: State, run: Callable[..., list[float]]) -> _Blocks:
        blocks = self._linearised(state, run)
        if not self.freedom.at_infinity:
            self._keep_farthest(state, blocks)
        return blocks

    def _keep_farthest(self, state: State, blocks: _Blocks) -> None:
        """Hold the distance of points that are as far as can be and would go farther: no step along it can be taken."""
        _, ray, distance, farthest = self._rays(state)
        order = self.order[: self.eliminated]
        ray, far = ray[order], distance[order, 0] >= 0.999 * farthest
        gradient = blocks.point_gradient[: self.eliminated]
        outward = np.einsum("pi,pi->p", gradient, ray)
        held = np.flatnonzero(far & (outward < 0) & ~self.straight[order])
        if not len(held):
            return
        own = ray[held]
        gradient[held] -= outward[held, None] * own
        stiff = HELD_FAST * (blocks.v[held][:, [0, 2, 5]].sum(axis=1) + 1e-30)
        outer = own[:, :, None] * own[:, None, :] * stiff[:, None, None]
        rows, columns = np.tril_indices(3)
        blocks.v[held] += outer[:, rows, columns]

    def solve(
        self,
        most: int = 50,
        least_gain: float = LEAST_GAIN,
        watch: Callable[[int, float], None] | None = None,
    ) -> float:
        """Move `state` to the optimum; returns the sum of squares there.

        Raises Problem where the equations can't be solved at all.
        """
        with self._pool() as run, np.errstate(all="ignore"):
            blocks = self._to_step_from(self.state, run)
            if not np.isfinite(blocks.chi2) or blocks.chi2 >= imaging.IMPOSSIBLE * 1e6:
                raise Problem("The first guess at this path can't be computed with.")
            damping, growth = FIRST_DAMPING, 2.0
            self.converged = False
            per_residual = max(1.0, blocks.chi2 / max(2 * len(self.camera), 1))
            for self.iterations in range(1, most + 1):
                if watch:
                    watch(self.iterations, blocks.chi2)
                factored = self._factored(blocks, damping, run)
                gain = -1.0
                if factored is not None:
                    step = self._step(blocks, factored)
                    predicted = self._predicted(blocks, damping, *step)
                    trial = self.moved(self.state, *step)
                    if np.isfinite(predicted) and predicted > 0:
                        chi2 = self._residuals(trial)[1]
                        gain = (blocks.chi2 - chi2) / predicted
                    if predicted <= least_gain * per_residual and damping <= 1e-3:
                        if gain > 0:
                            self.state = trial
                        self.converged = True
                        break
                if gain > 1e-4:
                    self.state = trial
                    damping = max(damping * max(1 / 9, 1 - (2 * gain - 1) ** 3), 1e-12)
                    growth = 2.0
                    blocks = self._to_step_from(self.state, run)
                    per_residual = max(1.0, blocks.chi2 / max(2 * len(self.camera), 1))
                else:
                    damping, growth = damping * growth, growth * 2
                    if damping > MOST_DAMPING:
                        break
        self.chi2 = self._residuals(self.state)[1]
        return self.chi2

    def point_information(self) -> Array:
        """(P, 3, 3) of each point what its sightings, and facts about it alone, tell, the cameras taken as exact."""
        with self._pool() as run:
            v = self._linearised(self.state, run).v
        out = np.empty((len(v), 3, 3))
        out[self.order] = np.array([_unpacked(entries) for entries in v]).reshape(-1, 3, 3)
        return out

    def _predicted(
        self, blocks: _Blocks, damping: float, cameras: Array, border: Array, points: Array
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


@dataclass
class _Factored:
    """What is left after the points: gradient (T, side), border (T, side, m), A⁻¹ border, its complement, gradient (m,)."""

    gradient: Array
    border: Array
    solved: Array
    rest: Array
    border_gradient: Array


def _mirrored(lower: Array) -> Array:
    """(…, n, n) symmetric, of its lower half."""
    n = lower.shape[-1]
    below = np.tril(lower)
    strict = below * ~np.eye(n, dtype=bool)
    return below + np.swapaxes(strict, -1, -2)


def _unpacked(v: Array) -> Array:
    """(3, 3) of the six entries of its lower half."""
    a, b, c, d, e, f = v
    return np.array([[a, b, d], [b, c, e], [d, e, f]])
