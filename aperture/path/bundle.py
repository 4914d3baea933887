"""Bundle adjustment: cameras, lens and points that explain all observations and facts best.

Minimised is the sum of squared residuals, each over its σ: of tracked points in the picture, and of
facts (`Row`). Levenberg–Marquardt on the reduced camera matrix (`normal`), damped after Nielsen
(1999), as the still matcher is. It stops on the Newton decrement, the sum of squares that a step is
expected to gain: below LEAST_GAIN every parameter is within a hundredth of its ± of the optimum. A
test of how little the sum changes from one step to the next isn't one: along a valley it stops far
from the end.

Parameters: per camera ω and position, and ln focal length where it changes over time; the lens's
PARAMETERS, and behind them as *border* the points that facts tie to others, and unknowns of facts.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.path import imaging
from aperture.path.imaging import LENS_SIZE, Optics
from aperture.path.normal import Blocks, NormalEquations
from aperture.path.problem import Facts, Freedom, Observations, Row, State, exponentials
from aperture.path.several import Run
from aperture.path.structure import Structure

# Of the sum of squares, in squared σ as the residuals have them.
LEAST_GAIN = 1e-4
# Where the entries of a symmetric 3 × 3 matrix lie among the six of its lower half.
LOWER_HALF = np.array([[0, 1, 3], [1, 2, 4], [3, 4, 5]])
# The first damping, and that of a solution that begins next to its optimum.
FIRST_DAMPING, NEAR_DAMPING = 1e-4, 1e-8
MOST_DAMPING = 1e6
# By what factor a point's distance changes at most in one step; and how much farther than the
# middle one a point may go.
MOST_FARTHER, FARTHEST = 5.0, 300.0
# How many times its own information a distance that is held gets.
HELD_FAST = 1e6
# Where a step gains less than so much of what it should, each point goes on to its own optimum, in
# so many steps, before the step is judged.
POOR_GAIN, OWN_STEPS, OWN_DAMPING, OWN_GAIN = 0.25, 3, 1e-6, 1e-3


class Bundle(NormalEquations):
    """The equations of one problem; `solve` moves its `state` to the optimum.

    Parameters
    ----------
    observations : Observations
    optics : Optics
    state : State
        Where to begin.
    freedom : Freedom
    facts : Facts, optional
    tied, threads, like
        As `NormalEquations` has them.
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
        like: Structure | None = None,
    ) -> None:
        super().__init__(observations, freedom, len(state.points), tied, threads, like)
        self.optics, self.packed = optics, optics.packed
        self.facts, self.state = facts, state
        self.straight: Array = np.asarray(freedom.held.any(axis=1))
        for row in self._rows(state):
            self.straight[list(row.points)] = True
        self.iterations = 0

    # Residuals
    # --------------------------------------------------------------------------------------------

    def residuals(self, state: State) -> tuple[Array, float]:
        """(N, 2) the weighted residuals in the order of the observations given, and the sum of
        squares, facts included."""
        with self.pool() as run:
            sorted_, total = self._residuals(state, run)
        return np.take(sorted_, self.unsorting, axis=0), total

    def off_px(self, state: State) -> Array:
        """(N, 2) px: the residuals without their weights, in the order of the observations
        given."""
        with self.pool() as run:
            off, _ = self._of_sightings(state, run)
        off[:, 0] /= self.weights[:, 0]
        off[:, 1] -= self.weights[:, 2] * off[:, 0]
        off[:, 1] /= self.weights[:, 1]
        return np.take(off, self.unsorting, axis=0)

    def _residuals(self, state: State, run: Run | None = None) -> tuple[Array, float]:
        out, total = self._of_sightings(state, run)
        for row in self._rows(state):
            total += row.residual**2
        return out, float(total)

    def _of_sightings(self, state: State, run: Run | None = None) -> tuple[Array, float]:
        """(N, 2) the weighted residuals of the sightings alone, sorted as they are kept, and the
        sum of their squares; `run`: as `pool` gives it."""
        out, at = np.empty((len(self.camera), 2)), self._at(state)

        def part(first: int, last: int) -> float:
            return imaging.residuals(first, last, *at, out)

        if run is None:
            return out, float(part(0, self.count))
        return out, float(sum(run(part, self.slices(self.count, 2 * self.threads))))

    def _at(self, state: State) -> tuple[Any, ...]:
        """What the kernels of `imaging` take of the sightings and a state."""
        return (
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
        )

    def _rows(self, state: State) -> Sequence[Row]:
        return self.facts.rows(state) if self.facts else ()

    def linearised(self, state: State, run: Run) -> Blocks:
        """The normal equations at a state; `run`: as `pool` gives it."""
        blocks = self._linearised_sightings(state, run)
        self._move_tied(blocks)
        for row in self._rows(state):
            self._add_row(blocks, row)
        return blocks

    def _linearised_sightings(self, state: State, run: Run) -> Blocks:
        """What the sightings alone give, the tied points among the others."""
        slices = list(self.slices(self.count, self.threads))
        by_cameras = np.zeros((len(slices), self.frames, self.size, imaging.ROW))
        by_lenses = np.zeros((len(slices), LENS_SIZE, imaging.ROW))
        v, point_gradient = np.zeros((self.count, 6)), np.zeros((self.count, 3))
        w = np.zeros((len(self.camera), self.size, 3))
        lens_point = np.zeros((self.count, LENS_SIZE, 3))
        at = self._at(state)

        def part(number: int, first: int, last: int) -> float:
            return imaging.linearise(
                first,
                last,
                *at,
                self.held,
                self.freedom.at_infinity,
                self.size,
                self.freedom.lens,
                v,
                point_gradient,
                w,
                lens_point,
                by_cameras[number],
                by_lenses[number],
            )

        chi2 = sum(run(part, [(number, a, b) for number, (a, b) in enumerate(slices)]))
        of_points = {"v": v, "point_gradient": point_gradient, "w": w, "lens_point": lens_point}
        return self._blocks(float(chi2), by_cameras.sum(axis=0), by_lenses.sum(axis=0), of_points)

    def _blocks(
        self, chi2: float, cameras: Array, lenses: Array, of_points: dict[str, Array]
    ) -> Blocks:
        """From the sums that `imaging.linearise` fills: cameras (F, size, ROW), lenses (LENS_SIZE,
        ROW)."""
        of_lens = slice(imaging.OF_LENS, imaging.RESIDUAL)
        blocks = Blocks(
            chi2=chi2,
            u=np.ascontiguousarray(cameras[:, :, : self.size]),
            camera_gradient=cameras[:, :, imaging.RESIDUAL].copy(),
            border=np.zeros((self.frames, self.size, self.border_size)),
            corner=np.zeros((self.border_size, self.border_size)),
            border_gradient=np.zeros(self.border_size),
            **of_points,
        )
        blocks.border[:, :, :LENS_SIZE] = cameras[:, :, of_lens]
        blocks.corner[:LENS_SIZE, :LENS_SIZE] = lenses[:, of_lens]
        blocks.border_gradient[:LENS_SIZE] = lenses[:, imaging.RESIDUAL]
        return blocks

    def _move_tied(self, blocks: Blocks) -> None:
        """Put the blocks of the tied points into the border."""
        for number, point in enumerate(range(self.eliminated, self.count)):
            at = slice(LENS_SIZE + 3 * number, LENS_SIZE + 3 * number + 3)
            blocks.corner[at, at] += blocks.v[point, LOWER_HALF]
            blocks.corner[:LENS_SIZE, at] += blocks.lens_point[point]
            blocks.corner[at, :LENS_SIZE] += blocks.lens_point[point].T
            blocks.border_gradient[at] += blocks.point_gradient[point]
            mine = slice(self.starts[point], self.starts[point + 1])
            blocks.border[self.camera[mine], :, at] += blocks.w[mine]

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

    def _add_row(self, blocks: Blocks, row: Row) -> None:
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

    # Steps
    # ----------------------------------------------------------------------------------------------

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
            places = self._stepped(state, moved, cameras[self.seen_from, 3:6])
        return State(
            state.rotations @ exponentials(cameras[:, :3]),
            state.positions + cameras[:, 3:6],
            zoom,
            state.lens + border[:LENS_SIZE],
            places,
            state.extra + border[extra_from:],
        )

    def _stepped(self, state: State, step: Array, shift: Array) -> Array:
        """(P, 3) the points after a step (P, 3), taken in direction and inverse distance from a
        camera that sees them, which has gone on by `shift` (P, 3).

        The sum of squares is nearly a parabola over the inverse distance (Civera, Davison and
        Montiel 2008), and not at all one over the distance of a point whose rays hardly differ:
        along it no end is found. To first order both steps are the same. Points that are held, or
        that facts are about, go straight.
        """
        from_, ray, distance, farthest = self._rays(state)
        own = step - shift
        along = np.einsum("pi,pi->p", own, ray)[:, None]
        turned = ray + (own - along * ray) / distance
        turned /= np.linalg.norm(turned, axis=1, keepdims=True)
        inverse = np.clip(1 - along / distance, 1 / MOST_FARTHER, MOST_FARTHER)
        farther = np.minimum(distance / inverse, np.maximum(farthest, distance))
        places = from_ + shift + turned * farther
        places[self.straight] = (state.points + step)[self.straight]
        return places

    def _settled(self, state: State, run: Run) -> State:
        """A state whose points are at their own optima, or nearer to them by a few steps.

        A point just before the lens turns so fast as the camera moves that for its sake alone no
        step of the cameras would be taken, and many films have one: a track that slid.
        """
        if self.freedom.at_infinity:
            return state
        free = ~self.straight[self.order]
        free[self.eliminated :] = False
        before = self._by_point(state)
        for _ in range(OWN_STEPS):
            blocks = self._linearised_sightings(state, run)
            information = blocks.v[free][:, LOWER_HALF]
            own = np.einsum("pii->pi", information)
            own += OWN_DAMPING * own + 1e-30
            gradient = blocks.point_gradient[free][:, :, None]
            step = np.zeros((self.count, 3))
            step[self.order[free]] = -np.linalg.solve(information, gradient)[:, :, 0]
            trial = replace(state, points=self._stepped(state, step, np.zeros_like(step)))
            after = self._by_point(trial)
            better = free & (after < before)
            won = float((before - after)[better].sum())
            to_take = np.zeros(self.count, bool)
            to_take[self.order] = better
            points = np.where(to_take[:, None], trial.points, state.points)
            state, before = replace(state, points=points), np.where(better, after, before)
            if won < OWN_GAIN:
                break
        return state

    def _by_point(self, state: State) -> Array:
        """(P,) the sum of squares of each point's sightings, in their order of elimination."""
        squares = (self._of_sightings(state)[0] ** 2).sum(axis=1)
        return np.bincount(self.point, squares, self.count)

    def _rays(self, state: State) -> tuple[Array, Array, Array, float]:
        """Of each point a camera that sees it (P, 3), the ray to it (P, 3), its distance (P, 1),
        and the farthest that is told apart."""
        from_ = state.positions[self.seen_from]
        away = state.points - from_
        distance = np.maximum(np.linalg.norm(away, axis=1, keepdims=True), 1e-12)
        farthest = FARTHEST * float(np.median(distance)) if len(distance) else np.inf
        return from_, away / distance, distance, farthest

    def _to_step_from(self, state: State, run: Run) -> Blocks:
        blocks = self.linearised(state, run)
        if not self.freedom.at_infinity:
            self._keep_farthest(state, blocks)
        return blocks

    def _keep_farthest(self, state: State, blocks: Blocks) -> None:
        """Hold the distance of points that are as far as can be and would go farther: no step along
        it can be taken."""
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
        damping: float = FIRST_DAMPING,
    ) -> float:
        """Move `state` to the optimum, in `most` steps; returns the sum of squares there.

        damping: of the first step; less than usual where it begins next to the optimum.

        Raises Problem where the equations can't be solved at all.
        """
        self.converged = False
        if not most:
            self.chi2 = self._residuals(self.state)[1]
            return self.chi2
        with self.pool() as run, np.errstate(all="ignore"):
            blocks = self._to_step_from(self.state, run)
            if not np.isfinite(blocks.chi2) or blocks.chi2 >= imaging.IMPOSSIBLE * 1e6:
                raise Problem("The first guess at this path can't be computed with.")
            growth = 2.0
            per_residual = max(1.0, blocks.chi2 / max(2 * len(self.camera), 1))
            for self.iterations in range(1, most + 1):
                if watch:
                    watch(self.iterations, blocks.chi2)
                factored = self.factored(blocks, damping, run)
                gain = -1.0
                if factored is not None:
                    step = self.step(blocks, factored)
                    predicted = self.predicted(blocks, damping, *step)
                    trial = self.moved(self.state, *step)
                    if np.isfinite(predicted) and predicted > 0:
                        gain = (blocks.chi2 - self._residuals(trial, run)[1]) / predicted
                        if not gain >= POOR_GAIN and predicted > least_gain * per_residual:
                            trial = self._settled(trial, run)
                            gain = (blocks.chi2 - self._residuals(trial, run)[1]) / predicted
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
            self.chi2 = self._residuals(self.state, run)[1]
        return self.chi2

    def point_information(self) -> Array:
        """(P, 3, 3) of each point what its sightings, and facts about it alone, tell, the cameras
        taken as exact."""
        with self.pool() as run:
            v = self.linearised(self.state, run).v
        out = np.empty((len(v), 3, 3))
        out[self.order] = v[:, LOWER_HALF]
        return out
