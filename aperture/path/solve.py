"""Solve a filmed plate: the one way from a version 2 document to a path, for page, command line and
tests.

The tracks alone give a path up to a similarity (`find`). It is placed by the facts without bending
(`placement`), then tracks and facts are solved together, each with its own σ: of the tracks as
large as their own residuals say. What the facts leave open is held, and reported as not set.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import CameraPath
from aperture.errors import Problem
from aperture.match import solve as still
from aperture.match.document import InvalidDocument
from aperture.path import report
from aperture.path.bending import LOOSE, bending, placing_spread, stood
from aperture.path.document import FilmEvidence, as_still, is_film, read
from aperture.path.doubts import between, focal_doubt, more_misfit, with_parallax
from aperture.path.find import RIVALS, Found, find, from_move
from aperture.path.growing import Growing
from aperture.path.imaging import Optics
from aperture.path.network import (
    Given,
    Network,
    on_common_sightings,
    solve_network,
    spreads,
)
from aperture.path.pivot import in_order
from aperture.path.rolling import at_middle_rows
from aperture.path.rolling import solved as solved_readout
from aperture.path.several import beside, cores
from aperture.path.sightings import Sightings
from aperture.path.survey import Survey
from aperture.path.surveyed import are_enough
from aperture.path.wanted import Wanted, Watch, nobody

# An earlier path is still near its optimum if its residuals haven't grown by more than this factor.
SAME_PX = 1.2


@dataclass(frozen=True, eq=False)
class FilmFit:
    """`document`: the fit as match-document.md specifies, JSON-ready; `path` is None where there is
    none."""

    document: dict[str, Any]
    path: CameraPath | None = None

    @property
    def ok(self) -> bool:
        """Whether there is a camera."""
        return self.document["ok"]


def solve(
    document: dict[str, Any],
    warm: dict[str, Any] | None = None,
    watch: Watch = nobody,
    checked: bool = False,
    threads: int | None = None,
) -> FilmFit:
    """Fit a path to a version 2 match document; a document of one frame gets the still solver's
    answer.

    Parameters
    ----------
    document : dict
    warm : dict, optional
        An earlier fit to start from, for edits that change little.
    watch : callable, optional
        Is told the stage in words and the share that is done; what it raises ends the solution.
    checked : bool
        Whether the document is known to obey its schema.
    threads : int, optional

    Returns
    -------
    FilmFit
        With `ok` false and a sentence where the evidence doesn't determine a path.

    Raises
    ------
    InvalidDocument
        If the document breaks the schema.
    """
    evidence = read(document, checked)
    if not is_film(document):
        fit = still.solve(as_still(document), checked=False)
        return FilmFit(fit.document)
    try:
        return _solved(evidence, document, warm, watch, threads)
    except InvalidDocument:
        raise
    except Problem as problem:
        return FilmFit(report.refusal(problem.sentence, problem.place))
    except (np.linalg.LinAlgError, OverflowError, FloatingPointError):
        return FilmFit(
            report.refusal(
                "The numbers of this evidence are beyond what can be computed: look for one that is"
                " far too large or far too small."
            )
        )


def _first_path(
    evidence: FilmEvidence, sightings: Sightings, optics: Optics, watch: Watch, threads: int
) -> Found:
    """A path to begin with: by the move that was brought in, or else from the tracks. Raises
    Problem where the camera doesn't move."""
    known = [sigma for index, _, sigma in evidence.lens_known if index == 0]
    wanted = Wanted(
        evidence.free_lens,
        evidence.focal_mm,
        known[0] if known else 0.0,
        evidence.motion,
        evidence.zooms,
        evidence.focal_on,
        Survey(evidence.world, evidence.world_sigma),
        evidence.readout != (0.0, 0.0),
    )
    found = None
    if evidence.move is not None and evidence.move.goes:
        found = from_move(sightings, optics, wanted, evidence.move, watch, threads)
    if found is None:
        found = find(sightings, optics, wanted, watch, threads)
    if found.kind == "still":
        raise Problem(
            "The camera doesn't move over these frames: nothing of the distances or the lens can be"
            " known from tracks. Match one frame as a photograph; that camera holds for all of"
            " them."
        )
    return found


def _solved(
    evidence: FilmEvidence,
    document: dict[str, Any],
    warm: dict[str, Any] | None,
    watch: Watch,
    threads: int | None,
) -> FilmFit:
    optics = Optics(evidence.grid, evidence.lens)
    seen = Sightings.of(evidence.tracks, evidence.first, evidence.last, evidence.grid)
    sightings = at_middle_rows(seen, _readout_of(warm) or evidence.readout[0])
    found = _from(warm, sightings, optics, evidence) if warm else None
    if found is None:
        found = _first_path(evidence, sightings, optics, watch, threads or cores())
    if found.readout:
        evidence = replace(evidence, readout=(found.readout, np.inf))
        sightings = at_middle_rows(seen, found.readout)

    def solved_together(path: Found) -> tuple[Given, Network, Array]:
        return solve_network(evidence, sightings, optics, path, document, threads)

    watch("Solving tracks and facts together", 0.9)
    (given, network, known_places), reversible = _best_of_rivals(found, solved_together, watch)
    if evidence.readout[1] > 0:
        watch("Solving the readout time", 0.92)
        begin = _readout_of(warm) or evidence.readout[0]
        prior = evidence.readout if np.isfinite(evidence.readout[1]) else None
        whole = replace(given, sightings=seen)
        doubts = network.doubts
        given, network = solved_readout(whole, network, known_places, begin, prior)
        network = replace(network, doubts=doubts)
    network, pivot, arm = with_parallax(given, network)
    if pivot is not None:
        network = replace(network, doubts=(*network.doubts, pivot))
    watch("Finding how exact it is", 0.95)
    bent, spread = beside(
        partial(bending, given, network, known_places), partial(spreads, network), threads
    )
    network = replace(network, bending=bent)
    doubt = focal_doubt(given, network, known_places, spread[0])
    if doubt is not None:
        network = replace(network, doubts=(*network.doubts, doubt))
        spread = spreads(network)
    told = report.Told(
        evidence,
        given.sightings,
        network,
        *spread,
        found.kind,
        untold_shutter=bool(found.readout),
        reversible=reversible,
        off_pivot=arm,
    )
    if evidence.stands and network.bending is not None:
        watch("Standing the path on its feet", 0.97)
        told = _stood(told, given, known_places)
    return FilmFit(report.write(told), path_of(evidence, told.network))


Solution = tuple[Given, Network, Array]


def _best_of_rivals(
    found: Found, solved: Callable[[Found], Solution], watch: Watch
) -> tuple[Solution, bool]:
    """Of a path and its rivals the one that leaves least, tracks and facts together; and whether
    another one leaves hardly more. Raises Problem where none can be solved."""
    if not found.rivals:
        return solved(found), False
    solutions: list[Solution] = []
    problem: Problem | None = None
    for number, path in enumerate((found.path, *found.rivals)):
        if number:
            watch("Solving the path with near and far reversed", 0.91)
        try:
            solutions.append(solved(replace(found, path=path)))
        except Problem as error:
            problem = error
    if not solutions:
        assert problem is not None
        raise problem
    alike = on_common_sightings(solutions)
    best = 0
    for number in range(1, len(solutions)):
        if more_misfit(alike[best], alike[number]).squares > 0:
            best = number
    others = [
        (more_misfit(alike[number], alike[best]).share, number)
        for number in range(len(solutions))
        if number != best and not _is_same(solutions[number][1], solutions[best][1])
    ]
    given, network, known = solutions[best]
    share, nearest = max(others, default=(0.0, 0))
    if share < RIVALS:
        return solutions[best], False
    network = replace(network, doubts=(between(network, solutions[nearest][1], share),))
    return (given, network, known), True


def _is_same(one: Network, other: Network) -> bool:
    """Whether two solutions, however they were begun, ended with near and far the same way."""
    _, mine, its = np.intersect1d(one.tracks, other.tracks, return_indices=True)
    first, second = (
        np.linalg.norm(network.state.points[which] - network.state.positions[0], axis=1)
        for network, which in ((one, mine), (other, its))
    )
    return in_order(first, second)


def _stood(bent: report.Told, given: Given, known: Array) -> report.Told:
    """The path that the facts only lay down, in place of the one that they bend."""
    network = stood(given, bent.network, known)
    placing = placing_spread(network)
    naive, clustered, solved = spreads(network)
    naive = naive.plus(placing.widened(1 - LOOSE**2))
    clustered = clustered.plus(placing)
    return replace(
        bent, network=network, naive=naive, clustered=clustered, solved=solved, bent=bent
    )


def _readout_of(warm: dict[str, Any] | None) -> float:
    """The readout time in frames that an earlier fit found."""
    return float((warm or {}).get("readout_frames") or 0.0)


def path_of(evidence: FilmEvidence, network: Network) -> CameraPath:
    """The cameras of a solved network."""
    state = network.state
    lens = evidence.lens.with_parameters(state.lens)
    focal = np.exp(state.lens[0] + state.zoom)
    frames = evidence.frames[network.frames]
    return CameraPath(evidence.grid, lens, frames, state.rotations, state.positions, focal)


def _lens_of(camera: dict[str, Any], optics: Optics) -> Array:
    """(8,) lens PARAMETERS of a fit's camera."""
    focal = camera["focal_mm"] or (camera["focal_px"] or [0, 1.0])[1]
    middle = optics.grid.to_mm([camera["principal_point_px"]])[0]
    bends = [camera["distortion"][name] for name in ("k1", "k2", "k3", "p1", "p2")]
    return np.array([np.log(focal), *middle, *bends])


def _from(
    warm: dict[str, Any], sightings: Sightings, optics: Optics, evidence: FilmEvidence
) -> Found | None:
    """An earlier fit as something found; None if it is of another kind, or of other frames, or one
    of several that are possible."""
    path = warm.get("path") if warm.get("ok") else None
    if not path or warm.get("motion") != "free" or "world_from_camera" not in path:
        return None
    if bool(warm.get("zooms")) != evidence.zooms:
        return None
    if any(remark["kind"] == "reversible" for remark in warm.get("remarks", ())):
        return None
    if not are_enough(sightings, Survey(evidence.world, evidence.world_sigma)):
        return None  # as without an earlier fit, which is told why
    growing = Growing(
        sightings,
        optics,
        evidence.free_lens,
        optics.lens.parameters.copy(),
        None,
        zooms=evidence.zooms,
    )
    index = {int(frame): number for number, frame in enumerate(sightings.frames)}
    for frame, pose in zip(path["frames"], path["world_from_camera"]):
        if frame in index and pose is not None:
            matrix = np.array(pose, float)
            growing.rotations[index[frame]] = matrix[:3, :3]
            growing.positions[index[frame]] = matrix[:3, 3]
            growing.posed[index[frame]] = True
    if not growing.posed.all() and len(path["frames"]) != len(sightings.frames):
        return None
    camera = warm["camera"]
    if evidence.zooms:
        for frame, focal in zip(path["frames"], path["focal_mm"]):
            if frame in index and focal is not None:
                growing.zoom[index[frame]] = np.log(focal) - growing.lens[0]
    growing.lens = np.where(evidence.free_lens, _lens_of(camera, optics), growing.lens)
    for number, id_ in enumerate(evidence.tracks.ids):
        place_ = warm["points"].get(id_)
        if place_:
            growing.points[number] = place_["world_m"]
    if np.count_nonzero(growing.placed) < 0.5 * len(evidence.tracks):
        return None
    growing.triangulate(least_deg=0.5, most_px=3.0)
    off_px = growing.adjust(most=0) * sightings.sigma.mean(axis=2)
    near = _still_fits(off_px[np.isfinite(off_px)], warm["residuals"])
    if not near:
        growing.believe_all()
        growing.adjust(rounds=2, most=10)
    return Found("free", path=growing, near=near)


def _still_fits(off_px: Array, residuals: dict[str, Any]) -> bool:
    """Whether an earlier path is as far off (n,) px as it was when it was solved, by as many of
    the sightings as took part then: those that were left out may be anywhere."""
    squares = np.sort(off_px**2)[: residuals["observations"]]
    before_px = float(residuals["rms_px"] or 0.0)
    return bool(len(squares) and np.sqrt(squares.mean() / 2) < SAME_PX * before_px)
