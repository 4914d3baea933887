"""The ± of a solved path as its residuals have it.

Errors along a track are not independent: a template that lies a little beside its point, a
reflection that slides, a patch that is seen ever more obliquely err alike on neighbouring frames.
The sandwich estimate, clustered by track (Liang and Zeger 1986; White 1980; cited from memory),
takes the residuals as they are,

    N⁻¹ (Σ_t g_t g_tᵀ + Σ_f a_f a_fᵀ) N⁻¹,        g_t = Σ of Jᵀ r over the track t's observations,

and is right however the errors of one track hang together, as long as tracks are independent. A
fact is a cluster of its own, a_f being its derivatives over its σ: one residual tells nothing of
its variance, so the one that it says is taken. The sum's own uncertainty is that of a variance
estimated from as many samples as there are tracks, so it is used for what many tracks determine.

Two things the residuals can't tell. A track that a fact is about leads the solution, which follows
its errors: little of them is left. And a point's own gradient is zero, whatever its errors. Both
are computed with what all tracks tell of how errors drift (`drift`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from functools import partial

import numpy as np

from aperture.arrays import Array
from aperture.path import drift as drifts
from aperture.path.covariance import Solved, solve_lower
from aperture.path.drift import Drift
from aperture.path.imaging import LENS_SIZE
from aperture.path.problem import Row
from aperture.path.spread import Spread

# What makes the gradients of some errors: by the cameras (F, size, k) and by the border (m, k).
Errors = Callable[[], tuple[Array, Array]]
# How many right-hand sides are solved at once.
AT_ONCE = 128
# So many tracks that facts are about are given their drift, those seen longest.
MOST_LEADING = 12
# The least share of the tracks' errors that is taken to be left by the cameras.
LEAST_LEFT = 0.05


def drift_of(solved: Solved) -> Drift:
    """How the errors of a track hang together, by the tracks that no fact is about.

    Where these are too few, as where all tracks are surveyed, by all of them: few tracks leave the
    cameras to take up a good share of their errors, of every lag about alike, by which what is left
    is told larger.
    """
    bundle = solved.bundle
    which = np.flatnonzero(~bundle.straight[bundle.order])
    larger, fewest = 1.0, drifts.FEWEST_TRACKS
    if len(which) < fewest:
        which, fewest = np.arange(bundle.count), drifts.FEWEST_OF_ALL
        unknowns = int(bundle.freedom.cameras.sum() + bundle.freedom.lens.sum())
        taken_up = unknowns / max(2 * len(bundle.camera), 1)
        larger = 1 / np.sqrt(max(1 - taken_up, LEAST_LEFT))
    seen = np.diff(bundle.starts)[which]
    some = which[np.argsort(-seen, kind="stable")[: drifts.MOST_TRACKS]]

    def one(rank: int) -> tuple[Array, Array, Array]:
        residuals, _, _, by_point = solved.derivatives(rank, rank + 1)
        mine = slice(bundle.starts[rank], bundle.starts[rank + 1])
        return bundle.camera[mine].astype(int), larger * residuals, by_point

    return drifts.estimated([one(int(rank)) for rank in some], fewest)


def clustered(
    solved: Solved, freedom: int, facts: Sequence[Row] = (), drift: Drift | None = None
) -> Spread:
    """The covariances by the sandwich estimate, clustered by track, each fact for itself.

    freedom: observations and facts less unknowns, for the correction of small numbers. facts:
    the rows of those whose ± are to be part of it. drift: of the tracks' errors; None: they
    are independent where the residuals can't tell.
    """
    errors, bundle = _Errors(solved), solved.bundle
    count, rows = bundle.count, 2 * len(bundle.camera)
    leading = errors.leading(facts) if drift else np.zeros(0, int)
    correction = count / max(count - 1, 1) * rows / max(freedom, 1)
    parts = [(correction, part) for part in errors.of_tracks(leading)]
    parts += [(1.0, part) for part in errors.of_drift(leading, drift)] if drift else []
    parts += [(1.0, part) for part in errors.of_facts(facts)]
    own = errors.own_of_points(drift) if drift else errors.own_of_points().widened(correction)
    return errors.squares(parts).plus(own)


class _Errors:
    """What the errors of tracks and facts do to a solved bundle."""

    def __init__(self, solved: Solved) -> None:
        self.solved, self.bundle, self.size = solved, solved.bundle, solved.size

    def leading(self, facts: Sequence[Row]) -> Array:
        """The ranks of the tracks that facts are about, MOST_LEADING of them at most."""
        bundle = self.bundle
        about = {int(bundle.rank[point]) for row in facts for point in row.points}
        ranks = np.array(sorted(about), int)
        seen = np.diff(bundle.starts)[ranks]
        return ranks[np.argsort(-seen, kind="stable")[:MOST_LEADING]]

    def squares(self, errors: Iterable[tuple[float, Errors]]) -> Spread:
        """The squares of what errors do, each part times a factor, added up."""
        bundle, size = self.bundle, self.size
        cameras = np.zeros((bundle.frames, size, size))
        across = np.zeros((bundle.frames, size, bundle.border_size))
        border = np.zeros((bundle.border_size, bundle.border_size))
        points = np.zeros((bundle.count, 3, 3))

        def squared(factor: float, part: Errors) -> list[Array]:
            return [factor * one for one in self._squared(*part())]

        with bundle.pool() as run:
            for found in run(squared, errors):
                for total, more in zip((cameras, across, border, points), found):
                    total += more
        return self.solved.spread_of(cameras, across, border, points)

    def _squared(self, by_camera: Array, by_border: Array) -> tuple[Array, ...]:
        """Of some errors together: cameras (F, size, size), across (F, size, m), border (m, m) and
        points (P, 3, 3)."""
        x_camera, x_border = self.solved.solved_for(by_camera, by_border)
        return (
            np.einsum("fak,fbk->fab", x_camera, x_camera, optimize=True),
            np.einsum("fak,mk->fam", x_camera, x_border, optimize=True),
            x_border @ x_border.T,
            self.solved.squares_of_points(x_camera, x_border),
        )

    def of_facts(self, rows: Sequence[Row]) -> Iterator[Errors]:
        """The errors of facts, each as large as it says."""
        for first in range(0, len(rows), AT_ONCE):
            yield partial(self._by_facts, rows[first : first + AT_ONCE])

    def _by_facts(self, rows: Sequence[Row]) -> tuple[Array, Array]:
        return self.solved.gradients_of_rows(rows)[:2]

    def of_tracks(self, leading: Array) -> Iterator[Errors]:
        """The errors of tracks, as their residuals have them; but of those leading."""
        for first in range(0, self.bundle.count, AT_ONCE):
            yield partial(self._by_tracks, leading, first, min(first + AT_ONCE, self.bundle.count))

    def _by_tracks(self, leading: Array, first: int, last: int) -> tuple[Array, Array]:
        by_camera, by_border = self._track_gradients(first, last)
        others = leading[(leading >= first) & (leading < last)] - first
        by_camera[:, :, others] = 0
        by_border[:, others] = 0
        return by_camera, by_border

    def of_drift(self, leading: Array, drift: Drift) -> Iterator[Errors]:
        """The errors of the tracks that lead, if they are as those of all others."""
        at_once = max(AT_ONCE // (2 * drifts.MODES), 1)
        for first in range(0, len(leading), at_once):
            yield partial(self._by_drift, leading[first : first + at_once], drift)

    def _by_drift(self, leading: Array, drift: Drift) -> tuple[Array, Array]:
        parts = []
        for rank in leading.tolist():
            mine = slice(self.bundle.starts[rank], self.bundle.starts[rank + 1])
            modes = drift.modes(self.bundle.camera[mine].astype(int))
            errors = np.zeros((len(modes), 2, 2 * modes.shape[1]))
            errors[:, 0, : modes.shape[1]] = errors[:, 1, modes.shape[1] :] = modes
            parts.append(self._gradients_of(rank, errors))
        by_camera, by_border = (np.concatenate(part, axis=-1) for part in zip(*parts))
        return by_camera, by_border

    def own_of_points(self, drift: Drift | None = None) -> Spread:
        """What the errors of its own track do to each point while the cameras stand; nothing where
        it is part of the border."""
        bundle, free = self.bundle, slice(0, self.bundle.eliminated)
        factors = bundle.factors[free].T
        own = np.zeros((bundle.count, 3, 3))
        for axis, unit in enumerate(np.eye(3)):
            own[free, :, axis] = solve_lower(factors, unit).T
        if drift:
            more = replace(drift, fresh=drift.fresh - 1)
            for first, last in bundle.slices(bundle.eliminated, 1 + bundle.eliminated // AT_ONCE):
                mine = slice(bundle.starts[first], bundle.starts[last])
                starts = bundle.starts[first : last + 1] - bundle.starts[first]
                by_point = self.solved.derivatives(first, last)[3]
                beyond = drifts.of_points(starts, bundle.camera[mine], by_point, more)
                own[first:last] += own[first:last] @ beyond @ own[first:last]
        nothing = np.zeros((bundle.frames, self.size, self.size))
        across = np.zeros((bundle.frames, self.size, bundle.border_size))
        return self.solved.spread_of(nothing, across, np.zeros((bundle.border_size,) * 2), own)

    def _track_gradients(self, first: int, last: int) -> tuple[Array, Array]:
        """Of each track its own gradient, its point eliminated: (F, size, k) and (m, k)."""
        bundle, blocks = self.bundle, self.solved.blocks
        out = np.zeros((bundle.frames, self.size, last - first))
        border = np.zeros((bundle.border_size, last - first))
        residuals, by_camera, by_lens, by_point = self.solved.derivatives(first, last)
        mine = slice(bundle.starts[first], bundle.starts[last])
        camera, track = bundle.camera[mine], bundle.point[mine] - first
        starts = bundle.starts[first : last + 1] - bundle.starts[first]
        own = _sums(np.einsum("nij,ni->nj", by_point, residuals), starts)
        lens = _sums(np.einsum("nij,ni->nj", by_lens, residuals), starts)
        # What the point takes up itself. Zero at the optimum, but for facts about this point alone;
        # of a tied one it is in the border.
        free = max(min(last, bundle.eliminated) - first, 0)
        taken = np.zeros_like(own)
        taken[:free] = solve_lower(bundle.factors[first : first + free].T, own[:free].T).T
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

    def _gradients_of(self, rank: int, errors: Array) -> tuple[Array, Array]:
        """What errors (n, 2, k) of one track's sightings, over their σ, would make of its own
        gradient, its point eliminated: (F, size, k) and (m, k)."""
        bundle, blocks = self.bundle, self.solved.blocks
        mine = slice(bundle.starts[rank], bundle.starts[rank + 1])
        _, by_camera, by_lens, by_point = self.solved.derivatives(rank, rank + 1)
        own = np.einsum("nij,nik->jk", by_point, errors)
        border = np.zeros((bundle.border_size, errors.shape[2]))
        border[:LENS_SIZE] = np.einsum("nij,nik->jk", by_lens, errors)
        gradient = np.einsum("nij,nik->njk", by_camera, errors)
        if rank < bundle.eliminated:
            taken = solve_lower(bundle.factors[rank], own)
            border[:LENS_SIZE] -= blocks.lens_point[rank] @ taken
            gradient -= blocks.w[mine] @ taken
        else:
            at = LENS_SIZE + 3 * (rank - bundle.eliminated)
            border[at : at + 3] = own
        out = np.zeros((bundle.frames, self.size, errors.shape[2]))
        out[bundle.camera[mine]] = gradient
        out *= bundle.freedom.cameras[:, :, None]
        border[~bundle.border_free] = 0
        return out, border


def _sums(values: Array, starts: Array) -> Array:
    """(n, k) the sums of rows (N, k) from each of the starts (n + 1,) to the next."""
    out = np.zeros((len(starts) - 1, values.shape[1]))
    some = starts[:-1] < starts[1:]
    out[some] = np.add.reduceat(values, starts[:-1][some], axis=0)
    return out
