"""What turning alone leaves of tracks, along their parallax and across it.

A point at some distance shifts along one line in the picture when the camera's place changes, and
never across it. The errors of tracks know no such line. So what is left across the parallax tells
what errors do, also where they hang together along a track, as a codec's do; and what is left along
it beyond that is parallax.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.lens.lens import Lens
from aperture.path.sightings import Sightings

# Of the differences that tell how a nearer point shifts: the farthest place over the distance.
NEAR = 1e-5
# A track counts for at most so many times what the middle one leaves across the parallax: one that
# slides counts as no more.
MOST_OF_A_TRACK = 25.0
# The median of the square of a normal deviate.
MEDIAN_OF_SQUARE = 0.455


@dataclass(frozen=True, eq=False)
class Turned:
    """Frames that turning alone explains. frames (K,): indices; rotations (K, 3, 3), world from
    camera; zoom (K,): ln of each frame's focal length over the lens's; directions (T, 3) of all
    tracks, NaN where unknown; counts (F, T) of bool: the sightings that count."""

    frames: Array
    rotations: Array
    zoom: Array
    lens: Lens
    directions: Array
    counts: Array


@dataclass(frozen=True, eq=False)
class Parallax:
    """Of all tracks that count (T,): the nearness that explains most of what turning leaves, one
    over the unit of the places; the information that a track has of it; and by how much the sum of
    squares is lowered when each is shifted across its parallax instead.

    row, track (N,): the sightings; of_track (N,): the same, as indices into what there is of each;
    shift (N, 2): px for a nearness of 1.
    """

    row: Array
    track: Array
    of_track: Array
    shift: Array
    nearness: Array
    information: Array
    across: Array

    @property
    def ratio(self) -> float:
        """How many times as much is explained along the parallax as across it."""
        along, across = self._limited()
        return float(along.sum() / across.sum())

    @property
    def spread(self) -> float:
        """How much points differ in nearness, root mean square; what errors alone would give is
        taken off."""
        along, across = self._limited()
        more = max(float((along - across).sum()), 0.0)
        return float(np.sqrt(more / self.information.sum()))

    def believed(self, sigma: float) -> Array:
        """(N, 2) px: the parallax of each sighting, of points that are expected at a nearness of 0
        with some σ: least squares by what the tracks tell and by that."""
        noise = float(np.median(self.across)) / MEDIAN_OF_SQUARE
        told = noise / np.maximum(self.information, 1e-30)
        nearness = self.nearness * sigma**2 / (sigma**2 + told)
        return np.asarray(nearness[self.of_track, None] * self.shift)

    def _limited(self) -> tuple[Array, Array]:
        most = MOST_OF_A_TRACK * float(np.median(self.across))
        along = self.nearness**2 * self.information
        return np.minimum(along, most), np.minimum(self.across, most)


def of(sightings: Sightings, turned: Turned, places: Array) -> Parallax:
    """The parallax of cameras that stand at places (K, 3) instead of in one point."""
    step = NEAR / max(float(np.linalg.norm(places, axis=1).max()), 1e-30)
    counts = turned.counts[turned.frames] & np.isfinite(turned.directions[:, 0])
    counts &= counts.sum(axis=0) >= 2
    row, track = np.nonzero(counts)
    rotations, rays = turned.rotations[row], turned.directions[track]
    zoom = np.exp(turned.zoom[row])[:, None]
    axis = sightings.grid.to_px([turned.lens.centre_mm])[0]

    def seen(directions: Array) -> Array:
        in_camera = np.einsum("nij,ni->nj", rotations, directions)
        at = sightings.grid.to_px(turned.lens.project(in_camera))
        return np.asarray(axis + zoom * (at - axis))

    far = seen(rays)
    shift = (seen(rays - step * places[row]) - far) / step
    good = np.isfinite(shift).all(axis=1)  # not beyond what the lens sees
    row, track, far, shift = row[good], track[good], far[good], shift[good]
    at = turned.frames[row], track
    sigma = sightings.sigma[at]
    left, across = (sightings.xy[at] - far) / sigma, np.column_stack([-shift[:, 1], shift[:, 0]])
    of_track = np.unique(track, return_inverse=True)[1]
    nearness, information = _fitted(left, shift / sigma, of_track)
    other, others = _fitted(left, across / sigma, of_track)
    return Parallax(row, track, of_track, shift, nearness, information, other**2 * others)


def _fitted(left: Array, shift: Array, of_track: Array) -> tuple[Array, Array]:
    """(T,) the multiple of shifts (N, 2), one for each track, that explains most of what is left
    (N, 2), and the information (T,) about it. What all observations of a track have in common is
    its direction's."""
    count = np.bincount(of_track)[:, None]
    common = np.column_stack([np.bincount(of_track, own) for own in shift.T]) / count
    shift = shift - common[of_track]
    squares = np.bincount(of_track, (shift**2).sum(axis=1))
    meets = np.bincount(of_track, (shift * left).sum(axis=1))
    return np.asarray(meets / np.maximum(squares, 1e-30)), squares
