"""Tracks and facts of a film as one set of equations: begun at what was found, solved, and its
sightings judged until nothing changes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.match import solve as still
from aperture.match.document import AXES
from aperture.path import far_facts
from aperture.path.bending import EXACT_M, Bending
from aperture.path.bundle import FIRST_DAMPING, LEAST_GAIN, NEAR_DAMPING, Bundle
from aperture.path.clustering import clustered, drift_of
from aperture.path.covariance import Solved
from aperture.path.document import FilmEvidence, as_still
from aperture.path.facts import PathFacts, PointCoordinate
from aperture.path.find import Found
from aperture.path.gathered import gather
from aperture.path.growing import Growing
from aperture.path.imaging import Optics
from aperture.path.placement import Guess, Known, Placed, held_parameters, place, size_of
from aperture.path.problem import Freedom, State
from aperture.path.rolling import Readout
from aperture.path.sightings import Sightings
from aperture.path.spread import Along, Spread
from aperture.path.structure import Structure

# A sighting farther off than this isn't of the point.
FARTHEST_SIGMAS = 5.0
# Weight of the other tracks in the variance of one, in residuals; the median of a track's mean
# square over its expectation, for tracks of middle length; and a σ so many times the usual one is
# no track's.
OTHERS, MEDIAN_SHARE, MOST_WORSE = 10.0, 0.97, 6.0
# Frames whose marks are solved by themselves, to find where the path is in the world.
MOST_GUESSES = 3
# How often the sightings are judged anew, and a change of σ that is none.
MOST_ROUNDS, SAME_FACTOR = 6, 0.02
# A point's ± along its rays over its distance, above which it tells nothing; and of the middle one,
# where most are vague.
MOST_VAGUE, MIDDLE_VAGUE = 0.15, 0.012
# Steps to an optimum at most. Most need ten; where rays hardly differ, and facts are far, there may
# be hundreds.
MOST_STEPS, FARTHEST_STEPS = 60, 400
# Sightings of a track of which so many are left out are not of one point that stands still.
MOST_LEFT_OUT = 0.5
# The numbers that place a path; a fact that a path agrees with already, in σ (an exact coordinate
# by EXACT_M); which share of them is most; and how far a path that is placed as well as it can be
# is moved by placing it anew, over its size and the distance.
SEVEN, AGREES_SIGMAS, MOST_AGREE, RESTS = 7, 4.0, 2 / 3, 1e-4
# Of one frame no more than this share can be wrong at once.
MOST_OF_A_FRAME = 0.7


@dataclass(frozen=True, eq=False)
class Network:
    """A solved set of equations, with what its indices mean.

    frames (F,): indices into the range; tracks (P,): into the evidence's tracks; use (F', T) of
    bool: the sightings that count, over the whole range; factors (T,): by what each track's σ were
    multiplied. doubts: along what it may be farther off than its own equations say.
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
    doubts: tuple[Along, ...] = ()

    @property
    def factor(self) -> float:
        """By what the σ of the tracks in use were multiplied, the root mean square over
        sightings."""
        seen = self.use.sum(axis=0)
        return float(np.sqrt(np.average(self.factors**2, weights=seen)))

    @property
    def sigmas(self) -> Array:
        """(F, T) how far each sighting in use is from its point, in the σ that its track came with;
        NaN elsewhere."""
        row, column = np.nonzero(self.use[np.ix_(self.frames, self.tracks)])
        at = self.frames[row], self.tracks[column]
        out = np.full(self.use.shape, np.nan)
        out[at] = np.linalg.norm(self.residuals, axis=1) * self.factors[at[1]]
        return out

    @cached_property
    def residuals(self) -> Array:
        """(N, 2) of the sightings in use, over their σ."""
        return self.bundle.residuals(self.state)[0]

    @cached_property
    def off_px(self) -> Array:
        """(N, 2) the same in px."""
        return self.bundle.off_px(self.state)

    @property
    def facts_chi2(self) -> float:
        """The facts' share of the sum of squares."""
        return float(sum(row.residual**2 for row in self.facts.rows(self.state)))

    @property
    def state(self) -> State:
        """At the optimum."""
        return self.bundle.state


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


def solve_network(
    evidence: FilmEvidence,
    sightings: Sightings,
    optics: Optics,
    found: Found,
    document: dict[str, Any],
    threads: int | None = None,
) -> tuple[Given, Network, Array]:
    """Tracks and facts together, by plain least squares on what is believed; the coordinates (P, 3)
    that are exact as well."""
    posed, start, tracks, use = _start(sightings, found)
    nodal = found.kind == "nodal"
    planes = planes_of(document)
    given = Given(evidence, sightings, optics, posed, planes, nodal, threads)
    guesses = _guesses(evidence, document, posed)
    in_world = found.path is not None and (found.path.in_world or bool(found.path.surveyed.any()))
    in_world = in_world or (found.near and given.agrees(start, tracks))
    placed, facts, known = given.placed(start, tracks, begun=in_world, guesses=guesses)
    aside = far_facts.gross(given, placed, tracks, use, facts, known)
    if aside:
        given = replace(given, aside=aside)
        placed, facts, known = given.placed(start, tracks, begun=in_world, guesses=guesses)
    factors = np.ones(len(evidence.tracks))
    eased = far_facts.eased(given, placed, tracks, use, known, facts)
    most = MOST_STEPS if eased is placed else FARTHEST_STEPS
    placed = eased
    damping = NEAR_DAMPING if found.near else FIRST_DAMPING
    network = given.solve(placed, tracks, use, known, facts, factors, most=0)
    if found.near:
        factors = _weighed(network).factors
    for round_ in range(MOST_ROUNDS):
        network = given.solve(
            placed, tracks, use, known, facts, factors, most, damping=damping, like=network
        )
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
    if back := far_facts.agreeing(network):
        heeded = {id_: rivals for id_, rivals in given.aside.items() if id_ not in back}
        given = replace(given, aside=heeded)
        placed, facts, known = given.placed(network.state, tracks, begun=True)
        network = given.solve(placed, tracks, use, known, facts, network.factors, most)
    return given, network, known


def _start(sightings: Sightings, found: Found) -> tuple[Array, State, Array, Array]:
    """Posed frames (F,), the state to begin with, the tracks (P,) that have points, and the
    sightings (F, T) to use."""
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
    # A survey has a ± of its own, which isn't the tracks': what disagrees with it may still be
    # right.
    use = np.where(path.surveyed, possible, path.use & possible)
    share = use.sum(axis=0) / np.maximum(possible.sum(axis=0), 1)
    use &= share >= 1 - MOST_LEFT_OUT
    return use & (use.sum(axis=0) >= 2)


@dataclass(frozen=True, eq=False)
class Given:
    """What stays the same while sightings are judged. posed (F,): frames that have a camera; aside:
    the ids of facts, and of tracks whose coordinates are known, that aren't heeded, each with those
    which may be the wrong ones in its place."""

    evidence: FilmEvidence
    sightings: Sightings
    optics: Optics
    posed: Array
    planes: dict[str, tuple[int, list[str]]]
    at_infinity: bool
    threads: int | None
    aside: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    def about(self, tracks: Array) -> tuple[PathFacts, Array]:
        """The facts about a path with these tracks, and their exact coordinates (P, 3)."""
        evidence = self.evidence
        known = evidence.world[tracks].copy()
        known[evidence.world_sigma[tracks] > 0] = np.nan
        has_point = np.zeros(len(evidence.tracks), bool)
        has_point[tracks] = True
        facts = gather(evidence, self.posed, has_point, self.planes)
        if self.aside:
            exact = self.exact(tracks, known)
            facts = facts.without(self.aside, exact)
            known[[one.point for one in exact if one.id in self.aside]] = np.nan
        if self.at_infinity:
            kept = [equation for equation in facts.equations if equation.directional]
            facts = PathFacts(kept, facts.extra_count)
            known[:] = np.nan
        return facts, known

    def exact(self, tracks: Array, known: Array) -> list[PointCoordinate]:
        """Exact coordinates (P, 3) of tracks as facts of their own, with next to no ±."""
        ids = [self.evidence.tracks.ids[index] for index in tracks.tolist()]
        return [
            PointCoordinate(ids[point], EXACT_M, point, axis, float(known[point, axis]))
            for point, axis in np.argwhere(np.isfinite(known)).tolist()
        ]

    def agrees(self, state: State, tracks: Array) -> bool:
        """Whether a path is where the facts have it, as one is that was solved with them: most of
        them agree, or it comes no nearer to what contradicts its shape."""
        facts, known = self.about(tracks)
        state = replace(state, extra=facts.begin(state, self.evidence.lens))
        residuals = np.array([row.residual for row in facts.rows(state)])
        off = known - state.points
        exact = off[np.isfinite(off)]
        count = len(residuals) + len(exact)
        if count < SEVEN:
            return False
        agree = np.count_nonzero(np.abs(residuals) < AGREES_SIGMAS)
        agree += np.count_nonzero(np.abs(exact) <= EXACT_M)
        if agree >= max(SEVEN, MOST_AGREE * count):
            return True
        moved = place(state, facts, Known(known), self.evidence.lens, begun=True).state
        before = np.concatenate([state.positions, state.points])
        away = np.concatenate([moved.positions, moved.points]) - before
        from_first = np.linalg.norm(before - state.positions[0], axis=1)
        farthest = RESTS * (size_of(state.points) + from_first)
        return bool((np.linalg.norm(away, axis=1) < farthest).all())

    def placed(
        self,
        state: State,
        tracks: Array,
        begun: bool = False,
        guesses: Sequence[Guess] = (),
    ) -> tuple[Placed, PathFacts, Array]:
        """A path with these tracks where the facts put it, the facts about them, and their exact
        coordinates (P, 3)."""
        facts, known = self.about(tracks)
        placed = place(state, facts, Known(known), self.evidence.lens, begun, guesses)
        return placed, facts, known

    def solve(
        self,
        placed: Placed,
        tracks: Array,
        use: Array,
        known: Array,
        facts: PathFacts,
        factors: Array,
        most: int = MOST_STEPS,
        least_gain: float = LEAST_GAIN,
        damping: float = FIRST_DAMPING,
        like: Network | None = None,
    ) -> Network:
        """The optimum for some sightings (F, T), each track's σ times its factor (T,); `like` is
        one that may be of the same sightings."""
        facts = facts.own()
        structure = None if like is None else like.bundle.structure
        bundle = self.bundle(placed, tracks, use, known, facts, factors, structure)
        bundle.solve(most, least_gain, damping=damping)
        frames = np.flatnonzero(self.posed)
        return Network(bundle, frames, tracks, use, factors, placed, facts)

    def bundle(
        self,
        placed: Placed,
        tracks: Array,
        use: Array,
        known: Array,
        facts: PathFacts,
        factors: Array,
        like: Structure | None = None,
    ) -> Bundle:
        """The equations for some sightings, before they are solved."""
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
        return Bundle(
            observations, self.optics, state, freedom, facts, facts.tied, self.threads, like
        )


def on_common_sightings(
    solutions: Sequence[tuple[Given, Network, Array]],
) -> list[Network]:
    """Some solutions of one film solved again with those sightings alone that all of them use, so
    that none is worse for a track that slides and that it couldn't leave out; as they are where
    that would leave too few."""
    common = np.logical_and.reduce([network.use for _, network, _ in solutions])
    least = max(int(network.use.sum()) for _, network, _ in solutions)
    if len(solutions) < 2 or common.sum() < MOST_LEFT_OUT * least:
        return [network for _, network, _ in solutions]
    out = []
    for given, network, _ in solutions:
        seen = common[:, network.tracks].sum(axis=0) >= 2
        use, tracks = common.copy(), network.tracks[seen]
        use[:, np.setdiff1d(np.arange(use.shape[1]), tracks)] = False
        state = replace(network.state, points=network.state.points[seen])
        placed, facts, known = given.placed(state, tracks, begun=True)
        out.append(given.solve(placed, tracks, use, known, facts, network.factors))
    return out


@dataclass(frozen=True, eq=False)
class _Weighed:
    """By what each track's σ has to be multiplied (T,), and the sightings (F, T) that are too far
    off or of tracks that are much worse than most."""

    factors: Array
    bad: Array


def _weighed(network: Network) -> _Weighed:
    """By the residuals of a network.

    Tracks differ in how far their σ is from the truth: in compressed film, on edges, with blur. The
    variance of each is estimated from its own residuals, and from the other tracks' as if these
    were OTHERS more residuals of its own: with few sightings it gets what all have.
    """
    residuals = network.residuals
    sigmas = np.linalg.norm(residuals, axis=1)
    row, column = np.nonzero(network.use[np.ix_(network.frames, network.tracks)])
    far = sigmas > FARTHEST_SIGMAS * max(1.0, float(np.median(sigmas)) / 1.1774)
    # Where most of a frame's are, it is the frame that stands wrong yet.
    of_frame = np.bincount(row, far) / np.maximum(np.bincount(row), 1)
    far &= of_frame[row] < MOST_OF_A_FRAME
    bad = np.zeros(network.use.shape, bool)
    bad[network.frames[row[far]], network.tracks[column[far]]] = True
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
    return _Weighed(np.sqrt(variance), bad)


def judged(network: Network) -> tuple[Array, Array]:
    """By what each track's σ has to be multiplied (T,), and the sightings (F, T) that can't be
    right, or tell nothing."""
    weighed = _weighed(network)
    bad = weighed.bad
    bad[:, network.tracks[_tells_nothing(network)]] = True
    return weighed.factors, bad & network.use


def _tells_nothing(network: Network) -> Array:
    """(P,) of bool: points whose distance is hardly known, where most others' is.

    They say little, and take many steps. Where it is so of many points they are all that there is,
    and to leave out those that seem far would make the rest seem near.
    """
    state, bundle = network.state, network.bundle
    if bundle.freedom.at_infinity or not len(state.points):
        return np.zeros(len(state.points), bool)
    least = np.linalg.eigvalsh(bundle.point_information())[:, 0]
    away = np.linalg.norm(state.points - np.median(state.positions, axis=0), axis=1)
    share = 1 / np.sqrt(np.maximum(least, 1e-300)) / away
    if np.median(share) > MIDDLE_VAGUE:
        return np.zeros(len(share), bool)
    return (share > MOST_VAGUE) & ~bundle.straight


def _unknowns(network: Network) -> int:
    """How many numbers are solved for, less those that facts alone determine."""
    freedom = network.bundle.freedom
    per_point = 2 if freedom.at_infinity else 3
    points = per_point * len(network.tracks) - int(freedom.held.sum())
    return int(freedom.cameras.sum() + freedom.lens.sum() + points)


def spreads(network: Network) -> tuple[Spread, Spread, Solved]:
    """By the normal matrix, and clustered by track; and the linearised network, for more
    questions."""
    solved = Solved(network.bundle)
    freedom = max(2 * len(network.bundle.camera) - _unknowns(network), 1)
    rows = network.facts.pulling_rows(network.state)
    naive, by_tracks = solved.spread(), clustered(solved, freedom, rows, drift_of(solved))
    for along in (*((network.readout,) if network.readout else ()), *network.doubts):
        naive, by_tracks = along.added(naive), along.added(by_tracks)
    return naive, by_tracks, solved
