"""A second camera that explains the same evidence about as well.

Two spots at a distance from each other can often stand in two ways along their rays; from the wrong
one a length looks like a contradiction, or pulls the camera aside unseen. So after a fit the other
ways are tried, where the rest of the evidence allows them.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import overload

import numpy as np

from aperture.match.evidence import Evidence
from aperture.match.facts import Length
from aperture.match.least_squares import Optimum, minimise
from aperture.match.system import State, System

# Two cameras whose sums of squares differ by less can't be told from each other: 3 σ.
RIVAL = 9.0
# How far apart, in their own ±, two cameras are that are worth telling of.
APART = 2.0
# A spot isn't tried where the rest of the evidence, linearised, puts it farther away than so many
# σ: generous, as that is far from linear.
REACHABLE = 10.0

# A start from which a few steps don't come nearer than this to the best sum of squares leads
# nowhere.
HOPELESS = 300.0


@overload
def better(first: Optimum, second: Optimum | None) -> Optimum: ...
@overload
def better(first: Optimum | None, second: Optimum) -> Optimum: ...
@overload
def better(first: Optimum | None, second: Optimum | None) -> Optimum | None: ...
def better(first: Optimum | None, second: Optimum | None) -> Optimum | None:
    """The second where it explains the marks clearly better; else the first, which faces as the
    rule for facings wants."""
    if first is None or second is None:
        return first or second
    return second if second.chi2 < 0.98 * first.chi2 - 1e-6 else first


def round_lengths(
    system: System,
    optimum: Optimum,
    plainly_good: bool,
    lengths: tuple[Length, ...] | None = None,
) -> Optimum:
    """The optimum, or a better one on the other side of a straight length; with its rival, where
    one explains the evidence as well.

    `plainly_good`: nothing speaks against the optimum, so that nothing better is looked for; only
    what rivals it. `lengths`: those to look at, all straight ones where left out.
    """
    straight = tuple(fact for fact in system.evidence.lengths if fact.axis is None)
    bent = straight if lengths is None else lengths
    if not bent:
        return optimum
    found = [optimum]
    if len(bent) <= 3 or not plainly_good:
        loose = System(_loosened(system.evidence, bent))
        if (around := minimise(loose, optimum.state)) and (other := minimise(system, around.state)):
            found.append(other)
    found += [
        other
        for start in _turned_over(system, optimum, bent)
        if (near := minimise(system, start, most=4)) is not None
        and near.chi2 < optimum.chi2 + HOPELESS
        and (other := minimise(system, near.state)) is not None
    ]
    best = optimum
    for other in found[1:]:
        best = better(best, other)
    return with_rival(system, best, found)


def with_rival(system: System, best: Optimum, found: list[Optimum]) -> Optimum:
    """The best optimum, with the one of the others that explains the evidence about as well."""
    rivals = [
        other
        for other in found
        if other is not best and other.chi2 < best.chi2 + RIVAL and _apart(system, best, other)
    ]
    if not rivals:
        return best
    return replace(best, rival=min(rivals, key=lambda other: other.chi2).state)


def _loosened(evidence: Evidence, bent: tuple[Length, ...]) -> Evidence:
    return replace(
        evidence,
        facts=tuple(
            replace(fact, plus_minus=fact.plus_minus * 1e4) if fact in bent else fact
            for fact in evidence.facts
        ),
    )


def _turned_over(system: System, optimum: Optimum, bent: tuple[Length, ...]) -> Iterator[State]:
    """States with one spot moved along its ray to the other place that has the same length to its
    partner, where the rest allows it."""
    state, points = optimum.state, system.points(optimum.state)
    covariance = optimum.spread.covariance
    rows = {block.id: block.rows[0] for block in system.blocks if block.item in bent}
    for length in bent:
        across = covariance @ optimum.jacobian[rows[length.id]]
        kept = max(1 - optimum.jacobian[rows[length.id]] @ across, 1e-9)
        for here, there in ((length.start, length.end), (length.end, length.start)):
            spot, partner = system.spot_index[here], points[system.spot_index[there]]
            axes = np.flatnonzero(system.variable[spot] >= 0)
            if not len(axes):
                continue
            ray = points[spot] - state.position
            ray = ray / np.linalg.norm(ray)
            move = 2 * (ray @ (partner - points[spot])) * ray
            if ray @ (points[spot] + move - state.position) <= 0:
                continue
            slots = system.variable[spot, axes]
            columns = system.at["values"].start + slots
            without = (
                covariance[np.ix_(columns, columns)]
                + np.outer(across[columns], across[columns]) / kept
            )
            if (np.abs(move[axes]) > REACHABLE * np.sqrt(np.diag(without))).any():
                continue
            if (
                not 1
                < move[axes] @ np.linalg.pinv(without, hermitian=True) @ move[axes]
                < REACHABLE**2
            ):  # within 1 σ it is the same place
                continue
            values = state.values.copy()
            values[slots] += move[axes]
            yield replace(state, values=values)


def _apart(system: System, first: Optimum, second: Optimum) -> bool:
    """Whether two optima are different cameras, or place a spot elsewhere, judged by the ± of the
    first."""
    a, b = first.state, second.state
    turned = a.rotation.T @ b.rotation
    change = np.zeros(system.size)
    change[system.at["rotation"]] = (
        np.array(
            [turned[2, 1] - turned[1, 2], turned[0, 2] - turned[2, 0], turned[1, 0] - turned[0, 1]]
        )
        / 2
    )
    if system.has_position:
        change[system.at["position"]] = b.position - a.position
    change[system.at["lens"]] = (b.lens.parameters - a.lens.parameters)[system.free_lens]
    change[system.at["values"]] = b.values - a.values
    deviation = np.sqrt(np.diag(first.spread.covariance).clip(1e-24))
    return bool((np.abs(change) > APART * deviation).any())
