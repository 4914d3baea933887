"""Solve a filmed plate: the one way from a version 2 document to a path, for page, command line and tests.

The tracks alone give a path up to a similarity (`find`). It is placed by the facts without bending
(`placement`), then tracks and facts are solved together, each with its own σ: of the tracks as large as
their own residuals say. What the facts leave open is held, and reported as not set.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import CameraPath
from aperture.errors import Problem
from aperture.match import solve as still
from aperture.match.document import AXES, InvalidDocument
from aperture.path import report
from aperture.path.bundle import Bundle, Freedom, Observations, State
from aperture.path.covariance import Solved, Spread
from aperture.path.document import FilmEvidence, as_still, is_film, read
from aperture.path.facts import PathFacts, gather
from aperture.path.find import Found, Wanted, Watch, find, nobody
from aperture.path.growing import Growing
from aperture.path.imaging import Optics
from aperture.path.placement import Known, Placed, held_parameters, place
from aperture.path.sightings import Sightings

# A focal length whose ln has a larger ± isn't known.
LEAST_KNOWN_FOCAL = 0.5
# Sightings of a track of which so many are left out are not of one point that stands still.
MOST_LEFT_OUT = 0.5


@dataclass(frozen=True, eq=False)
class FilmFit:
    """`document`: the fit as match-document.md specifies, JSON-ready; `path` is None where there is none."""

    document: dict[str, Any]
    path: CameraPath | None = None

    @property
    def ok(self) -> bool:
        """Whether there is a camera."""
        return self.document["ok"]


@dataclass(frozen=True, eq=False)
class Network:
    """A solved set of equations, with what its indices mean.

    frames (F,): indices into the range; tracks (P,): into the evidence's tracks; use (F', T) of bool: the
    sightings that count, over the whole range; factor: by what the tracks' σ were multiplied.
    """

    bundle: Bundle
    frames: Array
    tracks: Array
    use: Array
    factor: float
    placed: Placed
    facts: PathFacts

    @property
    def state(self) -> State:
        """At the optimum."""
        return self.bundle.state


def solve(
    document: dict[str, Any],
    warm: dict[str, Any] | None = None,
    watch: Watch = nobody,
    checked: bool = False,
    threads: int | None = None,
) -> FilmFit:
    """Fit a path to a version 2 match document; a document of one frame gets the still solver's answer.

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
                "The numbers of this evidence are beyond what can be computed: look for one that is "
                "far too large or far too small."
            )
        )


def _solved(
    evidence: FilmEvidence,
    document: dict[str, Any],
    warm: dict[str, Any] | None,
    watch: Watch,
    threads: int | None,
) -> FilmFit:
    optics = Optics(evidence.grid, evidence.lens)
    sightings = Sightings.of(evidence.tracks, evidence.first, evidence.last, evidence.grid)
    known = [sigma for index, _, sigma in evidence.lens_known if index == 0]
    wanted = Wanted(
        evidence.free_lens, evidence.focal_mm, known[0] if known else 0.0, evidence.motion
    )
    found = _from(warm, sightings, optics, evidence) if warm else None
    if found is None:
        found = find(sightings, optics, wanted, watch, threads or 1)
    if found.kind == "still":
        raise Problem(
            "The camera doesn't move over these frames: nothing of the distances or the lens can be "
            "known from tracks. Match one frame as a photograph; that camera holds for all of them."
        )
    watch("Solving tracks and facts together", 0.9)
    network = solve_network(evidence, sightings, optics, found, planes_of(document), threads)
    watch("Finding how exact it is", 0.95)
    told = report.Told(evidence, sightings, network, *spreads(network), found.kind)
    return FilmFit(report.write(told), path_of(evidence, network))


def planes_of(document: dict[str, Any]) -> dict[str, tuple[int, list[str]]]:
    """Axis and track ids of the planes whose place isn't known."""
    items = [*document.get("tracks", ()), *document.get("marks", ())]
    return {
        plane["id"]: (
            AXES.index(plane["axis"]),
            [item["id"] for item in items if item.get("on") == plane["id"] and not item.get("off")],
        )
        for plane in document.get("planes", ())
        if plane["metres"] is None
    }


def path_of(evidence: FilmEvidence, network: Network) -> CameraPath:
    """The cameras of a solved network."""
    state = network.state
    lens = evidence.lens.with_parameters(state.lens)
    focal = np.exp(state.lens[0] + state.zoom)
    frames = evidence.frames[network.frames]
    return CameraPath(evidence.grid, lens, frames, state.rotations, state.positions, focal)


# Solving ----------------------------------------------------------------------------------------------------


def solve_network(
    evidence: FilmEvidence,
    sightings: Sightings,
    optics: Optics,
    found: Found,
    planes: dict[str, tuple[int, list[str]]],
    threads: int | None = None,
    most_rounds: int = 3,
) -> Network:
    """Tracks and facts together, by plain least squares on what is believed."""
    posed, start, tracks, use = _start(sightings, found)
    known_places = evidence.world[tracks].copy()
    known_places[evidence.world_sigma[tracks] > 0] = np.nan
    is_placed = np.zeros(len(evidence.tracks), bool)
    is_placed[tracks] = True
    frames = np.flatnonzero(posed)
    facts = gather(evidence, posed, is_placed, planes)
    at_infinity = found.kind == "nodal"
    if at_infinity:
        facts = PathFacts([item for item in facts.equations if item.directional], facts.extra_count)
        known_places[:] = np.nan
    placed = place(start, facts, Known(known_places), evidence.lens)
    factor = 1.0
    for round_ in range(most_rounds):
        network = _solve_once(
            evidence,
            sightings,
            optics,
            placed,
            frames,
            tracks,
            use,
            known_places,
            facts,
            factor,
            at_infinity,
            threads,
        )
        factor, bad = _judged(network, sightings)
        if round_ == most_rounds - 1 or (not bad.any() and abs(factor / network.factor - 1) < 0.02):
            return network
        use = use & ~bad
        placed = replace(placed, state=network.state)
    return network


def _start(sightings: Sightings, found: Found) -> tuple[Array, State, Array, Array]:
    """Posed frames (F,), the state to begin with, the tracks (P,) that have points, and the sightings (F, T) to use."""
    if found.turning is not None:
        turning = found.turning
        posed = np.zeros(len(sightings.frames), bool)
        posed[turning.frames] = True
        use = turning.use & np.isfinite(turning.directions[:, 0])
        use &= use.sum(axis=0) >= 2
        tracks = np.flatnonzero(use.any(axis=0))
        count = len(turning.frames)
        state = State(
            turning.rotations,
            np.zeros((count, 3)),
            np.zeros(count),
            turning.lens,
            turning.directions[tracks],
        )
        return posed, state, tracks, use
    path = found.path
    assert path is not None
    use = believed(path)
    tracks = np.flatnonzero(use.any(axis=0))
    frames = np.flatnonzero(path.posed)
    state = State(
        path.rotations[frames],
        path.positions[frames],
        np.zeros(len(frames)),
        path.lens,
        path.points[tracks],
    )
    return path.posed, state, tracks, use


def believed(path: Growing) -> Array:
    """(F, T) the sightings that count: of tracks most of whose sightings agree with one point."""
    possible = path.sightings.seen & path.posed[:, None] & path.placed
    use = path.use & possible
    share = use.sum(axis=0) / np.maximum(possible.sum(axis=0), 1)
    use &= share >= 1 - MOST_LEFT_OUT
    return use & (use.sum(axis=0) >= 2)


def _solve_once(
    evidence: FilmEvidence,
    sightings: Sightings,
    optics: Optics,
    placed: Placed,
    frames: Array,
    tracks: Array,
    use: Array,
    known_places: Array,
    facts: PathFacts,
    factor: float,
    at_infinity: bool,
    threads: int | None,
) -> Network:
    row, column = np.nonzero(use[np.ix_(frames, tracks)])
    at = frames[row], tracks[column]
    observations = Observations(row, column, sightings.xy[at], sightings.sigma[at] * factor)
    held = np.isfinite(known_places)
    points = np.where(held, known_places, placed.state.points)
    state = replace(placed.state, points=points)
    state = replace(state, extra=facts.begin(state, evidence.lens))
    free = np.ones((len(frames), 6), bool)
    if at_infinity:
        free[:, 3:] = False
        state = replace(state, positions=np.zeros((len(frames), 3)))
        points = state.points - placed.state.positions[0]
        state = replace(state, points=points / np.linalg.norm(points, axis=1, keepdims=True))
    free = held_parameters(replace(placed, state=state), free)
    freedom = Freedom(free, evidence.free_lens, held, np.ones(facts.extra_count, bool), at_infinity)
    tied = facts.tied
    bundle = Bundle(observations, optics, state, freedom, facts, tied, threads)
    bundle.solve(most=60)
    return Network(bundle, frames, tracks, use, factor, placed, facts)


def _judged(network: Network, sightings: Sightings) -> tuple[float, Array]:
    """By what the tracks' own σ have to be multiplied, and the sightings (F, T) that are too far off to be right."""
    residuals, _ = network.bundle.residuals(network.state)
    sigmas = np.linalg.norm(residuals, axis=1)
    row, column = np.nonzero(network.use[np.ix_(network.frames, network.tracks)])
    bad = np.zeros(network.use.shape, bool)
    far = sigmas > 5.0 * max(1.0, float(np.median(sigmas)) / 1.1774)
    bad[network.frames[row[far]], network.tracks[column[far]]] = True
    unknowns = _unknowns(network)
    kept = residuals[~far]
    freedom = max(2 * np.count_nonzero(~far) - unknowns, 1)
    return network.factor * float(np.sqrt((kept**2).sum() / freedom)), bad


def _unknowns(network: Network) -> int:
    """How many numbers are solved for, less those that facts alone determine."""
    freedom = network.bundle.freedom
    per_point = 2 if freedom.at_infinity else 3
    points = per_point * len(network.tracks) - int(freedom.held.sum())
    return int(freedom.cameras.sum() + freedom.lens.sum() + points)


def spreads(network: Network) -> tuple[Spread, Spread, Solved]:
    """By the normal matrix, and clustered by track; and the linearised network, for more questions."""
    solved = Solved(network.bundle)
    freedom = max(2 * len(network.bundle.camera) - _unknowns(network), 1)
    return solved.spread(), solved.clustered(freedom), solved


def _from(
    warm: dict[str, Any], sightings: Sightings, optics: Optics, evidence: FilmEvidence
) -> Found | None:
    """An earlier fit as something found; None if it is of another kind, or of other frames."""
    path = warm.get("path") if warm.get("ok") else None
    if not path or warm.get("motion") != "free" or "world_from_camera" not in path:
        return None
    growing = Growing(sightings, optics, evidence.free_lens, optics.lens.parameters.copy(), None)
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
    lens = np.array([np.log(camera["focal_mm"] or camera["focal_px"][1]), 0, 0, 0, 0, 0, 0, 0])
    lens[1:3] = optics.grid.to_mm([camera["principal_point_px"]])[0]
    lens[3:] = [camera["distortion"][name] for name in ("k1", "k2", "k3", "p1", "p2")]
    growing.lens = np.where(evidence.free_lens, lens, growing.lens)
    for number, id_ in enumerate(evidence.tracks.ids):
        place_ = warm["points"].get(id_)
        if place_:
            growing.points[number] = place_["world_m"]
    if np.count_nonzero(growing.placed) < 0.5 * len(evidence.tracks):
        return None
    growing.triangulate(least_deg=0.5, most_px=3.0)
    growing.adjust(rounds=2, most=10)
    return Found("free", path=growing)
