"""A rolling shutter: the rows of a frame are exposed one after the other, the first before the
middle one, the last after it.

The camera of a frame is the one at its middle row. A point that is seen v px per frame on its way
through the picture would, at that moment, have been seen v τ away, with τ = ρ (y / H − ½) of a
frame and ρ the readout time in frames. Each sighting is moved there by the speed of its own track;
everything else stays as it is for a global shutter. (The usual first-order correction, as in Liang,
Chang and Chen 2008, "Analysis and compensation of rolling shutter effect", IEEE TIP 17 (8), which
interpolates motion vectors.)

ρ itself is solved for by the sum of squares: a parabola through three values of it, each with
everything else at its optimum. What it does to all other numbers adds to their ±.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from aperture.arrays import Array
from aperture.path.sightings import Sightings
from aperture.path.spread import Along, slopes_between

if TYPE_CHECKING:
    from aperture.path.network import Given, Network

# Frames by which ρ is varied to see the curve of the sum of squares; how often; and a change that
# is none, in ±.
STEP, ROUNDS, SAME = 0.05, 4, 0.1
# A readout takes at most the whole frame.
MOST = 1.0


@dataclass(frozen=True, eq=False)
class Readout(Along):
    """The solved readout time in frames, and by how much everything moves with it."""

    frames: float


def speeds(sightings: Sightings) -> Array:
    """(F, T, 2) px per frame at which tracks go through the picture, by their neighbours in time; 0
    where there are none."""
    xy = sightings.xy
    found = np.full_like(xy, np.nan)
    padded = np.full((len(xy) + 4, *xy.shape[1:]), np.nan)
    padded[2:-2] = xy
    earlier, before, after, later = (padded[at : at + len(xy)] for at in (0, 1, 3, 4))
    # By parabolas through three, at a track's ends too: a straight line there is off by half the
    # acceleration.
    for speed in (
        (after - before) / 2,
        (4 * after - later - 3 * xy) / 2,
        (3 * xy - 4 * before + earlier) / 2,
        after - xy,
        xy - before,
    ):
        found = np.where(np.isfinite(found), found, speed)
    return np.nan_to_num(found)


def at_middle_rows(sightings: Sightings, readout: float, speed: Array | None = None) -> Sightings:
    """Where everything would have been seen when the middle row of its frame was exposed; readout
    in frames.

    speed (F, T, 2): px per frame; from the sightings themselves, if not given.
    """
    if not readout:
        return sightings
    speed = speeds(sightings) if speed is None else speed
    late = readout * (sightings.xy[:, :, 1] / sightings.grid.height - 0.5)
    return replace(sightings, xy=sightings.xy - speed * late[:, :, None])


def speeds_of(network: Network, given: Given) -> Array:
    """`speeds` as the solved cameras have them, where they have any: without the tracks' own noise.

    Speeds with noise would make ρ too small, as does any error of what a line is fitted over.
    """
    state, grid = network.state, given.sightings.grid
    xy = np.full(given.sightings.xy.shape, np.nan)
    for camera, frame in enumerate(network.frames):
        lens = given.evidence.lens.with_parameters(state.lens_on(camera))
        p = (state.points - state.positions[camera]) @ state.rotations[camera]
        xy[frame, network.tracks] = grid.to_px(lens.project(p))
    seen = replace(given.sightings, xy=xy)
    return np.where(np.isfinite(xy), speeds(seen), speeds(given.sightings))


def solved(
    given: Given, network: Network, known: Array, begin: float, prior: tuple[float, float] | None
) -> tuple[Given, Network]:
    """The readout time with everything else, from a network that was solved with `begin` frames.

    given.sightings are those that were seen. prior: what is known of the readout, frames, and its
    ±.
    """
    seen, rho, sigma = given.sightings, begin, np.inf
    speed = speeds_of(network, given)

    def at(value: float, before: Network) -> tuple[Given, Network]:
        own = replace(given, sightings=at_middle_rows(seen, value, speed))
        placed = replace(before.placed, state=before.state)
        return own, own.solve(
            placed, before.tracks, before.use, known, before.facts, before.factors
        )

    for _ in range(ROUNDS):
        around = [at(rho + step, network)[1] for step in (-STEP, 0.0, STEP)]
        costs = [one.bundle.chi2 for one in around]
        if prior:
            costs = [
                cost + ((rho + step - prior[0]) / prior[1]) ** 2
                for cost, step in zip(costs, (-STEP, 0.0, STEP))
            ]
        curve = (costs[0] - 2 * costs[1] + costs[2]) / STEP**2
        if curve <= 0:
            break
        slope = (costs[2] - costs[0]) / (2 * STEP)
        change = float(np.clip(-slope / curve, -0.3, 0.3))
        rho, sigma = float(np.clip(rho + change, -MOST, MOST)), float(np.sqrt(2 / curve))
        network = around[1]
        if abs(change) < SAME * sigma:
            break
    own, network = at(rho, network)
    first, last = (at(rho + step, network)[1].state for step in (-STEP, STEP))
    slopes = slopes_between(first, last, 2 * STEP, network.bundle.size)
    return own, replace(network, readout=Readout(min(sigma, MOST), *slopes, rho))
