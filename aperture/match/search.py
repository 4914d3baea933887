"""Find the best camera for a System: from an earlier fit, or from nothing.

From nothing, the order is: the directions of the edges or the known spots give first guesses; the
lens's centre and distortion are freed only when the rest is there; spots that only straight lengths
tie to others are placed last (see `chains`); the other side of each straight length is tried
(see `rivals`). The work has a limit (see `effort`), so that no document can take for ever.
"""

from __future__ import annotations

from dataclasses import replace
from itertools import islice
from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.errors import Problem
from aperture.match import chains, robust
from aperture.match.facts import AXES
from aperture.match.initial import candidates, farther, lines_tell_bend, scattered
from aperture.match.initial_position import with_position
from aperture.match.least_squares import Optimum, minimise
from aperture.match.rivals import HOPELESS, better, round_lengths, with_rival
from aperture.match.statistics import chi2_tail
from aperture.match.system import System

if TYPE_CHECKING:
    from aperture.match.facts import Length
    from aperture.match.system import State

# Weighted sum of squares per degree of freedom up to which a fit is taken without looking for
# another facing of the room.
ACCEPTABLE = 6.0
# Probability of a sum of squares as large by chance, above which a fit is taken without another
# try: below it there may be a better one elsewhere, or the evidence contradicts itself.
SETTLED = 1e-3
# The same, above which nothing better is looked for where there are many lengths.
PLAINLY_GOOD = 0.3
# How much the last step, taken without looking again, may lower the sum of squares where a warm
# start ends: a hundredth of a σ.
WARM_TOLERANCE = 1e-4
# The same where another stage goes on from there.
ROUGHLY = 0.1
# As ACCEPTABLE, for a fit that started from an earlier one: a mark dragged through wrong places is
# off by tens of σ, and the facing stays.
WARM_ACCEPTABLE = 1000.0
# Iterations for an optimum that the ordinary number didn't reach.
PATIENT = 300
# With more loose lengths than this, the search that ignores the chains isn't worth its time.
MANY_LOOSE_LENGTHS = 6


def cold_start(system: System) -> Optimum:
    """The best optimum without any earlier fit. Raises Problem where nothing explains the marks."""
    loose = chains.loose_lengths(system)
    found = _by_chains(system, loose) if loose else None
    if found is None or likely(system, found) < SETTLED and len(loose) <= MANY_LOOSE_LENGTHS:
        other = _by_facings(system)
        other = round_lengths(system, other, likely(system, other) > PLAINLY_GOOD)
        found = better(found, other)
    else:
        bent = [length for length in system.evidence.lengths if length.axis is None]
        others = tuple(length for length in bent if length not in loose)
        if others:
            plainly_good = likely(system, found) > PLAINLY_GOOD
            found = round_lengths(system, found, plainly_good, lengths=others)
    return found if found.converged else _finished(system, found)


def _finished(system: System, optimum: Optimum) -> Optimum:
    """An optimum that stopped before it was one, carried on."""
    more = minimise(system, optimum.state, most=PATIENT)
    if more is None or more.chi2 > optimum.chi2:
        return optimum
    return replace(more, rival=optimum.rival)


def _by_chains(system: System, loose: tuple[Length, ...]) -> Optimum | None:
    """The optimum by `chains`; None where the camera isn't determined without those lengths."""
    base = System(chains.without(system.evidence, loose))
    if not base.has_position:
        return None
    try:
        camera = _by_facings(base)
    except Problem:
        return None
    rows = np.eye(base.size)[np.r_[base.at["rotation"], base.at["position"], base.at["lens"]]]
    if not camera.spread.determined(rows):
        return None
    ends: list[Any] = []
    for start in chains.starts(system, base, camera):
        least = min((end.chi2 for end in ends), default=np.inf)
        near = minimise(system, start, most=6)
        if near is not None and near.chi2 < least + HOPELESS:
            ends.append(near if near.converged else minimise(system, near.state) or near)
    if not ends:
        return None
    best = min(ends, key=lambda end: end.chi2)
    return with_rival(system, best, ends)


def warm_start(system: System, warm: dict[str, Any], own: bool = False) -> Optimum | None:
    """The optimum near an earlier fit (its JSON); None where that leads nowhere.

    `own`: the fit is this document's, so that however badly it fits, it is the answer.
    """
    if not warm.get("ok"):
        return None
    try:
        camera = warm["camera"]
        focal = camera["focal_mm"] if system.evidence.gate_mm else camera["focal_px"][1]
        given = system.evidence.focal
        lens = system.lens_with_focal(given.mm if given and 0 not in system.free_lens else focal)
        values = lens.parameters
        for column in system.free_lens:
            if column in (1, 2):
                values[column] = system.grid.to_mm([camera["principal_point_px"]])[0][column - 1]
            elif column > 2:
                values[column] = camera["distortion"][("k1", "k2", "k3", "p1", "p2")[column - 3]]
        lens = lens.with_parameters(values)
        pose = np.array(
            [[np.nan if v is None else v for v in row] for row in camera["world_from_camera"]],
            float,
        )
        if system.has_position and not np.isfinite(pose).all():
            return None  # the earlier fit had no place in the world to start from
        pose = np.nan_to_num(pose)
        known = warm.get("spots", {})
        fresh = None
        points = np.zeros(system.value_count)
        for index, spot in enumerate(system.spots):
            for axis in np.flatnonzero(system.variable[index] >= 0):
                slot = system.variable[index, axis]
                if spot.id in known:
                    points[slot] = known[spot.id]["world_m"][axis]
                    continue
                fresh = fresh or with_position(
                    system, pose[:3, :3], lens
                )  # a spot that the earlier fit hadn't
                if fresh is None:
                    return None
                points[slot] = fresh.values[slot]
        state = system.state(pose[:3, :3], lens, pose[:3, 3], points)
    except (KeyError, TypeError, ValueError):
        return None
    optimum = minimise(system, state, most=25, tolerance=WARM_TOLERANCE)
    good = optimum is not None and (
        own or optimum.converged and is_acceptable(system, optimum, WARM_ACCEPTABLE)
    )
    return optimum if good else None


def is_acceptable(system: System, optimum: Optimum, most: float = ACCEPTABLE) -> bool:
    """Whether an optimum is taken without looking for another facing of the room."""
    freedom = max(system.row_count - system.size, 1)
    return optimum.chi2 / freedom < most


def likely(system: System, optimum: Optimum) -> float:
    """The probability that chance alone makes a sum of squares as large as an optimum's."""
    return (
        chi2_tail(optimum.chi2, max(system.row_count - system.size, 1))
        if optimum.chi2 < 5000
        else 0.0
    )


def _by_facings(system: System) -> Optimum:
    best = _by_stages(system)
    if best is not None and likely(system, best) > SETTLED:
        return best
    for group in candidates(system):
        for start in group:
            best = better(best, optimum := _pursued(system, start, best))
            if best is optimum is not None and is_acceptable(system, optimum):
                if likely(system, optimum) > SETTLED:
                    return optimum
                break  # good enough for this facing; another group may do better
    if best is None or not is_acceptable(system, best):
        few_wrong = best is not None and robust.mostly_agreed(system, best)
        for start in () if few_wrong else farther(system):
            best = better(best, minimise(system, start))
            if best is not None and is_acceptable(system, best):
                return best
        require_enough(system)
    if best is None:  # no closed form for this evidence: try all over
        best = _only_one(
            system,
            [
                optimum
                for start in scattered(system)
                if (optimum := minimise(system, start, most=15)) is not None
            ],
        )
    if best is None:
        raise Problem(
            "No camera sees all these marks: check the axes of the edges and the places of the"
            " spots."
        )
    return best


def _pursued(system: System, start: State, best: Optimum | None, **how: Any) -> Optimum | None:
    """Where a start leads; only a short way where it comes nowhere near the best so far: wrong
    facings can take long to end."""
    if best is None:
        return minimise(system, start, **how)
    near = minimise(system, start, **how | {"most": 6})
    return (
        minimise(system, near.state, **how)
        if near is not None and near.chi2 < 20 * best.chi2 + 300
        else near
    )


def _by_stages(system: System) -> Optimum | None:
    """First the lens as simple as can be, then with its centre and its distortion freed: from far
    away they lead astray. None where they aren't free.

    Its bend, where lines of several points tell it whatever else may be, is there from the start.
    """
    if not any(column > 0 for column in system.free_lens):
        return None
    evidence = system.evidence
    bend = (0,) if lines_tell_bend(system) else ()
    simple = System(replace(evidence, free_coefficients=bend, principal_free=False))
    best = end = None
    for group in islice(candidates(simple), 2):
        for start in group:
            found = better(best, _pursued(simple, start, best, most=25, tolerance=ROUGHLY))
            if found is not None and found is not best:
                best, end = found, better(end, minimise(system, found.state))
                if end is not None and likely(system, end) > SETTLED:
                    return end
    return end


def _only_one(system: System, quick: list[Optimum]) -> Optimum | None:
    """The best of many scattered tries. Raises Problem where others, seeing another room, explain
    the marks as well."""
    quick.sort(key=lambda optimum: optimum.chi2)
    hopeless = 1e3 * quick[0].chi2 + 100 * system.row_count if quick else 0.0
    found = sorted(
        (
            end
            for start in quick[:24]
            if start.chi2 < hopeless and (end := minimise(system, start.state, most=50)) is not None
        ),
        key=lambda optimum: optimum.chi2,
    )
    if sum(system.held[index].all() for index in system.placed) < 2:
        # Nothing but the rule says which way the room faces: up points up, across points to the
        # right.
        found = [
            optimum
            for optimum in found
            if optimum.state.rotation[1, 1] > 0 and optimum.state.rotation[0, 0] > 0
        ] or found
    for other in found[1:]:
        turned = np.arccos(
            np.clip((np.trace(other.state.rotation.T @ found[0].state.rotation) - 1) / 2, -1, 1)
        )
        if other.chi2 < found[0].chi2 + 9 and turned > 0.02:
            raise Problem(
                "These marks allow more than one camera, and nothing shows which is right: draw"
                " another edge, or place another spot whose place is known."
            )
    return found[0] if found else None


def require_enough(system: System) -> None:
    """Raise Problem, in the artist's words, where there is too little evidence to start from."""
    axes = sorted(set(system.edge_axes.tolist()))
    placed = sum(system.held[index].all() for index in range(len(system.spots)))
    if placed >= 3 or len(axes) >= 2 and len(system.evidence.edges) >= 3:
        return
    if len(axes) == 1:
        others = " or ".join(AXES[axis] for axis in range(3) if axis not in axes)
        raise Problem(
            f"All edges run {AXES[axes[0]]}. One axis alone leaves the lens and the direction"
            f" undetermined: draw two or more edges {others} as well."
        )
    if axes:
        raise Problem(
            "There are too few edges to find the lens and the direction: draw two or more of each"
            " of two axes."
        )
    raise Problem(
        "There is too little evidence to find the lens and the direction: draw two or more edges of"
        " each of two axes, or place four or more spots whose place in the world is known."
    )
