"""Levenberg–Marquardt on a System, and what its Jacobian says about the ± of everything.

Damping after Nielsen (1999), "Damping parameter in Marquardt's method", IMM-REP-1999-05; scaling of
the columns after Moré (1978). Both cited from memory.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from aperture.arrays import Array
from aperture.match.effort import spend
from aperture.match.statistics import chi2_tail
from aperture.match.system import State, System

# A direction in parameter space counts as undetermined when it changes the residuals less than this
# share of the strongest direction, columns scaled to unit length. Rounding gives 1e-14; the weakest
# real evidence about 1e-6.
NULL_SHARE = 1e-9
# Condition of the normal matrix up to which nothing is near to undetermined, and its inverse is
# good to six digits and more.
WELL_KNOWN = 1e9
# Probability of a sum of squares as large by chance, below which the stated ± are taken for too
# small. Of documents with true ± one in a hundred is widened a little for nothing.
MISFIT = 0.01


@dataclass(frozen=True)
class Optimum:
    """Where the iteration ended: chi2 is the sum of squared weighted residuals r (M,), J its
    Jacobian (M, size).

    `rival`: another state that explains the evidence about as well, where one was met on the way.
    """

    state: State
    chi2: float
    r: Array
    jacobian: Array
    iterations: int
    converged: bool
    rival: State | None = None

    @cached_property
    def spread(self) -> Spread:
        """The ± of the parameters here, if every stated ± is true."""
        return spread_of(self.jacobian)

    @cached_property
    def freedom(self) -> int:
        """Degrees of freedom: equations beyond what the unknowns take up."""
        rows, unknowns = self.jacobian.shape
        return rows - unknowns + self.spread.null.shape[1]

    @property
    def variance_factor(self) -> float | None:
        """The weighted sum of squares over the degrees of freedom, 1 where every ± is true."""
        return self.chi2 / self.freedom if self.freedom > 0 else None

    @property
    def widening(self) -> float:
        """By what all variances are multiplied: `variance_factor` where it is significant, or 1.

        The residuals are then larger than the stated ± explain, and so are the errors of what was
        solved from them (the a-posteriori variance of unit weight; Mikhail 1976, "Observations and
        Least Squares", cited from memory).
        """
        factor = self.variance_factor
        if factor is None or factor <= 1:
            return 1.0
        return factor if chi2_tail(self.chi2, self.freedom) < MISFIT else 1.0

    @cached_property
    def wide_spread(self) -> Spread:
        """The ± of the parameters here, widened where the residuals are larger than they say."""
        return Spread(self.spread.covariance * self.widening, self.spread.null)


def minimise(
    system: System, start: State, most: int = 60, tolerance: float = 1e-7
) -> Optimum | None:
    """Refine `start`; None where it cannot even be evaluated (a spot behind the camera).

    Where the `effort` allowed is used up, the best so far, not converged.
    """
    with np.errstate(all="ignore"):
        r, jac = system.evaluate(start)
        if not (np.isfinite(r).all() and np.isfinite(jac).all()):
            return None
        state, chi2, damping, growth, tries = start, float(r @ r), 1e-4, 2.0, 0
        scale = np.zeros(system.size)
        for iteration in range(1, most + 1):
            normal, gradient = jac.T @ jac, jac.T @ r
            scale = np.maximum(scale, np.sqrt(np.diag(normal)))
            safe = np.where(scale > 0, scale, 1.0)
            scaled, downhill = normal / (safe * safe[:, None]), gradient / safe
            diagonal = np.einsum("ii->i", scaled)  # a view
            undamped = diagonal.copy()
            while True:
                if not spend(len(r), system.size, state.lens.distorts):
                    return Optimum(state, chi2, r, jac, iteration, False)
                diagonal[:] = undamped + damping
                try:
                    step = -np.linalg.solve(scaled, downhill) / safe
                except np.linalg.LinAlgError:
                    step = np.full(system.size, np.nan)
                predicted = -(2 * gradient + normal @ step) @ step
                if predicted <= tolerance * (1 + 1e-3 * chi2):
                    # So short a step is taken on trust: what it leaves is of the second order of
                    # what `tolerance` allows.
                    if 0 < predicted and np.isfinite(step).all():
                        state, r = system.moved(state, step), r + jac @ step
                        chi2 = float(chi2 - predicted)
                    return Optimum(state, chi2, r, jac, iteration, True)
                trial = _try(system, state, step)
                if trial is not None and (gain := (chi2 - trial[1]) / predicted) > 1e-4:
                    state, chi2, r, jac = trial
                    damping *= max(1 / 9, float(1 - (2 * gain - 1) ** 3))
                    growth = 2.0
                    break
                damping *= growth
                growth *= 2
                tries += 1
                if (
                    damping > 1e12 or tries > most
                ):  # a start from which so much goes wrong leads nowhere
                    return Optimum(state, chi2, r, jac, iteration, False)
            damping = max(damping, 1e-12)
    return Optimum(state, chi2, r, jac, most, False)


def _try(system: System, state: State, step: Array) -> tuple[State, float, Array, Array] | None:
    if not np.isfinite(step).all() or np.abs(step[system.at["rotation"]]).max() > 1.5:
        return None
    if 0 in system.free_lens and abs(step[system.at["lens"]][0]) > 1.5:
        return None
    trial = system.moved(state, step)
    if not 1e-6 < trial.lens.focal_mm / system.grid.gate_mm[1] < 1e6:
        return None
    r, jac = system.evaluate(trial)
    chi2 = float(r @ r)
    if not np.isfinite(chi2) or not np.isfinite(jac).all():
        return None
    return trial, chi2, r, jac


@dataclass(frozen=True)
class Spread:
    """covariance (size, size) of the parameters within what is determined; null (size, K):
    directions that are not."""

    covariance: Array
    null: Array

    def determined(self, rows: Array) -> bool:
        """Whether the linear quantities rows (Q, size) are all free of the undetermined
        directions."""
        rows = np.atleast_2d(rows)
        if not self.null.shape[1]:
            return True
        reach = np.abs(rows @ self.null).max(axis=1)
        return bool((reach <= 1e-5 * np.abs(rows).max(axis=1).clip(1e-30)).all())

    def plus_minus(self, rows: Array) -> Array:
        """(Q,) standard deviations of the linear quantities rows (Q, size)."""
        rows = np.atleast_2d(rows)
        return np.sqrt(((rows @ self.covariance) * rows).sum(axis=1).clip(0))


def spread_of(jacobian: Array) -> Spread:
    """Covariance and null space from the singular values of the column-scaled Jacobian."""
    norms = np.linalg.norm(jacobian, axis=0)
    safe = np.where(norms > 1e-12, norms, 1.0)
    if (norms > 1e-12).all() and len(jacobian) >= jacobian.shape[
        1
    ]:  # where nothing is near to open, the inverse will do, and is much quicker
        scaled = jacobian / safe
        normal = scaled.T @ scaled
        try:
            inverse = _inverse(normal)
        except np.linalg.LinAlgError:
            inverse = None
        if (
            inverse is not None
            and np.abs(normal).sum(axis=0).max() * np.abs(inverse).sum(axis=0).max() < WELL_KNOWN
        ):
            return Spread(
                (inverse + inverse.T) / (2 * safe * safe[:, None]), np.zeros((jacobian.shape[1], 0))
            )
    _, singular, vt = np.linalg.svd(jacobian / safe, full_matrices=False)
    if len(singular) < jacobian.shape[1]:  # fewer rows than unknowns
        full = np.linalg.svd(jacobian / safe, full_matrices=True)[2]
        vt, singular = full, np.concatenate([singular, np.zeros(jacobian.shape[1] - len(singular))])
    good = singular > NULL_SHARE * max(singular.max(initial=0.0), 1e-300)
    basis = vt[good] / singular[good, None] / safe
    null = (vt[~good] / safe).T
    lengths = np.linalg.norm(null, axis=0)
    return Spread(basis.T @ basis, null / np.where(lengths > 0, lengths, 1))


def _inverse(normal: Array) -> Array:
    """The inverse of a symmetric positive matrix, by halves: twice as quick as the general one at
    the size of a large match."""
    half = len(normal) // 2
    if half < 32:
        return np.linalg.inv(normal)
    a, b = _inverse(normal[:half, :half]), normal[:half, half:]
    across = a @ b
    rest = _inverse(normal[half:, half:] - b.T @ across)
    out, corner = np.empty_like(normal), across @ rest
    out[:half, :half], out[half:, half:] = a + corner @ across.T, rest
    out[:half, half:], out[half:, :half] = -corner, -corner.T
    return out


def fix_gauge(spread: Spread, free_direction: Array, gauge: Array) -> Spread:
    """The spread once the undetermined `free_direction` (size,) is pinned by holding `gauge` ·
    parameters fixed.

    An S-transformation (Baarda 1973, "S-transformations and criterion matrices"; cited from
    memory).
    """
    transform = np.eye(len(gauge)) - np.outer(free_direction, gauge) / (gauge @ free_direction)
    null = transform @ spread.null
    # Keep what is still free: the pinned direction is gone.
    u, singular, _ = np.linalg.svd(null, full_matrices=False)
    return Spread(transform @ spread.covariance @ transform.T, u[:, singular > 1e-6])
