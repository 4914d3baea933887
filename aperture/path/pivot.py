"""Cameras that turn, or nearly: whether there is parallax, a lens that is off its pivot, a shutter
that makes turns look like a way.

A full path "explains" the tracks of a camera that only turns, with a wrong lens and points at
invented depths. Here is what tells the two apart, and what finds the little way of a lens that
stands off the pivot.
"""

from __future__ import annotations

import numpy as np

from aperture.arrays import Array
from aperture.path import parallax
from aperture.path.arc import Arc
from aperture.path.growing import Growing
from aperture.path.imaging import Optics
from aperture.path.rolling import at_middle_rows
from aperture.path.sightings import Sightings
from aperture.path.turning import Turning, solve_turning
from aperture.path.wanted import FEWEST_TRACKS, Wanted, cost, prior_for, simple_lens

# An unknown pays for itself if it lowers the sum of squares by this many squared robust σ.
PRICE = 3.0
# The same where the lens zooms: a frame's focal length and its distance together explain more of
# what slides.
ZOOM_PRICE = 5.0
# Errors that hang together along a track, as a codec's do, are worth more to an unknown than that:
# up to 4.5 through H.264. So up to this price it also counts whether what turning leaves lies along
# the parallax: at least so many times as much as across it. Real pans leave up to 1.5 times and
# cost up to 4.4; a lens 8 cm off its pivot leaves 5 times and costs 30.
MOST_PRICE, LIES_ALONG = 10.0, 2.5
# Readout times that are tried, in frames, and the share of the residuals that one must leave at
# most.
READOUTS, ROLLS_SHARE = (-0.25, 0.25, -0.75, -0.5, 0.5, 0.75), 0.7
# What the residuals of any true readout up to a frame come to at the first or second of these is
# three quarters at most; where neither comes near, the others needn't be tried.
FIRST_READOUTS, FIRST_SHARE = 2, 0.85
# A path counts as explaining as much as another one up to this ratio of what they leave; and its
# own reversal, of near and far, may still turn out to be the true one up to this ratio.
AS_GOOD, MAY_BE_REVERSED = 1.15, 2.5
# Up to so many times the noise that turning alone leaves, the camera may have gone some centimetres
# only, and near and far be reversed: a lens off its pivot leaves 2 times, a walk 70 and more.
SMALL_WAY = 20.0
# How far from the pivot a lens is thought to be at first, and how far beside its arc it may stand,
# as shares of the distance of what it sees.
ARM, OFF_ARC = 0.01, 1e-4
# Two paths are one below this difference of the focal length's logarithm, where their points'
# nearness is in the same order (Spearman's correlation).
SAME_LENS, SAME_ORDER = 0.005, 0.9


def off_the_pivot(
    sightings: Sightings, optics: Optics, wanted: Wanted, turning: Turning
) -> list[tuple[Growing, Array]]:
    """Paths from a camera that only turns, as one whose lens is a little off the pivot; residuals
    (F, T) in σ of each.

    Its rays hardly differ, so no pair of frames tells a relative pose. It begins with the turns, on
    an arc, and all points at one distance: of small motion the bundle finds the rest (Yu and
    Gallup 2014). What is near, with the arm ahead, looks much like what is far, with the arm
    behind: both are tried. Sightings that turning alone leaves out stay out, until the arc has
    found which they are: one that slides pulls such a path anywhere.
    """
    focal = float(np.exp(turning.lens[0]))
    prior = prior_for(sightings, optics, wanted, wanted.focal_mm or focal)
    out = []
    for ahead in (-ARM, ARM):
        path = Growing(sightings, optics, simple_lens(wanted), turning.lens.copy(), prior)
        path.wary = True
        path.arc = Arc(OFF_ARC, np.array([0, 0, 0, 0, 0, ahead]))
        path.rotations[turning.frames] = turning.rotations
        path.positions[turning.frames] = path.arc.places(turning.rotations)
        path.posed[turning.frames] = True
        path.use = turning.use.copy()
        path.points = turning.directions.copy()
        path.adjust(most=40)
        path.adjust(rounds=2, most=25)
        path.arc = None
        out.append((path, path.adjust(rounds=2, most=25)))
    return out


def as_good(
    one: tuple[Growing, Array], other: tuple[Growing, Array], ratio: float = AS_GOOD
) -> bool:
    """Whether one path explains what both see about as well as another one."""
    common = np.isfinite(one[1]) & np.isfinite(other[1])
    scale = min(one[0].scale, other[0].scale)
    return cost(one[1][common], scale) < ratio * cost(other[1][common], scale)


def alike(one: Growing, other: Growing) -> bool:
    """Whether two paths have about the same lens, and see near what is near."""
    both = one.placed & other.placed
    if np.count_nonzero(both) < FEWEST_TRACKS or abs(one.lens[0] - other.lens[0]) > SAME_LENS:
        return False
    first, second = (
        np.linalg.norm(path.points[both] - path.positions[path.posed][0], axis=1)
        for path in (one, other)
    )
    return in_order(first, second)


def in_order(first: Array, second: Array) -> bool:
    """Whether two paths have the same points (n,) near and far, each by how far it has them."""
    one, other = (np.argsort(np.argsort(own)) for own in (first, second))
    return bool(np.corrcoef(one, other)[0, 1] > SAME_ORDER)


def near_the_pivot(
    turning: Turning,
    pivoted: list[tuple[Growing, Array]],
    best: tuple[Growing, Array],
    noise: float,
) -> list[Growing]:
    """Of the paths begun off the pivot, and the best of the others, those that may be the true one;
    the best alone where the camera goes farther than that.

    noise: the robust size of the residuals of a path that is right, in their σ.
    """
    near, far = sorted(pivoted, key=lambda item: item[0].scale)
    small = turning.scale < SMALL_WAY * noise
    if not small and not as_good(near, best):
        return [best[0]]
    # A path begun off the pivot has points for all tracks, also for those whose rays hardly differ.
    # What it leaves on some frames, begun from nothing, doesn't tell it from its reversal yet.
    chosen: list[tuple[Growing, Array]] = []
    own = (near, far) if as_good(near, best) else (best, near, far)
    for item in own:
        if as_good(item, best, MAY_BE_REVERSED if small else AS_GOOD):
            if not any(alike(item[0], other[0]) for other in chosen):
                chosen.append(item)
    return [path for path, _ in chosen] or [best[0]]


def turns_and_rolls(
    sightings: Sightings,
    optics: Optics,
    wanted: Wanted,
    turning: Turning,
    path: Growing,
    keys: list[int],
) -> tuple[float, Turning] | None:
    """The readout time in frames with which a camera that only turns explains as much as a path
    does; None if there is none.

    A pan through a rolling shutter shears the picture. Parallax can be invented that explains it,
    and the path is then nowhere near a tripod.
    """
    frames, focal = np.array(keys), float(np.exp(turning.lens[0]))

    def turned(readout: float) -> Turning | None:
        straight = at_middle_rows(sightings, readout)
        prior = prior_for(straight, optics, wanted, wanted.focal_mm or focal)
        lens = simple_lens(wanted)
        return solve_turning(straight, optics, frames, turning.lens, lens, prior)

    if wanted.zooms:
        return None
    tried = {0.0: turning.scale}
    for number, readout in enumerate(READOUTS):
        if number == FIRST_READOUTS and min(tried.values()) > FIRST_SHARE * turning.scale:
            return None
        found = turned(readout)
        tried[readout] = found.scale if found else np.inf
    order = sorted(tried)
    best = min(order, key=tried.__getitem__)
    if best == 0.0 or tried[best] > ROLLS_SHARE * turning.scale:
        return None
    # The mean square is a parabola over the readout.
    near = order[max(order.index(best) - 1, 0) :][:3]
    fitted, readout = np.zeros(3), best
    if len(near) == 3 and np.isfinite([tried[one] for one in near]).all():
        fitted = np.polyfit(near, np.square([tried[one] for one in near]), 2)
    if fitted[0] > 0:
        readout = float(np.clip(-fitted[1] / (2 * fitted[0]), near[0], near[-1]))
    found = turned(readout)
    if found is None or not only_turns(sightings, found, path, keys):
        return None
    return readout, found


def only_turns(sightings: Sightings, turning: Turning, path: Growing, keys: list[int]) -> bool:
    """Whether the path explains what the turning doesn't by no more than its unknowns are worth, or
    by little more, which isn't parallax.

    Both are compared on the observations that both explain or could, in squares of the path's own
    robust σ, so that tracks that are less exact than their σ says don't decide it.
    """
    path.believe_all()
    residuals = path.adjust(rounds=2, most=15)
    common = np.isfinite(residuals) & np.isfinite(turning.residuals)
    if np.count_nonzero(common) < 3 * FEWEST_TRACKS:
        return bool(turning.scale < 1.5 * path.scale)
    scale = path.scale
    turned = cost(turning.residuals[common], scale)
    moved = cost(residuals[common], scale)
    tracks = np.count_nonzero(common.any(axis=0))
    unknowns = 3 * (len(keys) - 1) + tracks
    price = ZOOM_PRICE if path.zooms else PRICE
    if turned - moved < price * unknowns:
        return True
    if turned - moved > MOST_PRICE * unknowns:
        return False
    fitted = 1 + 3 * (len(keys) - 1) / tracks  # the path's places are chosen to explain much
    return bool(_parallax(sightings, turning, path, common).ratio < LIES_ALONG * fitted)


def _parallax(
    sightings: Sightings, turning: Turning, path: Growing, common: Array
) -> parallax.Parallax:
    """Seen from a path's places; common (F, T): the sightings that count."""
    lens = path.optics.lens.with_parameters(turning.lens)
    counts = common & turning.use
    turned = parallax.Turned(
        turning.frames, turning.rotations, turning.zoom, lens, turning.directions, counts
    )
    onto_turning = turning.rotations[0] @ path.rotations[turning.frames[0]].T
    places = path.positions[turning.frames] @ onto_turning.T
    return parallax.of(sightings, turned, places - places.mean(axis=0))


def middle_lens(turning: Turning) -> Array:
    """(8,) the lens of a camera that only turns, on the frame in the middle of its zoom."""
    lens = turning.lens.copy()
    lens[0] += np.median(turning.zoom)
    return lens
