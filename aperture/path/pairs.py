"""Two frames with which a path can begin: their relative pose, and the best pair of several."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

from aperture.arrays import Array

# Shared tracks that a first pair needs, and how many of these must agree with one relative pose.
LEAST_SHARED, LEAST_AGREEING = 25, 20
# The best first pair has a wide angle between its rays; beyond this it is no better.
WIDE_DEG = 6.0
# What share of its score such a pair loses if all that it sees may lie in one plane.
FLAT_COUNTS = 0.7
# A sighting agrees with a pair's motion within so much, px.
AGREES_PX = 1.5


def best_pair(
    keys: Sequence[int], x: Array, focals_px: Array
) -> tuple[Array, Array, float, int, int] | None:
    """Of keyframes (K,) and their normalised sightings (K, T, 2) the pair with the widest, best
    supported relative pose: rotation, second position, median angle in degrees, and both frames."""
    pairs = []
    for i in range(len(keys)):
        for j in range(i + 1, min(i + 7, len(keys))):
            focal_px = float(np.sqrt(focals_px[i] * focals_px[j]))
            pair = _relative_pose(x[i], x[j], focal_px)
            if pair:
                pairs.append((pair, focal_px, i, j))
    best, most = None, -np.inf
    for pair, focal_px, i, j in sorted(pairs, key=lambda item: -item[0][0]):
        if pair[0] <= most:
            break  # it could not be better, were nothing of it flat
        score = pair[0] * (1 - FLAT_COUNTS * _flat_share(x[i], x[j], focal_px))
        if score > most:
            best, most = (*pair[1:], keys[i], keys[j]), score
    return best


def _relative_pose(a: Array, b: Array, focal_px: float) -> tuple[float, Array, Array, float] | None:
    """Of two frames' normalised sightings (T, 2): how good a first pair they are if the points
    don't lie in a plane, rotation, second position, median angle in degrees."""
    a, b = _shared(a, b)
    if len(a) < LEAST_SHARED:
        return None
    threshold = AGREES_PX / focal_px
    try:
        essential, mask = cv2.findEssentialMat(a, b, np.eye(3), cv2.USAC_MAGSAC, 0.999, threshold)
        if essential is None or mask is None:
            return None
        _, rotation, shift, agrees, places = cv2.recoverPose(
            essential[:3], a, b, np.eye(3), distanceThresh=1e3, mask=mask.copy()
        )
    except cv2.error:
        return None
    agrees = agrees.ravel() > 0
    if np.count_nonzero(agrees) < LEAST_AGREEING:
        return None
    position = (-rotation.T @ shift).ravel()
    with np.errstate(all="ignore"):
        to_first = (places[:3] / places[3]).T
    to_second = to_first - position
    norms = np.linalg.norm(to_first, axis=1) * np.linalg.norm(to_second, axis=1)
    cosine = np.einsum("ni,ni->n", to_first, to_second)[agrees] / norms[agrees]
    angle = float(np.degrees(np.median(np.arccos(np.clip(np.nan_to_num(cosine, nan=1), -1, 1)))))
    return np.count_nonzero(agrees) * min(angle, WIDE_DEG), rotation, position, angle


def _flat_share(a: Array, b: Array, focal_px: float) -> float:
    """The share of what two frames see, as `_relative_pose`, that may lie in one plane."""
    a, b = _shared(a, b)
    try:
        _, flat = cv2.findHomography(a, b, cv2.USAC_MAGSAC, AGREES_PX / focal_px)
    except cv2.error:
        return 0.0
    return 0.0 if flat is None else float((flat.ravel() > 0).mean())


def _shared(a: Array, b: Array) -> tuple[Array, Array]:
    """What both of two frames see, of normalised sightings (T, 2)."""
    both = np.isfinite(a[:, 0]) & np.isfinite(b[:, 0])
    return np.ascontiguousarray(a[both]), np.ascontiguousarray(b[both])
