"""Solve a match: the one way from a document to a fit, for the page, the command line and the tests alike."""

from dataclasses import dataclass, replace
from itertools import islice

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.lens.lens import Lens
from aperture.match import diagnose, report
from aperture.match.document import InvalidDocument, read
from aperture.match.evidence import Evidence
from aperture.match.facts import AXES
from aperture.match.initial import candidates, farther, lines_tell_bend, scattered, with_position
from aperture.match.least_squares import Optimum, minimise
from aperture.match.rivals import better, round_lengths
from aperture.match.system import System

# A focal length known only to this factor (standard deviation of its logarithm), or a direction known only to this angle in
# radians, isn't known; the answer says so instead of printing a number.
LEAST_KNOWN_FOCAL = 0.5
LEAST_KNOWN_DIRECTION = 0.35
# Weighted sum of squares per degree of freedom up to which a fit is taken without looking for another facing of the room.
ACCEPTABLE = 6.0
# Probability of a sum of squares as large by chance, above which a fit is taken without another try: below it there may be a better one
# elsewhere, or the evidence contradicts itself.
SETTLED = 1e-3
# Probability of a sum of squares as large by chance, above which nothing better is looked for where there are many lengths.
PLAINLY_GOOD = 0.3
# How much the last step, taken without looking again, may lower the sum of squares where a warm start ends: a hundredth of a σ.
WARM_TOLERANCE = 1e-4
# The same where another stage goes on from there.
ROUGHLY = 0.1
# As ACCEPTABLE, for a fit that started from an earlier one: a mark dragged through wrong places is off by tens of σ, and the facing stays.
WARM_ACCEPTABLE = 1000.0


@dataclass(frozen=True)
class Fit:
    """`document`: the fit as match-document.md specifies, JSON-ready; `camera` is None where ok is false."""

    document: dict
    camera: Camera | None = None

    @property
    def ok(self) -> bool:
        """Whether there is a camera."""
        return self.document["ok"]


def solve(document: dict, warm: dict | None = None, checked: bool = False, explain: bool = True) -> Fit:
    """Fit a camera to a match document.

    `warm`: an earlier fit (its JSON) to start from, for edits that change little; the answer agrees with a cold start unless the
    evidence itself has two answers. `checked`: the document is known to obey its schema. `explain` False leaves out of the conflicts'
    sentences what the rest of the evidence says, which costs a fit for each piece. Raises InvalidDocument where the schema is broken.
    """
    try:
        return _judge(*find(document, warm, checked), explain)
    except InvalidDocument:
        raise
    except Problem as problem:
        return Fit(report.refusal(problem.sentence, problem.place))


def find(document: dict, warm: dict | None = None, checked: bool = False, own: bool = False) -> tuple[System, Optimum]:
    """The equations of a match document and where they are met best, for `solve` and for what else is asked of a fit.

    `warm`: a fit to start from; `own`: it is this document's, so that however badly it fits, it is the answer.

    Raises InvalidDocument where the schema is broken, Problem where nothing explains the marks.
    """
    evidence = read(document, checked)
    system = System(evidence)
    _require_some(evidence)
    found = _from_warm(system, warm, own) if warm else None
    if found is None:
        found = _from_cold(system)
        found = round_lengths(system, found, _likely(system, found) > PLAINLY_GOOD)
    return system, found


def camera_of(fit: dict, document: dict) -> Camera:
    """The camera of a fit's JSON. `document` is the match document it came from. Raises Problem where the fit isn't ok."""
    if not fit.get("ok"):
        raise Problem(fit.get("problem", "There is no fit."))
    evidence = read(document, checked=True)
    camera, grid = fit["camera"], evidence.grid
    focal = camera["focal_mm"] if camera["focal_mm"] is not None else camera["focal_px"][1]
    lens = Lens(focal, evidence.squeeze, evidence.projection, tuple(grid.to_mm([camera["principal_point_px"]])[0]),
                tuple(camera["distortion"][name] for name in ("k1", "k2", "k3", "p1", "p2")))
    pose = np.array([[np.nan if v is None else v for v in row] for row in camera["world_from_camera"]], float)
    return Camera(grid, lens, np.nan_to_num(pose))


def _require_some(evidence: Evidence):
    if not (evidence.edges or evidence.bows or evidence.spots):
        raise Problem("Nothing is marked on the plate yet. Draw edges that run across, up or along the place, two or more of each of two axes.")


def _from_warm(system, warm, own=False) -> Optimum | None:
    if not warm.get("ok"):
        return None
    try:
        camera = warm["camera"]
        focal = camera["focal_mm"] if system.evidence.gate_mm else camera["focal_px"][1]
        lens = system.lens_with_focal(focal if 0 in system.free_lens else system.evidence.focal.mm)
        values = lens.parameters
        for column in system.free_lens:
            if column in (1, 2):
                values[column] = system.grid.to_mm([camera["principal_point_px"]])[0][column - 1]
            elif column > 2:
                values[column] = camera["distortion"][("k1", "k2", "k3", "p1", "p2")[column - 3]]
        lens = lens.with_parameters(values)
        pose = np.array([[np.nan if v is None else v for v in row] for row in camera["world_from_camera"]], float)
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
                fresh = fresh or with_position(system, pose[:3, :3], lens)  # a spot that the earlier fit hadn't
                if fresh is None:
                    return None
                points[slot] = fresh.values[slot]
        state = system.state(pose[:3, :3], lens, pose[:3, 3], points)
    except (KeyError, TypeError, ValueError):
        return None
    optimum = minimise(system, state, most=25, tolerance=WARM_TOLERANCE)
    good = optimum is not None and (own or optimum.converged and _is_acceptable(system, optimum, WARM_ACCEPTABLE))
    return optimum if good else None


def _is_acceptable(system, optimum, most=ACCEPTABLE) -> bool:
    freedom = max(system.row_count - system.size, 1)
    return optimum.chi2 / freedom < most


def _likely(system, optimum) -> float:
    """The probability that chance alone makes a sum of squares as large as an optimum's."""
    return diagnose.chi2_tail(optimum.chi2, max(system.row_count - system.size, 1)) if optimum.chi2 < 5000 else 0.0


def _from_cold(system) -> Optimum:
    best = _by_stages(system)
    if best is not None and _likely(system, best) > SETTLED:
        return best
    for group in candidates(system):
        for start in group:
            best = better(best, optimum := _pursued(system, start, best))
            if best is optimum is not None and _is_acceptable(system, optimum):
                if _likely(system, optimum) > SETTLED:
                    return optimum
                break  # good enough for this facing; another group may do better
    if best is None or not _is_acceptable(system, best):
        for start in farther(system):
            best = better(best, minimise(system, start))
            if best is not None and _is_acceptable(system, best):
                return best
        _require_enough(system)
    if best is None:  # no closed form for this evidence: try all over
        best = _only_one(system, [optimum for start in scattered(system) if (optimum := minimise(system, start, most=15)) is not None])
    if best is None:
        raise Problem("No camera sees all these marks: check the axes of the edges and the places of the spots.")
    return best


def _pursued(system, start, best: Optimum | None, **how) -> Optimum | None:
    """Where a start leads; only a short way where it comes nowhere near the best so far: wrong facings can take long to end."""
    if best is None:
        return minimise(system, start, **how)
    near = minimise(system, start, **how | {"most": 6})
    return minimise(system, near.state, **how) if near is not None and near.chi2 < 20 * best.chi2 + 300 else near


def _by_stages(system) -> Optimum | None:
    """First the lens as simple as can be, then with its centre and its distortion freed: from far away they lead astray. None where they aren't free.

    Its bend, where lines of several points tell it whatever else may be, is there from the start.
    """
    if not any(column > 0 for column in system.free_lens):
        return None
    evidence = system.evidence
    centre = np.array([evidence.width / 2, evidence.height / 2])
    simple = System(replace(evidence, free_coefficients=(0,) if lines_tell_bend(system) else (),
                            principal_point=centre if evidence.principal_point is None else evidence.principal_point))
    best = end = None
    for group in islice(candidates(simple), 2):
        for start in group:
            found = better(best, _pursued(simple, start, best, most=25, tolerance=ROUGHLY))
            if found is not best:
                best, end = found, better(end, minimise(system, found.state))
                if end is not None and _likely(system, end) > SETTLED:
                    return end
    return end


def _only_one(system, quick) -> Optimum | None:
    """The best of many scattered tries. Raises Problem where others, seeing another room, explain the marks as well."""
    quick.sort(key=lambda optimum: optimum.chi2)
    hopeless = 1e3 * quick[0].chi2 + 100 * system.row_count if quick else 0.0
    found = sorted((end for start in quick[:24] if start.chi2 < hopeless and (end := minimise(system, start.state, most=50)) is not None),
                   key=lambda optimum: optimum.chi2)
    if sum(system.held[index].all() for index in system.placed) < 2:
        # Nothing but the rule says which way the room faces: up points up, across points to the right.
        found = [optimum for optimum in found if optimum.state.rotation[1, 1] > 0 and optimum.state.rotation[0, 0] > 0] or found
    for other in found[1:]:
        turned = np.arccos(np.clip((np.trace(other.state.rotation.T @ found[0].state.rotation) - 1) / 2, -1, 1))
        if other.chi2 < found[0].chi2 + 9 and turned > 0.02:
            raise Problem("These marks allow more than one camera, and nothing tells which is right: draw another edge, or place another spot "
                          "whose place is known.")
    return found[0] if found else None


def _require_enough(system):
    """Raise Problem, in the artist's words, where there is too little evidence to start from."""
    axes = sorted(set(system.edge_axes.tolist()))
    placed = sum(system.held[index].all() for index in range(len(system.spots)))
    if placed >= 3 or len(axes) >= 2 and len(system.evidence.edges) >= 3:
        return
    if len(axes) == 1:
        others = " or ".join(AXES[axis] for axis in range(3) if axis not in axes)
        raise Problem(f"All edges run {AXES[axes[0]]}. One axis alone leaves the lens and the direction open: draw two or more edges {others} as well.")
    if axes:
        raise Problem("There are too few edges to find the lens and the direction: draw two or more of each of two axes.")
    raise Problem("There is too little to find the lens and the direction: draw two or more edges of each of two axes, "
                  "or place four or more spots whose place in the world is known.")


def _judge(system: System, optimum: Optimum, explain: bool) -> Fit:
    spread = optimum.spread
    identity = np.eye(system.size)
    turn = identity[system.at["rotation"]]
    focal_known = direction_known = True
    if 0 in system.free_lens:
        row = identity[system.at["lens"]][0]
        focal_known = spread.determined(row) and spread.plus_minus(row)[0] < LEAST_KNOWN_FOCAL
    direction_known = spread.determined(turn) and spread.plus_minus(turn).max() < LEAST_KNOWN_DIRECTION
    lens = optimum.state.lens
    if 0 in system.free_lens and system.evidence.focal is None and not (focal_known and _is_acceptable(system, optimum)):
        # The closed form needs no optimum; straightening by a lens of ordinary length keeps it clear of a runaway one.
        longer = max(system.grid.gate_mm)
        sane = lens if 0.1 < lens.focal_mm / longer < 30 else system.lens_with_focal(longer)
        sentence = diagnose.negative_square(system, sane)
        if sentence:
            raise Problem(sentence)
    if not focal_known:
        only_bows = not system.evidence.edges and not system.spots
        sentence = "Bows alone tell only how the lens bends for its focal length: give the focal length, or draw edges." if only_bows else \
            _focal_sentence(system, lens)
        return Fit(report.undetermined(system, sentence, focal=False, direction=direction_known))
    if not direction_known:
        bend = report.lens_alone(system, optimum, spread)
        if bend:
            return Fit(report.undetermined(system, "The bows tell how the lens bends; where the camera looks they don't tell: draw two or more edges of "
                                           "each of two axes.", focal=True, direction=False) | {"lens": bend})
        _require_enough(system)
        return Fit(report.undetermined(system, "These marks leave the camera's direction open: draw two or more edges of a second axis.",
                                       focal=True, direction=False))
    return Fit(*report.write(system, optimum, spread, explain))


def _focal_sentence(system, lens) -> str:
    if len(system.free_lens) > 1:
        return ("More of the lens is left free than these marks carry: set the principal point to the centre and the distortion to none, "
                "or add marks.")
    parallel = [AXES[axis] for axis in diagnose.parallel_axes(system, lens)]
    remedy = "Draw edges of another axis that visibly converge, or give the lens's focal length."
    if parallel:
        which = " and ".join(parallel)
        return (f"The focal length can't be determined: the edges {which} are parallel in the picture, so they meet nowhere and "
                f"nothing tells how wide the lens is. {remedy}")
    return f"The focal length can't be determined from these marks. {remedy}"
