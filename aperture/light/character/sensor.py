"""What a sensor or film adds: grain, and stray bright pixels, which are taken away."""

from __future__ import annotations

import math

import cv2
import numpy as np

from aperture.arrays import Array
from aperture.light.metering import MIDDLE_GREY, luminance_of

# Noise at middle grey at ISO 100, as a share of it: a usual sensor of full frame (common practice,
# no source).
GRAIN_AT_100 = 0.012
DARK_NOISE = 0.002  # what is left where no light falls, as a share of middle grey's signal
CHROMA = 0.5  # the share of the grain that differs between the channels


def grain_of_iso(iso: float) -> float:
    """The grain's strength at middle grey: photon noise grows with the root of the speed."""
    return GRAIN_AT_100 * math.sqrt(iso / 100)


def grained(linear: Array, strength: float, size_px: float, seed: int, frame: int) -> Array:
    """Return a picture with grain, another one on each frame, the same one for the same seed.

    Parameters
    ----------
    linear : ndarray, shape (H, W, 3)
    strength : float
        Standard deviation at middle grey, as a share of it, at the picture's own pixels.
    size_px : float
        Of a grain: standard deviation of the Gaussian that the noise is smoothed by.
    seed, frame : int
    """
    random = np.random.default_rng([seed, frame & 0xFFFFFFFF, 3])
    shape = linear.shape[:2]
    common = random.standard_normal((*shape, 1), dtype=np.float32)
    own = random.standard_normal((*shape, 3), dtype=np.float32)
    noise = math.sqrt(1 - CHROMA**2) * common + CHROMA * own
    if size_px > 0:
        noise = cv2.GaussianBlur(noise, (0, 0), size_px)
        noise /= max(float(noise.std()), 1e-9)
    # Photon noise: its deviation goes with the root of the light.
    bright = luminance_of(linear).clip(0)
    wide = strength * MIDDLE_GREY * np.sqrt(bright / MIDDLE_GREY + DARK_NOISE)
    return linear + wide[..., None] * noise


def stray(linear: Array, threshold: float) -> Array:
    """Return which pixels are stray: so many times brighter than the median of their neighbours.

    Parameters
    ----------
    linear : ndarray, shape (H, W, 3)
    threshold : float
        Above 1.

    Returns
    -------
    ndarray, shape (H, W), bool
    """
    bright = luminance_of(linear)
    return bright > threshold * np.maximum(cv2.medianBlur(bright, 3), 1e-4)


def without_stray(linear: Array, threshold: float) -> Array:
    """A picture whose stray pixels are the median of their neighbours."""
    where = stray(linear, threshold)
    out = linear.copy()
    for channel in range(3):
        calm = cv2.medianBlur(np.ascontiguousarray(linear[..., channel], np.float32), 3)
        out[where, channel] = calm[where]
    return out
