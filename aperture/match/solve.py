"""Solve a match: the one way from a document to a fit, for the page, the command line and the tests
alike."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.lens.lens import Lens
from aperture.match import diagnose, mistakes, report, robust
from aperture.match.document import InvalidDocument, read
from aperture.match.effort import limited
from aperture.match.evidence import Evidence
from aperture.match.facts import AXES
from aperture.match.least_squares import Optimum
from aperture.match.mistakes import Solved
from aperture.match.search import cold_start, is_acceptable, require_enough, warm_start
from aperture.match.system import System

# A focal length known only to this factor (standard deviation of its logarithm), or a direction
# known only to this angle in radians, isn't known; the answer says so instead of printing a number.
LEAST_KNOWN_FOCAL = 0.5
LEAST_KNOWN_DIRECTION = 0.35
# What telling the artist about conflicts and suggestions may cost, in nominal seconds.
EXPLAINING_SECONDS = 1.0


@dataclass(frozen=True)
class Fit:
    """`document`: the fit as match-document.md specifies, JSON-ready; `camera` is None where ok is
    false."""

    document: dict[str, Any]
    camera: Camera | None = None

    @property
    def ok(self) -> bool:
        """Whether there is a camera."""
        return self.document["ok"]


def solve(
    document: dict[str, Any],
    warm: dict[str, Any] | None = None,
    checked: bool = False,
    explain: bool = True,
) -> Fit:
    """Fit a camera to a match document.

    Parameters
    ----------
    document : dict
        The match document.
    warm : dict, optional
        An earlier fit to start from, for edits that change little. The answer agrees with a cold
        start unless the evidence itself has two answers.
    checked : bool
        Whether the document is known to obey its schema.
    explain : bool
        Whether conflicts say what the rest of the evidence implies, which costs one fit per piece.

    Returns
    -------
    Fit
        With `ok` false and a sentence where the evidence doesn't determine a camera.

    Raises
    ------
    InvalidDocument
        If the document breaks the schema.
    """
    fit = _solved(document, warm, checked, explain)
    if not explain:
        return Fit(fit.fit, fit.camera)

    def without_one(other: dict[str, Any]) -> Solved:
        return _solved(other, None, checked=True, explain=False)

    return Fit(mistakes.named(document, fit.fit, without_one), fit.camera)


def _solved(
    document: dict[str, Any], warm: dict[str, Any] | None, checked: bool, explain: bool
) -> Solved:
    try:
        with limited() as effort:
            system, optimum = find(document, warm, checked)
            cut_short = effort.used_up
        fit = _judge(system, optimum, explain, cut_short)
        return Solved(fit.document, fit.camera, system, optimum)
    except InvalidDocument:
        raise
    except Problem as problem:
        return Solved(report.refusal(problem.sentence, problem.place))
    except (np.linalg.LinAlgError, OverflowError, FloatingPointError):
        return Solved(
            report.refusal(
                "The numbers of this evidence are beyond what can be computed: look for one that "
                "is far too large or far too small."
            )
        )


def find(
    document: dict[str, Any],
    warm: dict[str, Any] | None = None,
    checked: bool = False,
    own: bool = False,
) -> tuple[System, Optimum]:
    """Return the equations of a match document and their optimum, for `solve` and for questions
    about a fit.

    Parameters
    ----------
    document : dict
        The match document.
    warm : dict, optional
        A fit to start from.
    checked : bool
        Whether the document is known to obey its schema.
    own : bool
        Whether `warm` is the fit of this very document: then it is the answer, however badly it
        fits.

    Raises
    ------
    InvalidDocument
        If the document breaks the schema.
    Problem
        If no camera explains the marks.
    """
    evidence = read(document, checked)
    system = System(evidence)
    _require_some(evidence)
    with limited() as effort:
        found = warm_start(system, warm, own) if warm else None
        if found is None:
            found = cold_start(system)
        if evidence.robust and not effort.used_up:
            system, found = robust.refit(system, found)
    return system, found


def camera_of(fit: dict[str, Any], document: dict[str, Any]) -> Camera:
    """Return the camera of a fit.

    Parameters
    ----------
    fit : dict
        The fit's JSON.
    document : dict
        The match document that it came from.

    Raises
    ------
    Problem
        If the fit isn't ok.
    """
    if not fit.get("ok"):
        raise Problem(fit.get("problem", "There is no fit."))
    evidence = read(document, checked=True)
    camera, grid = fit["camera"], evidence.grid
    focal = camera["focal_mm"] if camera["focal_mm"] is not None else camera["focal_px"][1]
    lens = Lens(
        focal,
        evidence.squeeze,
        evidence.projection,
        tuple(grid.to_mm([camera["principal_point_px"]])[0]),
        tuple(camera["distortion"][name] for name in ("k1", "k2", "k3", "p1", "p2")),
    )
    pose = np.array(
        [[np.nan if v is None else v for v in row] for row in camera["world_from_camera"]], float
    )
    return Camera(grid, lens, np.nan_to_num(pose))


def _require_some(evidence: Evidence) -> None:
    if not (evidence.edges or evidence.bows or evidence.spots):
        raise Problem(
            "Nothing is marked on the plate yet. Draw edges that run across, up or along the place,"
            " two or more of each of two axes."
        )


def _judge(system: System, optimum: Optimum, explain: bool, cut_short: bool) -> Fit:
    spread = optimum.spread
    identity = np.eye(system.size)
    turn = identity[system.at["rotation"]]
    focal_known = direction_known = True
    if 0 in system.free_lens:
        row = identity[system.at["lens"]][0]
        focal_known = spread.determined(row) and spread.plus_minus(row)[0] < LEAST_KNOWN_FOCAL
    direction_known = (
        spread.determined(turn) and spread.plus_minus(turn).max() < LEAST_KNOWN_DIRECTION
    )
    lens = optimum.state.lens
    if (
        0 in system.free_lens
        and system.evidence.focal is None
        and not (focal_known and is_acceptable(system, optimum))
    ):
        # The closed form needs no optimum; straightening by a lens of ordinary length keeps it
        # clear of a runaway one.
        longer = max(system.grid.gate_mm)
        sane = lens if 0.1 < lens.focal_mm / longer < 30 else system.lens_with_focal(longer)
        sentence = diagnose.negative_square(system, sane)
        if sentence:
            raise Problem(sentence)
    if not focal_known:
        sentence = _focal_sentence(system, lens)
        return Fit(report.undetermined(system, sentence, focal=False, direction=direction_known))
    if not direction_known:
        return _without_direction(system, optimum)
    with limited(EXPLAINING_SECONDS):
        return Fit(*report.write(system, optimum, explain, cut_short))


def _without_direction(system: System, optimum: Optimum) -> Fit:
    bend = report.lens_alone(system, optimum, optimum.spread)
    if bend:
        says = (
            "The bows show how the lens bends, but not where the camera looks: draw two or more"
            " edges of each of two axes."
        )
        found = report.undetermined(system, says, focal=True, direction=False)
        return Fit(found | {"lens": bend})
    require_enough(system)
    says = "These marks leave the camera's direction open: draw two or more edges of a second axis."
    return Fit(report.undetermined(system, says, focal=True, direction=False))


def _focal_sentence(system: System, lens: Lens) -> str:
    if not system.evidence.edges and not system.spots:
        return (
            "Bows alone show only how the lens bends for its focal length: give the focal length,"
            " or draw edges."
        )
    if len(system.free_lens) > 1:
        return (
            "More of the lens is left free than these marks can determine: set the principal point"
            " to the centre and the distortion to none, or add marks."
        )
    parallel = [AXES[axis] for axis in diagnose.parallel_axes(system, lens)]
    remedy = "Draw edges of another axis that visibly converge, or give the lens's focal length."
    if parallel:
        which = " and ".join(parallel)
        return (
            f"The focal length can't be determined: the edges {which} are parallel in the picture,"
            f" so they meet nowhere and nothing shows how wide the lens is. {remedy}"
        )
    return f"The focal length can't be determined from these marks. {remedy}"
