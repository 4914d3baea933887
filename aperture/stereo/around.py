"""Stereo all around: each column of a panorama is seen by eyes that look that way.

Both eyes go around a circle; at the longitude λ each stands where its line of sight touches it
(omni-directional stereo: Ishiguro, Yamamoto, Tsuji 1992; from memory). Toward the poles, where
there is no sideways, the circle shrinks to nothing and depth fades.
"""

from __future__ import annotations

import math

import numpy as np

from aperture.arrays import Array

FADES_FROM_DEG = 60.0  # of latitude; at the poles nothing is left


def radius(interaxial_m: float, latitude: Array) -> Array:
    """(N,) metres of the circle that the eyes go around, at latitudes (N,) in radians."""
    begin = math.radians(FADES_FROM_DEG)
    share = np.clip((np.abs(latitude) - begin) / (math.pi / 2 - begin), 0, 1)
    return interaxial_m / 2 * (1 - share * share * (3 - 2 * share))


def places(interaxial_m: float, side: int, longitude: Array, latitude: Array) -> Array:
    """(N, 3) metres from the camera, in its own space, of an eye that looks that way; `side`: −1
    left, 1 right."""
    reach = side * radius(interaxial_m, latitude)
    return np.stack(
        [reach * np.cos(longitude), np.zeros_like(reach), reach * np.sin(longitude)], -1
    )
