"""Corners and round marks of a picture, at sub-pixel accuracy.

The point that all gradient lines pass through (a corner) or that all gradients point at (a round
mark), after Förstner & Gülch (1987), "A fast operator for detection and precise location of
distinct points, corners and centres of circular features"; cited from memory.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array, ArrayLike
from aperture.errors import Problem
from aperture.match.sampling import SEARCH_PX, Sampler, noise_of, smoothed

SPOT_PX = 7
LEAST_SIGMA_PX = 0.02
# The patch around a spot: offsets from it, px, and how much each counts.
_Y, _X = np.meshgrid(
    np.arange(-SPOT_PX, SPOT_PX + 1.0), np.arange(-SPOT_PX, SPOT_PX + 1.0), indexing="ij"
)
_WEIGHT = np.exp(-(_X**2 + _Y**2) / (2 * (SPOT_PX / 2.2) ** 2))


@dataclass(frozen=True)
class Corner:
    """at: (2,) px; sigma_px: what blur, noise and texture leave of it; round: a mark, no corner."""

    at: Array
    sigma_px: float
    round: bool


def find_corner(sampler: Sampler, start: ArrayLike) -> Corner:
    """The corner or round mark nearest to `start` (2,) px. Raises Problem, with a sentence, where
    there is neither."""
    start = np.asarray(start, float)
    at, kind = start.copy(), None
    for _ in range(12):
        patch = sampler.at(at + np.stack([_X, _Y], -1))
        smooth = smoothed(smoothed(patch, 0.8).T, 0.8).T
        gy, gx = np.gradient(smooth)
        fits = _fits(gx, gy)
        if not fits:
            raise Problem(
                "There is no corner and no round mark here in the picture, only an edge or plain"
                " ground. Leave the spot as it is."
            )
        if kind is None or kind not in fits:
            kind = min(fits, key=lambda name: fits[name][0])
        left, shift, normal = fits[kind]
        at = at + np.clip(shift, -1.5, 1.5)
        if np.linalg.norm(at - start) > SEARCH_PX + 1:
            raise Problem(
                "The nearest corner is too far from this spot to be meant. Place it closer, or"
                " leave it as it is."
            )
        if np.linalg.norm(shift) < 0.003:
            break
    noise = noise_of(patch)
    strength = np.sqrt((_WEIGHT * (gx**2 + gy**2)).sum() / _WEIGHT.sum())
    if strength < 1.5 * noise / np.sqrt(10) or strength < 2e-4:
        raise Problem(
            "Nothing stands out from the noise here. Leave the spot as it is, or widen its ±."
        )
    freedom = max(_WEIGHT.sum() - 2, 1)
    sigma = float(np.sqrt(left / freedom * np.linalg.eigvalsh(np.linalg.inv(normal))[-1] * 2))
    return Corner(at, float(np.clip(sigma, LEAST_SIGMA_PX, 2.0)), kind == "round")


def _fits(gx: Array, gy: Array) -> dict[str, tuple[float, Array, Array]]:
    """As a corner and as a round mark, where the gradients of a patch determine one: (what is left,
    shift (2,) px, normal matrix).

    At a corner all gradients are perpendicular to the way to it; at a round mark they point along
    it.
    """
    kinds = {
        "corner": (gx * gx, gx * gy, gy * gy),
        "round": (gy * gy, -gx * gy, gx * gx),
    }
    out = {}
    for name, (a, b, c) in kinds.items():
        xx, xy, yy = ((_WEIGHT * product).sum() for product in (a, b, c))
        normal = np.array([[xx, xy], [xy, yy]])
        right = np.array([(_WEIGHT * (a * _X + b * _Y)).sum(), (_WEIGHT * (b * _X + c * _Y)).sum()])
        values = np.linalg.eigvalsh(normal)
        if values[0] < 0.06 * values[1] or values[1] <= 0:
            continue
        shift = np.linalg.solve(normal, right)
        dx, dy = _X - shift[0], _Y - shift[1]
        left = float((_WEIGHT * (a * dx * dx + 2 * b * dx * dy + c * dy * dy)).sum())
        out[name] = left, shift, normal
    return out
