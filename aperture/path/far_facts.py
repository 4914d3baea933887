"""Facts that are far from a path that they only lay down: those that can't be right are set aside,
and the path is brought near the others.

A length may be typed in the wrong unit, a point surveyed under another's name. Least squares give
such a fact as much as it asks for. It bends the path until the tracks that it is about are thrown
out, and facts that are right with them, or the lens with everything else. So where facts are far
from a path that they only lay down, each is held against what the tracks and all the others say of
it, before any of them pulls. With P the covariance of what the tracks alone say of the facts, over
their σ, Q = 1 + P that of how far facts and tracks are apart, d, and v = Q⁻¹ d, a fact with the
rows g and all others are apart by

    T_g² = v_gᵀ ((Q⁻¹)_gg)⁻¹ v_g,

which is χ² of as many degrees of freedom if all is well (Baarda 1968; Kok 1984 for several rows;
cited from memory). Facts are set aside one after the other, until the rest agree: those without
which the others are least apart. Where others may as well be the wrong ones, as of two lengths, it
is the one that was told last, and that is said. Where too many don't agree, nothing is set aside.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.path.bundle import NEAR_DAMPING
from aperture.path.covariance import Solved
from aperture.path.drawn import Lines
from aperture.path.facts import (
    OF_LENS,
    CamerasApart,
    Loosened,
    OnOnePlane,
    PathFacts,
    PointCoordinate,
)
from aperture.path.given import OfMove
from aperture.path.placement import Known, Placed, place
from aperture.path.problem import Equation, Row

if TYPE_CHECKING:
    from aperture.path.network import Given, Network

# Facts count as far from a placed path if their residuals are so many σ; by what factor they are
# then tightened, in so many steps each time.
FAR, EASE, EASING_STEPS = 8.0, 4.0, 20
# By how much facts are loosened, so that only the tracks speak of a path's shape.
LOOSE = 1e4
# How far apart a fact and the rest are that can't be chance, and that is nothing, in σ per row; or
# as a share of what it was, as facts that are loosened still hold a path's size a little.
GROSS, AGREE, NEXT_TO_NOTHING = 10.0, 5.0, 1e-3
# How many times too small ± are, at most, that take a track's errors for independent.
DRIFT = 3.0
# Facts that are tried, the farthest apart first; which share of them may be wrong, and how many;
# and their rows, beyond which one that is wrong pulls little.
MOST_TRIED, MOST_WRONG, MOST_ASIDE, MOST_ROWS = 6, 1 / 3, 8, 1000
# How often it is looked anew, from where those that are right lay the path.
ROUNDS = 4
# Steps to the tracks' own optimum, and the least gain of one (`bundle`).
STEPS, ROUGHLY = 10, 1e-2
# What is drawn, moved along or on one plane has unknowns of its own, or is many facts in one.
NEVER = (Lines, OfMove, OnOnePlane, CamerasApart)


def gross(
    given: Given, placed: Placed, tracks: Array, use: Array, facts: PathFacts, known: Array
) -> dict[str, tuple[str, ...]]:
    """The ids of facts, and of tracks whose coordinates are known, that can't be right; with those
    which may be the wrong ones in its place.

    placed: the path where all facts together lay it; known (P, 3): coordinates that are exact, NaN
    where unknown.
    """
    if given.at_infinity or not _far_by(placed, facts, known) > FAR:
        return {}
    lens = given.evidence.lens
    laid = place(placed.state, facts, Known(known), lens, begun=True, robust=True)
    every = [*given.exact(tracks, known), *facts.equations]
    before: dict[str, tuple[str, ...]] = {}
    for _ in range(ROUNDS):
        try:
            free = _by_tracks_alone(given, laid, tracks, use, every, facts.extra_count)
            wrong = _apart(free, every)
        except (np.linalg.LinAlgError, Problem):
            return {}
        if not wrong or wrong == before:
            return wrong
        # Of the tracks' own shape, laid by what is right, the derivatives are those that hold.
        before, none = wrong, np.full_like(known, np.nan)
        kept = PathFacts([one for one in every if one.id not in wrong], facts.extra_count)
        laid = place(free.state, kept, Known(none), lens, begun=True)
    return {}


def _by_tracks_alone(
    given: Given, laid: Placed, tracks: Array, use: Array, every: list[Equation], extra_count: int
) -> Network:
    """The path solved by its tracks, where it is laid."""
    of_shape = [one for one in every if not isinstance(one, OF_LENS)]
    loose = Loosened(of_shape, extra_count, by=LOOSE, pulls=False)
    none, factors = np.full((len(tracks), 3), np.nan), np.ones(len(given.evidence.tracks))
    return given.solve(laid, tracks, use, none, loose, factors, STEPS, ROUGHLY, NEAR_DAMPING)


def _apart(free: Network, every: list[Equation]) -> dict[str, tuple[str, ...]]:
    """What `gross` returns; free: by the tracks alone."""
    ids: list[str] = []
    rows: list[Row] = []
    of_lens = [one for one in every if isinstance(one, OF_LENS)]
    for equation in (*free.facts.equations, *of_lens):
        for row in equation.rows(free.state):
            ids.append("" if isinstance(equation, NEVER) else equation.id)
            rows.append(row)
    if len(rows) > MOST_ROWS:
        return {}
    apart = np.array([row.residual for row in rows])
    between = np.eye(len(rows)) + _wider(free) ** 2 * Solved(free.bundle).products(rows)
    of = np.array(ids)
    wrong: dict[str, tuple[str, ...]] = {}
    most = min(max(1, int(MOST_WRONG * len(set(ids)))), MOST_ASIDE)
    while True:
        all_ = _tested(of, wrong, apart, between)
        worst = max(all_.values(), default=0.0)
        if worst <= GROSS:
            return wrong
        if len(wrong) == most:
            return {}
        tried = sorted((id_ for id_ in all_ if id_), key=lambda id_: -all_[id_])[:MOST_TRIED]
        left = {
            id_: max(_tested(of, (*wrong, id_), apart, between).values(), default=0.0)
            for id_ in tried
        }
        if not tried:
            return {}
        one = min(tried, key=lambda id_: left[id_])
        nothing = min(max(AGREE, 2 * left[one], NEXT_TO_NOTHING * worst), GROSS)
        settle = [id_ for id_ in tried if left[id_] <= nothing]
        one = max(settle, key=ids.index, default=one)
        wrong[one] = tuple(id_ for id_ in settle if id_ != one)


def _tested(of: Array, without: Iterable[str], apart: Array, between: Array) -> dict[str, float]:
    """How far each fact and the rest are apart, in σ per row, by the id of the fact; some left
    out."""
    mine = np.flatnonzero(~np.isin(of, list(without)))
    inverse = np.linalg.inv(between[np.ix_(mine, mine)])
    told = inverse @ apart[mine]
    out: dict[str, float] = {}
    for id_ in set(of[mine].tolist()):
        own = np.flatnonzero(of[mine] == id_)
        squares = float(told[own] @ np.linalg.solve(inverse[np.ix_(own, own)], told[own]))
        out[id_] = float(np.sqrt(max(squares, 0.0) / len(own)))
    return out


def agreeing(network: Network) -> set[str]:
    """Of the facts that aren't heeded those that the path without them isn't far from after all."""
    rows = [
        (one.equation.id, row)
        for one in network.facts.aside
        for row in one.equation.rows(network.state)
    ]
    if not rows:
        return set()
    try:
        products = Solved(network.bundle).products([row for _, row in rows])
    except np.linalg.LinAlgError:
        return set()
    sigma = np.sqrt(1 + _wider(network) ** 2 * np.diag(products))
    far = {id_ for (id_, row), s in zip(rows, sigma) if abs(row.residual) > GROSS * s}
    return {id_ for id_, _ in rows} - far


def _wider(network: Network) -> float:
    """By what the ± of a path that its tracks alone give is to be multiplied at most."""
    usual = float(np.median(np.linalg.norm(network.residuals, axis=1))) / 1.1774
    return DRIFT * max(usual, 1.0)


def _far_by(placed: Placed, facts: PathFacts, known: Array) -> float:
    """How far a placed path is from the facts, in σ, the root mean square."""
    rows = len(facts.rows(placed.state)) + int(np.isfinite(known).sum())
    return float(np.sqrt(placed.chi2 / max(rows, 1)))


def eased(
    given: Given, placed: Placed, tracks: Array, use: Array, known: Array, facts: PathFacts
) -> Placed:
    """A placed path brought near facts that it is far from.

    Of a point whose rays hardly differ the distance is hardly known: a survey of such points would
    pull the whole path out of place if it counted with its own ± alone. Then tight facts are
    tightened step by step, as they leave steps no way from here to the optimum.
    """
    by = _far_by(placed, facts, known)
    if not by > FAR or given.at_infinity:
        return placed
    factors = np.ones(len(given.evidence.tracks))
    for _ in range(2):
        bundle = given.bundle(placed, tracks, use, known, PathFacts([]), factors)
        sigma = np.sqrt(np.einsum("pii->pi", np.linalg.pinv(bundle.point_information())))
        soft: list[Equation] = [
            replace(one, sigma=float(np.hypot(one.sigma, sigma[one.point, one.axis])))
            if isinstance(one, PointCoordinate)
            else one
            for one in facts.equations
        ]
        again = PathFacts(soft, facts.extra_count)
        placed = replace(
            place(placed.state, again, Known(known), given.evidence.lens, begun=True),
            open_=placed.open_,
        )
    residuals = [row.residual for row in facts.rows(placed.state)]
    by = float(np.sqrt(np.mean(np.square(residuals)))) if residuals else 0.0
    while by > FAR:
        loose = Loosened(facts.equations, facts.extra_count, by=by)
        eased = given.solve(placed, tracks, use, known, loose, factors, most=EASING_STEPS)
        placed, by = replace(placed, state=eased.state), by / EASE
    return placed
