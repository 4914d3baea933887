"""Matching a render to the plate: the gain of each channel that brings pairs of patches together.

Each pair is a patch of the plate and the same surface in the render. With gains g per channel the
render's patch r should be as bright as the plate's p. Brightness is judged in stops, so the gains
are weighted means of log2(p / r), one per channel; their common part is an exposure, the rest a
white balance. A pair whose residual is large shows another light, or another material.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem

# Two patches of one surface are lit a little differently: what is assumed of each, in stops, beside
# what its pixels say (common practice, no source).
SURFACE_STOPS = 0.05


@dataclass(frozen=True)
class Matched:
    """What brings a render to the plate.

    Parameters
    ----------
    gains : ndarray, shape (3,)
        What the render's linear channels are multiplied by.
    stops, plus_minus : float
        The common part of the gains, an exposure, with its standard deviation.
    balance : ndarray, shape (3,)
        The rest, with a geometric mean of 1.
    residuals : ndarray, shape (N, 3)
        Stops per pair and channel: the plate less the matched render.
    scatter : float
        Root mean square of the residuals over their σ; about 1 if the pairs agree.
    """

    gains: Array
    stops: float
    plus_minus: float
    balance: Array
    residuals: Array
    scatter: float


def match_patches(plate: Array, render: Array, sigma_stops: Array | None = None) -> Matched:
    """Find the gains from pairs of patches.

    Parameters
    ----------
    plate, render : ndarray, shape (N, 3)
        Mean colours, linear light.
    sigma_stops : ndarray, shape (N,), optional
        The ± of each pair in stops; SURFACE_STOPS if not given.

    Raises
    ------
    Problem
        If there is no pair, or a patch is black.
    """
    plate, render = np.atleast_2d(plate).astype(float), np.atleast_2d(render).astype(float)
    if not len(plate):
        raise Problem("Pick a patch on the plate and the same surface on the render first.")
    if (plate <= 0).any() or (render <= 0).any() or not np.isfinite([plate, render]).all():
        raise Problem("A patch is black in one of its channels: it can't be matched.")
    sigma = np.full(len(plate), SURFACE_STOPS) if sigma_stops is None else sigma_stops
    sigma = np.hypot(sigma, SURFACE_STOPS)
    weights = 1 / sigma**2
    apart = np.log2(plate / render)
    found = weights @ apart / weights.sum()
    residuals = apart - found
    stops = float(found.mean())
    scatter = 1.0
    if len(plate) > 1:
        freedom = 3 * (len(plate) - 1)
        scatter = math.sqrt(float((weights @ residuals**2).sum()) / freedom)
    # The three channels of a patch share most of what is wrong with it.
    wide = max(1.0, scatter) / math.sqrt(weights.sum())
    return Matched(2**found, stops, float(wide), 2 ** (found - stops), residuals, scatter)
