"""Solve a filmed plate: the one way from a version 2 document to a path, for page, command line and tests.

The tracks alone give a path up to a similarity (`find`). It is placed by the facts without bending
(`placement`), then tracks and facts are solved together, each with its own σ: of the tracks as large as
their own residuals say. What the facts leave open is held, and reported as not set.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import CameraPath
from aperture.errors import Problem
from aperture.match import solve as still
from aperture.match.document import AXES, InvalidDocument
from aperture.path import report
from aperture.path.bending import LOOSE, Bending, bending, placing_spread, stood
from aperture.path.bundle import Bundle, depth_sigmas
from aperture.path.covariance import Solved, Spread
from aperture.path.document import FilmEvidence, as_still, is_film, read
from aperture.path.facts import PathFacts, PointCoordinate, gather
from aperture.path.find import Found, Wanted, Watch, find, nobody
from aperture.path.growing import Growing
from aperture.path.imaging import Optics
from aperture.path.placement import Guess, Known, Placed, held_parameters, place
from aperture.path.problem import Freedom, State
from aperture.path.rolling import Readout, at_middle_rows
from aperture.path.rolling import solved as solved_readout
from aperture.path.sightings import Sightings

# A focal length whose ln has a larger ± isn't known.
LEAST_KNOWN_FOCAL = 0.5
# A point's ± along its rays over its distance, above which it isn't placed.
MOST_VAGUE = 0.15
# A sighting farther off than this isn't of the point.
FARTHEST_SIGMAS = 5.0
# Weight of the other tracks in the variance of one, in residuals; the median of a track's mean square
# over its expectation, for tracks of middle length; and a σ so many times the usual one is no track's.
OTHERS, MEDIAN_SHARE, MOST_WORSE = 10.0, 0.97, 6.0
# Frames whose marks are solved by themselves, to find where the path is in the world.
MOST_GUESSES = 3
# How often the sightings are judged anew, and a change of σ that is none.
MOST_ROUNDS, SAME_FACTOR = 6, 0.02
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
    sightings that count, over the whole range; factors (T,): by what each track's σ were multiplied.
    """

    bundle: Bundle
    frames: Array
    tracks: Array
    use: Array
    factors: Array
    placed: Placed
    facts: PathFacts
    bending: Bending | None = None
    readout: Readout | None = None

    @property
    def factor(self) -> float:
        """By what the σ of the tracks in use were multiplied, the root mean square over sightings."""
        seen = self.use.sum(axis=0)
        return float(np.sqrt(np.average(self.factors**2, weights=seen)))

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
    seen = Sightings.of(evidence.tracks, evidence.first, evidence.last, evidence.grid)
    sightings = at_middle_rows(seen, _readout_of(warm) or evidence.readout[0])
    known = [sigma for index, _, sigma in evidence.lens_known if index == 0]
    wanted = Wanted(
        evidence.free_lens,
        evidence.focal_mm,
        known[0] if known else 0.0,
        evidence.motion,
        evidence.zooms,
        evidence.focal_on,
        evidence.world,
        evidence.readout != (0.0, 0.0),
    )
    found = _from(warm, sightings, optics, evidence) if warm else None
    if found is None:
        found = find(sightings, optics, wanted, watch, threads or 1)
    if found.kind == "still":
        raise Problem(
            "The camera doesn't move over these frames: nothing of the distances or the lens can be "
            "known from tracks. Match one frame as a photograph; that camera holds for all of them."
        )
    if found.readout:
        evidence = replace(evidence, readout=(found.readout, np.inf))
        sightings = at_middle_rows(seen, found.readout)
    watch("Solving tracks and facts together", 0.9)
    given, network, known_places = solve_network(
        evidence, sightings, optics, found, document, threads
    )
    if evidence.readout[1] > 0:
        watch("Solving the readout time", 0.92)
        begin = _readout_of(warm) or evidence.readout[0]
        prior = evidence.readout if np.isfinite(evidence.readout[1]) else None
        whole = replace(given, sightings=seen)
        given, network = solved_readout(whole, network, known_places, begin, prior)
    network = replace(network, bending=bending(given, network, known_places))
    watch("Finding how exact it is", 0.95)
    spread = spreads(network)
    told = report.Told(
        evidence, given.sightings, network, *spread, found.kind, untold_shutter=bool(found.readout)
    )
    if evidence.stands and network.bending is not None:
        watch("Standing the path on its feet", 0.97)
        told = _stood(told, given, known_places)
    return FilmFit(report.write(told), path_of(evidence, told.network))


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


def _guesses(evidence: FilmEvidence, document: dict[str, Any], posed: Array) -> list[Guess]:
    """The poses that the still matcher finds for the frames with most marks, where it finds any."""
    marks = Counter(mark.get("frame", evidence.first) for mark in document.get("marks", ()))
    out = []
    for frame, _ in marks.most_common(MOST_GUESSES):
        index = frame - evidence.first
        if not 0 <= index < len(posed) or not posed[index]:
            continue
        fit = still.solve(as_still(document, frame), explain=False)
        if fit.camera is not None:
            camera = int(np.count_nonzero(posed[:index]))
            out.append(Guess(camera, np.nan_to_num(fit.camera.world_from_camera)))
    return out


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
    document: dict[str, Any],
    threads: int | None = None,
) -> tuple[Given, Network, Array]:
    """Tracks and facts together, by plain least squares on what is believed; the coordinates (P, 3) that are exact as well."""
    posed, start, tracks, use = _start(sightings, found)
    nodal = found.kind == "nodal"
    planes = planes_of(document)
    given = Given(evidence, sightings, optics, posed, planes, nodal, threads)
    guesses = _guesses(evidence, document, posed)
    in_world = found.path is not None and bool(found.path.surveyed.any())
    placed, facts, known = given.placed(start, tracks, begun=in_world, guesses=guesses)
    factors = np.ones(len(evidence.tracks))
    for round_ in range(MOST_ROUNDS):
        network = given.solve(placed, tracks, use, known, facts, factors)
        factors, bad = judged(network)
        settled = np.median(np.abs(factors / network.factors - 1)) < SAME_FACTOR
        if round_ == MOST_ROUNDS - 1 or (settled and not bad.any()):
            break
        use = use & ~bad
        seen = use[:, tracks].sum(axis=0) >= 2
        if seen.all():
            placed = replace(placed, state=network.state)
            continue
        use[:, tracks[~seen]] = False
        tracks = tracks[seen]
        start = replace(network.state, points=network.state.points[seen])
        placed, facts, known = given.placed(start, tracks, begun=True)
    return given, network, known


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
            turning.zoom,
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
        path.zoom[frames],
        path.lens,
        path.points[tracks],
    )
    return path.posed, state, tracks, use


def believed(path: Growing) -> Array:
    """(F, T) the sightings that count: of tracks most of whose sightings agree with one point."""
    possible = path.sightings.seen & path.posed[:, None] & path.placed
    # A survey has a ± of its own, which isn't the tracks': what disagrees with it may still be right.
    use = np.where(path.surveyed, possible, path.use & possible)
    share = use.sum(axis=0) / np.maximum(possible.sum(axis=0), 1)
    use &= share >= 1 - MOST_LEFT_OUT
    return use & (use.sum(axis=0) >= 2)


@dataclass(frozen=True, eq=False)
class Given:
    """What stays the same while sightings are judged. posed (F,): frames that have a camera."""

    evidence: FilmEvidence
    sightings: Sightings
    optics: Optics
    posed: Array
    planes: dict[str, tuple[int, list[str]]]
    at_infinity: bool
    threads: int | None

    def placed(
        self,
        state: State,
        tracks: Array,
        begun: bool = False,
        guesses: Sequence[Guess] = (),
    ) -> tuple[Placed, PathFacts, Array]:
        """A path with these tracks where the facts put it, the facts about them, and their exact coordinates (P, 3)."""
        evidence = self.evidence
        known = evidence.world[tracks].copy()
        known[evidence.world_sigma[tracks] > 0] = np.nan
        has_point = np.zeros(len(evidence.tracks), bool)
        has_point[tracks] = True
        facts = gather(evidence, self.posed, has_point, self.planes)
        if self.at_infinity:
            kept = [equation for equation in facts.equations if equation.directional]
            facts = PathFacts(kept, facts.extra_count)
            known[:] = np.nan
        placed = place(state, facts, Known(known), evidence.lens, begun, guesses)
        return placed, facts, known

    def solve(
        self,
        placed: Placed,
        tracks: Array,
        use: Array,
        known: Array,
        facts: PathFacts,
        factors: Array,
    ) -> Network:
        """The optimum for some sightings (F, T), each track's σ times its factor (T,)."""
        frames = np.flatnonzero(self.posed)
        row, column = np.nonzero(use[np.ix_(frames, tracks)])
        at = frames[row], tracks[column]
        observations = self.sightings.observations(row, column, at, factors[at[1]])
        held = np.isfinite(known)
        state = replace(placed.state, points=np.where(held, known, placed.state.points))
        free = np.ones((len(frames), 7 if self.evidence.zooms else 6), bool)
        if self.at_infinity:
            free[:, 3:6] = False
            away = state.points - state.positions[0]
            directions = away / np.linalg.norm(away, axis=1, keepdims=True)
            state = replace(state, positions=np.zeros((len(frames), 3)), points=directions)
        state = replace(state, extra=facts.begin(state, self.evidence.lens))
        freedom = Freedom(
            held_parameters(replace(placed, state=state), free),
            self.evidence.free_lens,
            held,
            np.ones(facts.extra_count, bool),
            self.at_infinity,
        )
        bundle = Bundle(observations, self.optics, state, freedom, facts, facts.tied, self.threads)
        bundle.solve(most=60)
        return Network(bundle, frames, tracks, use, factors, placed, facts)


def judged(network: Network) -> tuple[Array, Array]:
    """By what each track's σ has to be multiplied (T,), and the sightings (F, T) that can't be right.

    Tracks differ in how far their σ is from the truth: in compressed film, on edges, with blur. The
    variance of each is estimated from its own residuals, and from the other tracks' as if these were
    OTHERS more residuals of its own: with few sightings it gets what all have.
    """
    bundle = network.bundle
    residuals, _ = bundle.residuals(network.state)
    sigmas = np.linalg.norm(residuals, axis=1)
    row, column = np.nonzero(network.use[np.ix_(network.frames, network.tracks)])
    far = sigmas > FARTHEST_SIGMAS * max(1.0, float(np.median(sigmas)) / 1.1774)
    bad = np.zeros(network.use.shape, bool)
    bad[network.frames[row[far]], network.tracks[column[far]]] = True
    if not bundle.freedom.at_infinity:
        bad[:, network.tracks[_is_vague(network)]] = True
    count = len(network.factors)
    near = ~far
    of = network.tracks[column[near]]
    before = network.factors[of] ** 2
    squares = np.bincount(of, (residuals[near] ** 2).sum(axis=1) * before, count)
    share = max(1 - _unknowns(network) / max(2 * near.sum(), 1), 0.05)
    freedom = 2 * np.bincount(of, minlength=count) * share
    several = freedom > 0
    usual = float(np.median(squares[several] / freedom[several])) / MEDIAN_SHARE
    variance = (OTHERS * usual + squares) / (OTHERS + freedom)
    variance = np.maximum(variance, 1e-6)
    bad[:, variance > MOST_WORSE**2 * usual] = True
    return np.sqrt(variance), bad & network.use


def _is_vague(network: Network) -> Array:
    """(P,) of bool: points whose distance is hardly known; they tell nothing, and make the equations singular."""
    state = network.state
    away = np.linalg.norm(state.points - np.median(state.positions, axis=0), axis=1)
    held = np.array(network.bundle.freedom.held.any(axis=1))
    surveyed = Counter(
        equation.point
        for equation in network.facts.equations
        if isinstance(equation, PointCoordinate)
    )
    held[[point for point, count in surveyed.items() if count == 3]] = True
    return (depth_sigmas(network.bundle) > MOST_VAGUE * away) & ~held


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
    naive, clustered = solved.spread(), solved.clustered(freedom)
    if network.readout is not None:
        naive, clustered = network.readout.added(naive), network.readout.added(clustered)
    return naive, clustered, solved


def _from(
    warm: dict[str, Any], sightings: Sightings, optics: Optics, evidence: FilmEvidence
) -> Found | None:
    """An earlier fit as something found; None if it is of another kind, or of other frames."""
    path = warm.get("path") if warm.get("ok") else None
    if not path or warm.get("motion") != "free" or "world_from_camera" not in path:
        return None
    if bool(warm.get("zooms")) != evidence.zooms:
        return None
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
    focal = camera["focal_mm"] or (camera["focal_px"] or [0, 1.0])[1]
    lens = np.array([np.log(focal), 0, 0, 0, 0, 0, 0, 0])
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
