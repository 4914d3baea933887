"""A fit that may leave marks out: for plates where some marks are simply on the wrong thing.

Least squares shares a blunder out over all marks. So the marks are first weighed down by how far
they lie off, as if their errors had the heavy tails of Student's t (Lange, Little & Taylor 1989,
"Robust statistical modeling using the t distribution"; cited from memory):

    w = (ν + p) / (ν + Σ r²)       for a mark with p weighted residuals r

Those that are far off by then are left out, the rest is solved by plain least squares, and each of
them is tried again: a mark stays out only where taking it back would contradict the others. What
the artist measured, the facts, is never left out.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.arrays import Array
from aperture.match.diagnose import Leaving, leave_out
from aperture.match.evidence import Evidence, Mistrusted
from aperture.match.least_squares import Optimum, minimise
from aperture.match.statistics import as_sigmas, threshold
from aperture.match.system import System

if TYPE_CHECKING:
    from aperture.match.system import Block, State

TAIL = 2.0  # Student's ν: small, as blunders are far out
ROUNDS, A_LOOK = 20, 5
AGREED = 3.0  # σ
SETTLED = 1e-3  # relative change of the weights
# Of the marks, the share that may be left out: with more, nothing says who is right.
MOST_LEFT_OUT = 0.4


def refit(system: System, optimum: Optimum) -> tuple[System, Optimum]:
    """The system without the marks that the others contradict, and its optimum."""
    evidence = system.evidence
    marks = [*evidence.edges, *evidence.bows, *evidence.spots]
    limit = threshold(len(system.blocks))
    weighed = _weighed_down(system, optimum)
    if weighed is None:
        return system, optimum
    sigmas = _own_sigmas(system, weighed)
    allowed = int(MOST_LEFT_OUT * len(marks))
    suspects = sorted((id_ for id_ in sigmas if sigmas[id_] > limit), key=lambda id_: -sigmas[id_])
    out = {id_: sigmas[id_] for id_ in suspects[:allowed]}
    reduced, found = _without(evidence, out, weighed.state, system)
    if found is None:
        return system, optimum
    while len(out) < allowed:
        worst = _worst_mark(reduced, found, limit)
        if worst is None:
            break
        trial = out | {worst.block.id: worst.sigmas}
        smaller, better = _without(evidence, trial, found.state, reduced)
        if better is None:
            break
        out, reduced, found = trial, smaller, better
    return _taken_back(evidence, out, reduced, found, limit)


def mostly_agreed(system: System, optimum: Optimum) -> bool:
    """Whether a few marks alone spoil an optimum: with heavy tails, all the others agree near it.
    Another lens won't mend that."""
    weighed = _weighed_down(system, optimum, A_LOOK)
    if weighed is None:
        return False
    sigmas = np.array(list(_own_sigmas(system, weighed).values()))
    return len(sigmas) > 0 and bool(np.mean(sigmas < AGREED) >= 1 - MOST_LEFT_OUT / 2)


def _weighed_down(system: System, optimum: Optimum, rounds: int = ROUNDS) -> Optimum | None:
    """The optimum with heavy-tailed marks; None where the iteration leads nowhere."""
    evidence, found = system.evidence, optimum
    before = np.ones(len(system.blocks))
    for _ in range(rounds):
        r, _ = system.evaluate(found.state)
        weights = np.array([_weight(block, r) for block in system.blocks])
        if np.abs(weights - before).max() < SETTLED * before.max():
            break
        before = weights
        scale = {block.id: w for block, w in zip(system.blocks, weights) if not block.is_fact}
        heavier = System(_rescaled(evidence, scale))
        next_one = minimise(heavier, found.state)
        if next_one is None:
            return None
        found = next_one
    return found


def _weight(block: Block, r: Array) -> float:
    if block.is_fact:
        return 1.0
    own = r[block.rows]
    return (TAIL + len(own)) / (TAIL + float(own @ own))


def _rescaled(evidence: Evidence, weights: dict[str, float]) -> Evidence:
    def scaled(marks: tuple[Any, ...]) -> tuple[Any, ...]:
        return tuple(
            replace(mark, sigma_px=mark.sigma_px / np.sqrt(weights.get(mark.id, 1.0)))
            for mark in marks
        )

    kinds = ("edges", "bows", "spots")
    changed: dict[str, Any] = {kind: scaled(getattr(evidence, kind)) for kind in kinds}
    return replace(evidence, **changed)


def _own_sigmas(system: System, optimum: Optimum) -> dict[str, float]:
    """For each mark, how far its residuals lie off at a state, in σ of what can be seen of it."""
    r, _ = system.evaluate(optimum.state)
    lines = {line.id for line in (*system.evidence.edges, *system.evidence.bows)}
    out = {}
    for block in system.blocks:
        if block.is_fact:
            continue
        own = r[block.rows]
        # An edge's own angle takes one of its equations.
        freedom = max(len(own) - (1 if block.id in lines else 0), 1)
        out[block.id] = as_sigmas(float(own @ own), freedom)
    return out


def _worst_mark(system: System, optimum: Optimum, limit: float) -> Leaving | None:
    leavings = [
        leaving
        for leaving in leave_out(system, optimum, optimum.spread)
        if not leaving.block.is_fact and leaving.sigmas > limit
    ]
    return max(leavings, key=lambda leaving: leaving.sigmas, default=None)


def _without(
    evidence: Evidence, out: dict[str, float], state: State, system: System
) -> tuple[Any, ...]:
    """The system without some marks and its optimum, from a state of a larger `system`."""
    marks: dict[str, Any] = {}
    for kind in (evidence.edges, evidence.bows, evidence.spots):
        marks |= {mark.id: mark for mark in kind}
    mistrusted = tuple(Mistrusted(marks[id_], sigmas) for id_, sigmas in out.items())
    smaller = System(evidence.without(mistrusted))
    return smaller, minimise(smaller, smaller.state_like(system, state))


def _taken_back(
    evidence: Evidence, out: dict[str, float], reduced: System, found: Optimum, limit: float
) -> tuple[System, Optimum]:
    """Each mark tried again, the least suspicious first."""
    for id_ in sorted(out, key=lambda one: out[one]):
        trial = {other: sigmas for other, sigmas in out.items() if other != id_}
        larger, better = _without(evidence, trial, found.state, reduced)
        if better is None:
            continue
        leaving = next(
            item for item in leave_out(larger, better, better.spread) if item.block.id == id_
        )
        if leaving.sigmas <= limit:
            out, reduced, found = trial, larger, better
        else:
            out = out | {id_: leaving.sigmas}
    final, best = _without(evidence, out, found.state, reduced)
    return (final, best) if best is not None else (reduced, found)
