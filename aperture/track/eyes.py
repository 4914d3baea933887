"""Where the points of one eye's picture are in the other's."""

from __future__ import annotations

import cv2
import numpy as np

from aperture.arrays import Array

# From one eye to the other and back, a point comes home within so many px, or isn't the same.
ASTRAY_PX, OUTSIDE = 2.0, -1e4


def across_eyes(first: Array, second: Array, points: Array) -> Array:
    """(n, 2) index positions of points (n, 2) of one eye's picture (H, W) of uint8 in the other's,
    by dense flow (T. Kroeger et al., "Fast optical flow using dense inverse search", 2016,
    OpenCV's); outside the picture, where the way back leads elsewhere.
    """
    flow = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    there, back = flow.calc(first, second, None), flow.calc(second, first, None)
    found = points + _looked_up(there, points)
    lost = np.hypot(*(found + _looked_up(back, found) - points).T) > ASTRAY_PX
    found[lost] = OUTSIDE
    return np.asarray(found, float)


def _looked_up(field: Array, at: Array) -> Array:
    """(n, 2) of a field (H, W, 2) at index positions (n, 2)."""
    x, y = np.asarray(at, np.float32).T
    return np.asarray(
        cv2.remap(field, x[None], y[None], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[0]
    )
