"""The ± of a solved path.

If every σ is true and errors are independent, the covariance is the inverse of the normal matrix.
It is needed for each camera by itself, for each point by itself and for the lens: the *selected*
inverse (`tiles`), from which the points follow (Triggs et al. 2000, section 9.4).

Errors along a track are not independent: a template that lies a little beside its point, a
reflection that slides, a patch that is seen ever more obliquely err alike on neighbouring frames.
The sandwich estimate, clustered by track (Liang and Zeger 1986; White 1980; cited from memory),
takes the residuals as they are,

    N⁻¹ (Σ_t g_t g_tᵀ + Σ_f a_f a_fᵀ) N⁻¹,        g_t = Σ of Jᵀ r over the track t's observations,

and is right however the errors of one track hang together, as long as tracks are independent. A
fact is a cluster of its own, a_f being its derivatives over its σ: one residual tells nothing of
its variance, so the one that it says is taken. The sum's own uncertainty is that of a variance
estimated from as many samples as there are tracks, so it is used for what many tracks determine.
Both are computed; the larger one is the ±.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.path import elimination, imaging, tiles
from aperture.path.bundle import Bundle
from aperture.path.imaging import LENS_SIZE
from aperture.path.normal import Blocks, Factored
from aperture.path.problem import Row, State

# How many right-hand sides are solved at once.
AT_ONCE = 256
# Points at the end of what can be told apart may make the matrix singular along their rays: then it
# is damped by as little as helps, a share of its diagonal.
DAMPINGS = (0.0, 1e-12, 1e-10, 1e-8)


@dataclass(frozen=True, eq=False)
class Spread:
    """Covariances: cameras (F, size, size), across (F, size, m) of each with the border, points (P,
    3, 3), border (m, m).

    The border begins with the lens. Zero where held.
    """

    cameras: Array
    across: Array
    points: Array
    border: Array

    @property
    def lens(self) -> Array:
        """(8, 8) of the PARAMETERS."""
        return self.border[:LENS_SIZE, :LENS_SIZE]

    @property
    def with_lens(self) -> Array:
        """(F, size + 8, size + 8) of each camera and the lens together."""
        size = self.cameras.shape[1]
        out = np.empty((len(self.cameras), size + LENS_SIZE, size + LENS_SIZE))
        out[:, :size, :size] = self.cameras
        out[:, :size, size:] = self.across[:, :, :LENS_SIZE]
        out[:, size:, :size] = np.swapaxes(out[:, :size, size:], 1, 2)
        out[:, size:, size:] = self.lens
        return out

    def plus(self, other: Spread) -> Spread:
        """The sum of two."""
        return Spread(
            self.cameras + other.cameras,
            self.across + other.across,
            self.points + other.points,
            self.border + other.border,
        )

    def widened(self, factor: float) -> Spread:
        """All variances times a factor."""
        return Spread(
            self.cameras * factor, self.across * factor, self.points * factor, self.border * factor
        )


@dataclass(frozen=True, eq=False)
class Along:
    """One number that a solution depends on beside its own unknowns: its σ, and by how much
    everything moves with it.

    by_camera (F, size), by_lens (8,), by_point (P, 3).
    """

    sigma: float
    by_camera: Array
    by_lens: Array
    by_point: Array

    def added(self, spread: Spread) -> Spread:
        """A spread with what this number may be off."""
        by_border = np.zeros(len(spread.border))
        by_border[: len(self.by_lens)] = self.by_lens

        def outer(slopes: Array, others: Array) -> Array:
            return self.sigma**2 * slopes[..., :, None] * others[..., None, :]

        return Spread(
            spread.cameras + outer(self.by_camera, self.by_camera),
            spread.across + outer(self.by_camera, by_border),
            spread.points + outer(self.by_point, self.by_point),
            spread.border + outer(by_border, by_border),
        )


def slopes_between(first: State, last: State, step: float, size: int) -> tuple[Array, Array, Array]:
    """By how much cameras (F, size), lens (8,) and points (P, 3) move per unit of what differs by
    `step` between two states."""
    turn = np.swapaxes(first.rotations, 1, 2) @ last.rotations
    skew = (turn - np.swapaxes(turn, 1, 2)) / 2
    omega = np.stack([skew[:, 2, 1], skew[:, 0, 2], skew[:, 1, 0]], axis=1)
    zoom = (last.zoom - first.zoom)[:, None]
    cameras = np.concatenate([omega, last.positions - first.positions, zoom], axis=1)[:, :size]
    return cameras / step, (last.lens - first.lens) / step, (last.points - first.points) / step


class Solved:
    """A bundle at its optimum, linearised and factored once, for questions about it."""

    def __init__(self, bundle: Bundle) -> None:
        self.bundle = bundle
        with bundle.pool() as run:
            self.blocks: Blocks = bundle.linearised(bundle.state, run)
            # What is held doesn't move a point.
            self.blocks.w *= bundle.freedom.cameras[bundle.camera][:, :, None]
            self.blocks.lens_point *= bundle.freedom.lens[:, None]
            for damping in DAMPINGS:
                factored = bundle.factored(self.blocks, damping, run)
                if factored is not None:
                    break
        if factored is None:
            raise np.linalg.LinAlgError("The normal matrix is not positive definite.")
        self.factored: Factored = factored
        self.rest_inverse = np.linalg.inv(factored.rest)
        self.per_tile, self.size = bundle.groups.per_tile, bundle.size

    # From the normal matrix
    # -------------------------------------------------------------------------------

    def spread(self) -> Spread:
        """The covariances if every σ is true and all errors are independent."""
        bundle, pattern = self.bundle, self.bundle.groups.pattern
        inverse = np.zeros_like(bundle.tiles)
        tiles.selected_inverse(
            bundle.tiles,
            bundle.inverses,
            pattern.index,
            pattern.right_starts,
            pattern.right,
            inverse,
        )
        solved = self.factored.solved  # A⁻¹ B
        across = solved @ self.rest_inverse
        for number, (row, column) in enumerate(zip(pattern.rows, pattern.columns)):
            inverse[number] += across[row] @ solved[column].T
        flat = -across.reshape(-1, self.size, bundle.border_size)[: bundle.frames]
        camera_lens = np.ascontiguousarray(-across[:, :, :LENS_SIZE])
        lens = np.ascontiguousarray(self.rest_inverse[:LENS_SIZE, :LENS_SIZE])
        points = np.zeros((bundle.count, 3, 3))
        with bundle.pool() as run:

            def part(first: int, last: int) -> float:
                elimination.add_point_covariances(
                    *self._of_groups(first, last),
                    inverse,
                    pattern.index,
                    camera_lens,
                    lens,
                    points,
                )
                return 0.0

            run(part, bundle.slices(len(bundle.groups.points), 4 * bundle.threads))
        tied = slice(LENS_SIZE, bundle.border_size - len(bundle.freedom.extra))
        for number in range(bundle.count - bundle.eliminated):
            at = slice(tied.start + 3 * number, tied.start + 3 * number + 3)
            points[bundle.eliminated + number] = self.rest_inverse[at, at]
        return self._spread(self._camera_blocks(inverse), flat, self.rest_inverse, points)

    def _of_groups(self, first: int, last: int) -> tuple[Any, ...]:
        """What kernels take of the groups of points [first, last)."""
        bundle, groups = self.bundle, self.bundle.groups
        return (
            first,
            last,
            groups.points,
            groups.tiles,
            groups.blocks,
            groups.offsets,
            groups.side,
            bundle.products,
            bundle.lens_products,
            bundle.factors,
        )

    def _camera_blocks(self, inverse: Array) -> Array:
        """(F, size, size) from the tiles on the diagonal."""
        pattern, size = self.bundle.groups.pattern, self.size
        out = np.empty((self.bundle.frames, size, size))
        for camera in range(self.bundle.frames):
            tile = camera // self.per_tile
            at = size * (camera - tile * self.per_tile)
            out[camera] = inverse[pattern.index[tile, tile]][at : at + size, at : at + size]
        return out

    def _spread(self, cameras: Array, across: Array, border: Array, points: Array) -> Spread:
        """With zeros for what is held, and the points in the caller's order."""
        bundle = self.bundle
        free = bundle.freedom.cameras
        cameras = cameras * (free[:, :, None] & free[:, None, :])
        across = across * (free[:, :, None] & bundle.border_free)
        border = border * np.outer(bundle.border_free, bundle.border_free)
        held = bundle.held
        points = points * (~held[:, :, None] & ~held[:, None, :])
        ordered = np.empty_like(points)
        ordered[bundle.order] = points
        return Spread(cameras, across, ordered, border)

    # From the residuals
    # -----------------------------------------------------------------------------------

    def clustered(self, freedom: int, facts: Sequence[Row] = ()) -> Spread:
        """The covariances by the sandwich estimate, clustered by track, each fact for itself.

        freedom: observations and facts less unknowns, for the correction of small numbers. facts:
        the rows of those whose ± are to be part of it.
        """
        bundle = self.bundle
        frames, size, border_size = bundle.frames, self.size, bundle.border_size
        cameras = np.zeros((frames, size, size))
        across = np.zeros((frames, size, border_size))
        border = np.zeros((border_size, border_size))
        points = np.zeros((bundle.count, 3, 3))
        tracks = 0
        for first in range(0, bundle.count, AT_ONCE):
            last = min(first + AT_ONCE, bundle.count)
            by_camera, by_border = self._track_gradients(first, last)
            x_camera, x_border = self._solved_for(by_camera, by_border)
            tracks += last - first
            _add_squares(x_camera, x_border, cameras, across, border)
            self._add_points(x_camera, x_border, points)
        # A point's own gradient is zero at the optimum, whatever its errors: they count as
        # independent.
        factors = bundle.factors[: bundle.eliminated].T
        for axis, unit in enumerate(np.eye(3)):
            points[: bundle.eliminated, :, axis] += _solve_lower(factors, unit).T
        rows = 2 * len(bundle.camera)
        correction = tracks / max(tracks - 1, 1) * rows / max(freedom, 1)
        by_tracks = self._spread(cameras, across, border, points).widened(correction)
        return by_tracks.plus(self._by_facts(facts)) if facts else by_tracks

    def _by_facts(self, rows: Sequence[Row]) -> Spread:
        """What the errors of facts do, each with the variance that it says."""
        bundle = self.bundle
        cameras = np.zeros((bundle.frames, self.size, self.size))
        across = np.zeros((bundle.frames, self.size, bundle.border_size))
        border = np.zeros((bundle.border_size, bundle.border_size))
        points = np.zeros((bundle.count, 3, 3))
        for first in range(0, len(rows), AT_ONCE):
            x_camera, x_border, _ = self.responses(rows[first : first + AT_ONCE])
            _add_squares(x_camera, x_border, cameras, across, border)
            self._add_points(x_camera, x_border, points)
        return self._spread(cameras, across, border, points)

    def _track_gradients(self, first: int, last: int) -> tuple[Array, Array]:
        """Of each track its own gradient, its point eliminated: (F, size, k) and (m, k)."""
        bundle, blocks = self.bundle, self.blocks
        out = np.zeros((bundle.frames, self.size, last - first))
        border = np.zeros((bundle.border_size, last - first))
        residuals, by_camera, by_lens, by_point = self.derivatives(first, last)
        mine = slice(bundle.starts[first], bundle.starts[last])
        camera, track = bundle.camera[mine], bundle.point[mine] - first
        starts = bundle.starts[first : last + 1] - bundle.starts[first]
        own = _sums(np.einsum("nij,ni->nj", by_point, residuals), starts)
        lens = _sums(np.einsum("nij,ni->nj", by_lens, residuals), starts)
        # What the point takes up itself. Zero at the optimum, but for facts about this point alone;
        # of a tied one it is in the border.
        free = max(min(last, bundle.eliminated) - first, 0)
        taken = np.zeros_like(own)
        taken[:free] = _solve_lower(bundle.factors[first : first + free].T, own[:free].T).T
        lens -= np.einsum("pij,pj->pi", blocks.lens_point[first:last], taken)
        gradient = np.einsum("nij,ni->nj", by_camera, residuals)
        gradient -= np.einsum("nij,nj->ni", blocks.w[mine], taken[track])
        out[camera, :, track] = gradient
        border[:LENS_SIZE] = lens.T
        for k in range(free, last - first):
            at = LENS_SIZE + 3 * (first + k - bundle.eliminated)
            border[at : at + 3, k] = own[k]
        out *= bundle.freedom.cameras[:, :, None]
        border[~bundle.border_free] = 0
        return out, border

    def derivatives(self, first: int, last: int) -> tuple[Array, Array, Array, Array]:
        """Of the observations of some points: weighted residuals (n, 2), and derivatives by camera,
        lens and point."""
        bundle, state = self.bundle, self.bundle.state
        mine = slice(bundle.starts[first], bundle.starts[last])
        count = bundle.starts[last] - bundle.starts[first]
        r, by_camera = np.empty((count, 2)), np.empty((count, 2, 7))
        by_lens, by_point = np.empty((count, 2, LENS_SIZE)), np.empty((count, 2, 3))
        imaging.jacobians(
            bundle.camera[mine],
            bundle.point[mine],
            bundle.xy[mine],
            bundle.weights[mine],
            np.ascontiguousarray(state.rotations),
            np.ascontiguousarray(state.positions),
            state.zoom,
            state.lens,
            bundle.packed,
            imaging.limit2(state.lens),
            np.ascontiguousarray(state.points[bundle.order]),
            r,
            by_camera,
            by_lens,
            by_point,
        )
        by_point *= ~bundle.held[bundle.point[mine]][:, None, :]
        return r, by_camera[:, :, : self.size], by_lens, by_point

    def _solved_for(self, by_camera: Array, by_border: Array) -> tuple[Array, Array]:
        """N⁻¹ times right-hand sides: (F, size, k) and (m, k)."""
        groups = self.bundle.groups
        count = by_camera.shape[2]
        x = np.zeros((groups.tile_count * groups.per_tile, self.size, count))
        x[: self.bundle.frames] = by_camera
        x = x.reshape(groups.tile_count, groups.side, count)
        self.bundle.solve_cameras(x)
        right = by_border - np.einsum("tim,tik->mk", self.factored.border, x, optimize=True)
        border = self.rest_inverse @ right
        cameras = x - self.factored.solved @ border
        cameras = cameras.reshape(-1, self.size, count)[: self.bundle.frames]
        return cameras, border

    def _add_points(self, x_camera: Array, x_border: Array, points: Array) -> None:
        """Add what the solutions (…, k) of some tracks do to each point, squared, to `points` (P,
        3, 3)."""
        bundle, groups = self.bundle, self.bundle.groups
        x = np.zeros((groups.tile_count * groups.per_tile, self.size, x_camera.shape[2]))
        x[: bundle.frames] = x_camera
        x = x.reshape(groups.tile_count, groups.side, -1)
        x_lens = np.ascontiguousarray(x_border[:LENS_SIZE])
        with bundle.pool() as run:

            def part(first: int, last: int) -> float:
                elimination.add_point_squares(*self._of_groups(first, last), x, x_lens, points)
                return 0.0

            run(part, bundle.slices(len(groups.points), 4 * bundle.threads))
        for number in range(bundle.count - bundle.eliminated):
            at = LENS_SIZE + 3 * number
            step = x_border[at : at + 3]
            points[bundle.eliminated + number] += step @ step.T

    # Of a combination
    # -------------------------------------------------------------------------------------

    def products(self, rows: Sequence[Row]) -> Array:
        """(k, k) aᵀ N⁻¹ b for the derivatives a, b of some rows, by the normal matrix."""
        return self.responses(rows)[2]

    def responses(self, rows: Sequence[Row]) -> tuple[Array, Array, Array]:
        """N⁻¹ a for the derivatives a of some rows: cameras (F, size, k), border (m, k); and the
        products aᵀ N⁻¹ b (k, k)."""
        bundle, count = self.bundle, len(rows)
        by_camera = np.zeros((bundle.frames, self.size, count))
        border = np.zeros((bundle.border_size, count))
        own: list[tuple[int, int, Array, Array]] = []
        for k, row in enumerate(rows):
            if row.camera is not None and row.by_camera is not None:
                by_camera[row.camera, :, k] = row.by_camera[: self.size]
            border[:, k] = bundle.border_row(row)
            for index, point in enumerate(row.points):
                rank = int(bundle.rank[point])
                if rank >= bundle.eliminated:
                    continue  # it is part of the border
                slope = row.by_points[index] * ~bundle.freedom.held[point]
                taken = _solve_lower(bundle.factors[rank], slope)
                own.append((k, rank, slope, taken))
                mine = slice(bundle.starts[rank], bundle.starts[rank + 1])
                by_camera[bundle.camera[mine], :, k] -= self.blocks.w[mine] @ taken
                border[:LENS_SIZE, k] -= self.blocks.lens_point[rank] @ taken
        border[~bundle.border_free] = 0
        by_camera *= bundle.freedom.cameras[:, :, None]
        x_camera, x_border = self._solved_for(by_camera, border)
        out = np.einsum("fak,fam->km", by_camera, x_camera, optimize=True) + border.T @ x_border
        for k, rank, slope, _ in own:
            for other, other_rank, _, taken in own:
                if rank == other_rank:
                    out[k, other] += slope @ taken
        return x_camera, x_border, out


def _sums(values: Array, starts: Array) -> Array:
    """(n, k) the sums of rows (N, k) from each of the starts (n + 1,) to the next."""
    out = np.zeros((len(starts) - 1, values.shape[1]))
    some = starts[:-1] < starts[1:]
    out[some] = np.add.reduceat(values, starts[:-1][some], axis=0)
    return out


def _add_squares(
    x_camera: Array, x_border: Array, cameras: Array, across: Array, border: Array
) -> None:
    """Add what solutions (F, size, k) and (m, k) do, squared, to the blocks of a spread."""
    cameras += np.einsum("fak,fbk->fab", x_camera, x_camera, optimize=True)
    across += np.einsum("fak,mk->fam", x_camera, x_border, optimize=True)
    border += x_border @ x_border.T


def _solve_lower(factor: Array, right: Array) -> Array:
    """V⁻¹ times (3,) or (3, k), of the packed factor (6,) of V; or of k such factors (6, k), each
    times its own column, or all times the same (3,)."""
    l00, l10, l11, l20, l21, l22 = factor
    y0 = right[0] / l00
    y1 = (right[1] - l10 * y0) / l11
    y2 = (right[2] - l20 * y0 - l21 * y1) / l22
    x2 = y2 / l22
    x1 = (y1 - l21 * x2) / l11
    x0 = (y0 - l10 * x1 - l20 * x2) / l00
    return np.stack([x0, x1, x2])
