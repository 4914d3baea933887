"""The ± of a focal length where the equations' own is not to be believed.

Where rays hardly differ, as of a lens that stands a little off the pivot about which it is turned,
far points may lie anywhere up to infinity, and how far they do goes with the focal length. The sum
of squares is no parabola there, and the inverse of the normal matrix, which takes it for one, gives
a ± that is several times too small. So the sum of squares is looked at itself: how much it rises
when the focal length is held a little to each side, and everything else solved again (the profile
likelihood; Venzon and Moolgavkar 1988).

And of a camera that only turns nobody knows that its lens stands in its pivot to the millimetre.
One that stands a little ahead of it looks like a longer lens.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from scipy.special import ndtr

from aperture.arrays import Array
from aperture.path import parallax
from aperture.path.bundle import NEAR_DAMPING
from aperture.path.problem import State
from aperture.path.spread import Along, Spread, slopes_between

if TYPE_CHECKING:
    from aperture.path.network import Given, Network

# A point is vague whose ± is more than this share of its distance; and a path is weak with more
# such points than that.
VAGUE, WEAK_SHARE = 0.15, 0.1
# The median length of two independent residuals of σ 1.
MEDIAN_OF_PAIR = 1.1774
# What a fact that a path can't hold costs it, in squared σ: five σ.
LOST_FACT = 25.0
# What a sighting, and a track, can cost one path more than another one at most, in squared σ.
MOST_OF_A_SIGHTING, MOST_OF_A_TRACK = 25.0, 9.0
# How far to each side is looked, in ±; how often it is corrected; a ± that is the same; and the
# most, of a logarithm.
STEP, ROUNDS, SAME, MOST = 2.0, 3, 1.15, 0.3
# How near the points of a scene are, over how much they differ in nearness: 1.7 where nearness is
# spread evenly from 0 on; 3 in a room. Only the second is seen by a camera that turns.
NEAR_OVER_SPREAD = 3.0
# How often the nearness of points and the turns are solved, in turn.
PARALLAX_ROUNDS = 6


def is_weak(network: Network, naive: Spread) -> bool:
    """Whether the distances of many points are hardly known."""
    if network.bundle.freedom.at_infinity:
        return False
    state = network.state
    away = np.linalg.norm(state.points - np.median(state.positions, axis=0), axis=1)
    sigma = np.sqrt(np.maximum(np.einsum("pii->p", naive.points), 0))
    return bool(np.mean(sigma > VAGUE * away) > WEAK_SHARE)


@dataclass(frozen=True)
class Apart:
    """How much more one path leaves unexplained than another one, in squared robust σ, and the ±
    that this has by how the tracks differ about it."""

    squares: float
    spread: float

    @property
    def share(self) -> float:
        """How probable it is that the one that leaves less isn't the true one: by the ratio of
        their likelihoods, or by the test of Vuong (1989), each track being one sample of it; by the
        larger."""
        by_squares = 1 / (1 + np.exp(np.clip(abs(self.squares) / 2, 0, 50)))
        by_tracks = ndtr(-abs(self.squares) / max(self.spread, 1e-9))
        return float(max(by_squares, by_tracks))


def more_misfit(one: Network, other: Network) -> Apart:
    """How much more one path leaves unexplained than another one, tracks and facts together.

    A sighting that only one of them uses speaks for neither: in the other it counts as the noise
    that it has. A fact that one of them lost, with the track that it is about, counts against it. A
    track doesn't count for more than MOST_OF_A_TRACK: one that slides fits the one path by chance,
    and the other not at all.
    """
    first, second = one.sigmas, other.sigmas
    used = [np.isfinite(own) for own in (first, second)]
    scale = min(float(np.median(own[used[0] & used[1]])) for own in (first, second))
    scale /= MEDIAN_OF_PAIR
    facts = max(_count(one), _count(other))

    def left(own: Array, mine: Array, theirs: Array) -> Array:
        squares = np.where(mine, np.nan_to_num(own) / scale, 0.0) ** 2
        alone = np.count_nonzero(theirs & ~mine, axis=0)
        return np.minimum(squares, MOST_OF_A_SIGHTING).sum(axis=0) + 2.0 * alone

    def of_facts(network: Network) -> float:
        return network.facts_chi2 + LOST_FACT * max(facts - _count(network), 0)

    each = left(first, *used) - left(second, *used[::-1])
    each = np.clip(each, -MOST_OF_A_TRACK, MOST_OF_A_TRACK)
    squares = float(each.sum()) + of_facts(one) - of_facts(other)
    return Apart(squares, float(np.sqrt((each**2).sum())))


def _count(network: Network) -> int:
    """How many equations of facts a solution has."""
    return len(network.facts.rows(network.state))


def between(own: Network, other: Network, share: float) -> Along:
    """The doubt about the lens that two paths leave of which the first one is taken, where `share`
    is how probable the second one is."""
    off = other.state.lens - own.state.lens
    none = np.zeros_like(own.state.points)
    cameras = np.zeros((own.bundle.frames, own.bundle.size))
    return Along(float(np.sqrt(share)), cameras, off * own.bundle.freedom.lens, none)


def focal_doubt(given: Given, network: Network, known: Array, naive: Spread) -> Along | None:
    """By how much more than its own ± the focal length may be off; None where that is believed, or
    it isn't solved for.

    known (P, 3): coordinates that are exact, NaN where unknown.
    """
    sigma = float(np.sqrt(naive.lens[0, 0]))
    if not sigma or not is_weak(network, naive):
        return None
    free = given.evidence.free_lens.copy()
    free[0] = False
    held = replace(given, evidence=replace(given.evidence, free_lens=free))
    best, middle = network.bundle.chi2, network.state.lens[0]

    def at(off: float, begin: State) -> tuple[float, State]:
        lens = begin.lens.copy()
        lens[0] = middle + off
        placed = replace(network.placed, state=replace(begin, lens=lens))
        # Next to the optimum: but for what the lens does at once, which one step undoes.
        found = held.solve(
            placed,
            network.tracks,
            network.use,
            known,
            network.facts,
            network.factors,
            damping=NEAR_DAMPING,
        )
        return found.bundle.chi2, found.state

    wide = sigma
    sides = [network.state, network.state]
    for _ in range(ROUNDS):
        step, before = min(STEP * wide, MOST), wide
        risen = []
        for side, sign in enumerate((-1, 1)):
            chi2, sides[side] = at(sign * step, sides[side])
            risen.append(max(chi2 - best, 1e-6))
        wide = min(step / np.sqrt(min(risen)), MOST)
        if wide < SAME * before:
            break
    if wide < SAME * sigma:
        return None
    slopes = slopes_between(sides[0], sides[1], 2 * step, network.bundle.size)
    return Along(float(np.sqrt(wide**2 - sigma**2)), *slopes)


def with_parallax(given: Given, network: Network) -> tuple[Network, Along | None, float]:
    """A camera that only turns, with what little parallax its tracks show of a lens that stands
    ahead of the pivot, or behind it; how far off it may be for that; and the σ of the arm over the
    distance of what is seen.

    The network itself, None and 0 where there is none, or it was said that the camera only turns.
    What is near is mostly at the edges of the picture, so such an arm looks like another lens: 5 mm
    in a room make a focal length of 1600 px longer by 4, where its own ± is 1. Each point gets the
    nearness that its track tells, as far as that is more than errors; then the turns and the lens
    are solved again, and so on. All of what that changes is doubted.
    """
    if not given.at_infinity or given.evidence.motion == "nodal":
        return network, None, 0.0
    sightings, found, sigma = given.sightings, network, 0.0
    for round_ in range(PARALLAX_ROUNDS):
        state = found.state
        directions = np.full((sightings.xy.shape[1], 3), np.nan)
        directions[network.tracks] = state.points
        lens = given.optics.lens.with_parameters(state.lens)
        turned = parallax.Turned(
            network.frames, state.rotations, state.zoom, lens, directions, network.use
        )
        left = parallax.of(sightings, turned, -state.rotations[:, :, 2])
        if not round_:
            sigma = NEAR_OVER_SPREAD * left.spread
        if not sigma:
            return network, None, 0.0
        xy = sightings.xy.copy()
        xy[network.frames[left.row], left.track] -= left.believed(sigma)
        found = replace(given, sightings=replace(sightings, xy=xy)).solve(
            replace(network.placed, state=state),
            network.tracks,
            network.use,
            np.full((len(network.tracks), 3), np.nan),
            network.facts,
            network.factors,
            damping=NEAR_DAMPING,
        )
    slopes = slopes_between(network.state, found.state, 1.0, network.bundle.size)
    found = replace(found, bending=network.bending, readout=network.readout, doubts=network.doubts)
    return found, Along(1.0, *slopes), sigma
