"""The ± of a solved path.

If every σ is true and errors are independent, the covariance is the inverse of the normal matrix.
It is needed for each camera by itself, for each point by itself and for the lens: the *selected*
inverse (`tiles`), from which the points follow (Triggs et al. 2000, section 9.4).

What `clustering` tells is the ± as the residuals have it. Both are computed; the larger one is
the ±.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property
from itertools import groupby
from operator import itemgetter
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.path import elimination, imaging, tiles
from aperture.path.bundle import Bundle
from aperture.path.imaging import LENS_SIZE
from aperture.path.normal import Blocks, Factored
from aperture.path.problem import Row
from aperture.path.spread import Spread

# The derivatives of so many sightings are kept, 250 bytes each: most of what asks, asks for all.
MOST_KEPT = 200_000
# Points at the end of what can be told apart may make the matrix singular along their rays: then it
# is damped by as little as helps, a share of its diagonal.
DAMPINGS = (0.0, 1e-12, 1e-10, 1e-8)


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
        return self.spread_of(self._camera_blocks(inverse), flat, self.rest_inverse, points)

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

    def spread_of(self, cameras: Array, across: Array, border: Array, points: Array) -> Spread:
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

    # For others that ask
    # ----------------------------------------------------------------------------------

    def derivatives(self, first: int, last: int) -> tuple[Array, Array, Array, Array]:
        """Of the observations of some points: weighted residuals (n, 2), and derivatives by camera
        (n, 2, size), lens and point; not to be written to."""
        if len(self.bundle.camera) > MOST_KEPT:
            return self._derivatives(first, last)
        mine = slice(self.bundle.starts[first], self.bundle.starts[last])
        r, by_camera, by_lens, by_point = self._all_derivatives
        return r[mine], by_camera[mine], by_lens[mine], by_point[mine]

    def summed(self, kernel: Callable[..., None], *more: Any) -> Array:
        """(P,) what a kernel of `shares` makes of each point's sightings, in their order of
        elimination, with what else it takes."""
        bundle, total = self.bundle, np.zeros(self.bundle.count)
        of_sightings = map(np.ascontiguousarray, self.derivatives(0, bundle.count)[1:])
        given = (bundle.starts, bundle.camera, *of_sightings, *more, total)

        def part(first: int, last: int) -> None:
            kernel(first, last, *given)

        with bundle.pool() as run:
            run(part, bundle.slices(bundle.count, 4 * bundle.threads))
        return total

    @cached_property
    def _all_derivatives(self) -> tuple[Array, ...]:
        bundle = self.bundle
        with bundle.pool() as run:
            parts: dict[int, tuple[Array, ...]] = {}

            def part(first: int, last: int) -> float:
                parts[first] = self._derivatives(first, last)
                return 0.0

            run(part, bundle.slices(bundle.count, bundle.threads))
        ordered = [parts[first] for first in sorted(parts)] or [self._derivatives(0, 0)]
        return tuple(np.concatenate(kind) for kind in zip(*ordered))

    def _derivatives(self, first: int, last: int) -> tuple[Array, Array, Array, Array]:
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

    def solved_for(self, by_camera: Array, by_border: Array) -> tuple[Array, Array]:
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

    def squares_of_points(self, x_camera: Array, x_border: Array) -> Array:
        """(P, 3, 3) what the solutions (…, k) of some errors do to each point, squared."""
        bundle, groups = self.bundle, self.bundle.groups
        out = np.zeros((bundle.count, 3, 3))
        x = np.zeros((groups.tile_count * groups.per_tile, self.size, x_camera.shape[2]))
        x[: bundle.frames] = x_camera
        x = x.reshape(groups.tile_count, groups.side, -1)
        x_lens = np.ascontiguousarray(x_border[:LENS_SIZE])
        all_ = self._of_groups(0, len(groups.points))
        elimination.add_point_squares(*all_, x, x_lens, out)
        for number in range(bundle.count - bundle.eliminated):
            at = LENS_SIZE + 3 * number
            step = x_border[at : at + 3]
            out[bundle.eliminated + number] += step @ step.T
        return out

    # Of a combination
    # -------------------------------------------------------------------------------------

    def products(self, rows: Sequence[Row]) -> Array:
        """(k, k) aᵀ N⁻¹ b for the derivatives a, b of some rows, by the normal matrix."""
        return self.responses(rows)[2]

    def responses(self, rows: Sequence[Row]) -> tuple[Array, Array, Array]:
        """N⁻¹ a for the derivatives a of some rows: cameras (F, size, k), border (m, k); and the
        products aᵀ N⁻¹ b (k, k)."""
        by_camera, border, own = self.gradients_of_rows(rows)
        x_camera, x_border = self.solved_for(by_camera, border)
        out = np.einsum("fak,fam->km", by_camera, x_camera, optimize=True) + border.T @ x_border
        by_rank = sorted(own, key=itemgetter(1))
        for _, group in groupby(by_rank, key=itemgetter(1)):
            about = list(group)  # all that is about one point
            which = [k for k, *_ in about]
            slopes, taken = (np.array([one[part] for one in about]) for part in (2, 3))
            np.add.at(out, np.ix_(which, which), slopes @ taken.T)
        return x_camera, x_border, out

    def gradients_of_rows(
        self, rows: Sequence[Row]
    ) -> tuple[Array, Array, list[tuple[int, int, Array, Array]]]:
        """The derivatives of some rows, their points eliminated: (F, size, k) and (m, k); and of
        each eliminated point that a row k is about (k, its rank, the derivative by it (3,), V⁻¹
        times that)."""
        bundle, count = self.bundle, len(rows)
        by_camera = np.zeros((count, bundle.frames, self.size))
        border = np.zeros((bundle.border_size, count))
        own: list[tuple[int, int, Array, Array]] = []
        for k, row in enumerate(rows):
            if row.camera is not None and row.by_camera is not None:
                by_camera[k, row.camera] = row.by_camera[: self.size]
            border[:, k] = bundle.border_row(row)
            for index, point in enumerate(row.points):
                rank = int(bundle.rank[point])
                if rank >= bundle.eliminated:
                    continue  # it is part of the border
                slope = row.by_points[index] * ~bundle.freedom.held[point]
                taken = solve_lower(bundle.factors[rank], slope)
                own.append((k, rank, slope, taken))
                mine = slice(bundle.starts[rank], bundle.starts[rank + 1])
                by_camera[k, bundle.camera[mine]] -= self.blocks.w[mine] @ taken
                border[:LENS_SIZE, k] -= self.blocks.lens_point[rank] @ taken
        border[~bundle.border_free] = 0
        by_camera *= bundle.freedom.cameras
        return np.ascontiguousarray(np.moveaxis(by_camera, 0, 2)), border, own


def solve_lower(factor: Array, right: Array) -> Array:
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
