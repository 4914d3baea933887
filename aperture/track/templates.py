"""The templates of the tracks that are being followed: what was seen around each point on its key
frame, and what became of it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.track import alignment

# A pixel position of ours, less this, is one of array indices.
HALF = 0.5
# Gates of an alignment. Singular values of the affine map, and the ratio of the two; the gain.
LEAST_STRETCH, MOST_STRETCH, MOST_SHEAR = 0.5, 2.0, 2.0
LEAST_GAIN, MOST_GAIN = 0.25, 4.0
# A template is renewed when the view of it is this much larger or smaller, or this much stretched.
RENEW_SCALE, RENEW_SHEAR = 1.35, 1.35
# Variance of a slope for noise of variance 1: half of it for a central difference, less what
# reading between pixels smooths on the mean (measured on simulated pictures).
SLOPE_NOISE = 0.45
# At least this share of the information is believed to be true.
LEAST_TRUE = 0.1
# What interpolation costs, px: the least σ, in every direction.
LEAST_SIGMA_PX = 0.005


@dataclass
class Active:
    """The tracks that are being followed, as arrays over them (n, …)."""

    number: Array  # index into the ids
    warps: Array  # (n, 8) alignment.WARP, of the template's middle
    velocity: Array  # (n, 2) px per frame; NaN for a new one
    typical: Array  # (n,) the usual residual of this track
    anchor: Array  # (n, 2, 2) px²: covariance of the template's own position
    offset: (
        Array  # (n, 2) px on the key frame: from the template's middle to the point that is meant
    )
    values: Array
    slopes: Array
    inverses: Array
    spreads: Array  # (n, 2, 2) covariance of the point for residuals of variance 1
    middles: Array  # (n, 2, 2) the same of the template's middle
    # (n, 2, 2) what the template tells of its middle's place, the other parameters solved for.
    information: Array
    freedoms: Array
    contrast: Array  # (n,) standard deviation of the template
    slope_noise: float  # information that noise of variance 1 seems to bring, per axis

    def kept(self, keep: Array) -> Active:
        """Those (n,) of bool."""
        return Active(
            **{name: getattr(self, name)[keep] for name in self._arrays},
            slope_noise=self.slope_noise,
        )

    @property
    def _arrays(self) -> list[str]:
        return [name for name in self.__dataclass_fields__ if name != "slope_noise"]

    def with_more(self, other: Active) -> Active:
        """These and those."""
        return Active(
            **{
                name: np.concatenate([getattr(self, name), getattr(other, name)])
                for name in self._arrays
            },
            slope_noise=self.slope_noise,
        )

    def points(self) -> Array:
        """(n, 2) index positions of the points that are meant: the offset goes along with the
        surface."""
        return self.warps[:, :2] + np.einsum("nij,nj->ni", affine(self.warps), self.offset)

    def covariances(self, noise: Array) -> Array:
        """(n, 2, 2) px²: of the points, in the picture, for residuals (n,).

        Half the variance of the residual: the other half is the template's noise. That shifts all
        of a track's observations by the same amount but the one on the key frame, which is the same
        as if that one alone had the error: each observation, that one too, has the noise of its own
        picture.

        A noisy template seems to have more texture than it has, by what its slopes have of the
        noise: that is taken off the information. Along an edge it may be most of it.
        """
        variance = noise**2 / 2
        values, axes = np.linalg.eigh(self.information)
        true = np.maximum(values - self.slope_noise * variance[:, None], LEAST_TRUE * values)
        worse = axes @ ((values / true)[:, :, None] * np.swapaxes(axes, 1, 2))
        middles = worse @ self.middles @ np.swapaxes(worse, 1, 2)
        turned = affine(self.warps)
        own = turned @ (self.spreads + middles - self.middles) @ np.swapaxes(turned, 1, 2)
        return own * variance[:, None, None] + LEAST_SIGMA_PX**2 * np.eye(2)


def make(
    picture: Array, index_xy: Array, reach: int, weights: Array, offset: Array | None = None
) -> Active:
    """Templates at index positions (n, 2) of a picture, whose points lie `offset` (n, 2) px
    beside."""
    count, pixels = len(index_xy), (2 * reach + 1) ** 2
    values = np.empty((count, pixels), np.float32)
    slopes = np.empty((count, 2, pixels), np.float32)
    inverses = np.empty((count, alignment.COUNT, alignment.COUNT))
    spreads, freedoms = np.empty_like(inverses), np.empty(count)
    places = np.ascontiguousarray(index_xy, float)
    alignment.make_templates(
        picture, places, reach, weights, values, slopes, inverses, spreads, freedoms
    )
    offset = np.zeros((count, 2)) if offset is None else np.asarray(offset, float).reshape(-1, 2)
    # How the point moves with the parameters; the affine ones are counted at the window's rim.
    moves = np.zeros((count, 2, alignment.COUNT))
    moves[:, 0, 0] = moves[:, 1, 1] = 1
    moves[:, 0, 2:4] = moves[:, 1, 4:6] = offset / reach
    warps = np.zeros((count, alignment.COUNT))
    warps[:, :2] = index_xy
    return Active(
        number=np.zeros(count, int),
        warps=warps,
        velocity=np.full((count, 2), np.nan),
        typical=np.zeros(count),
        anchor=np.zeros((count, 2, 2)),
        offset=offset,
        values=values,
        slopes=slopes,
        inverses=inverses,
        spreads=moves @ spreads @ np.swapaxes(moves, 1, 2),
        middles=spreads[:, :2, :2],
        information=np.linalg.inv(inverses[:, :2, :2]),
        freedoms=freedoms,
        contrast=values.std(axis=1).astype(float) + 1e-6,
        slope_noise=float(weights.sum()) * SLOPE_NOISE,
    )


def window_fits(places: Array, shape: tuple[int, ...], reach: int) -> Array:
    """(n,) whether a window around each place (n, 2) px lies in the picture, with the
    interpolation's reach."""
    rim = reach + alignment.INTERPOLATION_REACH + 1 + HALF
    return (
        (places[:, 0] > rim)
        & (places[:, 1] > rim)
        & (places[:, 0] < shape[1] - rim)
        & (places[:, 1] < shape[0] - rim)
    )


def affine(warps: Array) -> Array:
    """(n, 2, 2) the affine parts."""
    return np.eye(2) + warps[:, 2:6].reshape(-1, 2, 2)


def _stretches(turned: Array) -> Array:
    """(n, 2) the singular values of (n, 2, 2), the larger first: of a 2 × 2 matrix half the sum and
    the difference of the lengths of its part that turns and of its part that mirrors."""
    (xx, xy), (yx, yy) = np.moveaxis(turned, 0, -1)
    turns, mirrors = np.hypot(xx + yy, yx - xy) / 2, np.hypot(xx - yy, xy + yx) / 2
    return np.stack([turns + mirrors, abs(turns - mirrors)], axis=1)


def is_sane(warps: Array) -> Array:
    """(n,) whether affine part and gain are those of one surface seen from two places."""
    turned = affine(np.nan_to_num(warps))
    stretch = _stretches(turned)
    gain = 1 + warps[:, 6]
    return (
        (np.linalg.det(turned) > 0)
        & (stretch[:, 1] > LEAST_STRETCH)
        & (stretch[:, 0] < MOST_STRETCH)
        & (stretch[:, 0] < MOST_SHEAR * stretch[:, 1])
        & (gain > LEAST_GAIN)
        & (gain < MOST_GAIN)
    )


def is_worn(warps: Array) -> Array:
    """(n,) whether a template is seen so differently that it should be renewed."""
    stretch = _stretches(affine(warps))
    scale = np.sqrt(stretch[:, 0] * stretch[:, 1])
    return (
        (scale > RENEW_SCALE)
        | (scale < 1 / RENEW_SCALE)
        | (stretch[:, 0] > RENEW_SHEAR * stretch[:, 1])
    )
