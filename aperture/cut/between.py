"""A picture between two frames of a film: the nearer one, both blended, or moved half-way along the
motion that both show."""

from __future__ import annotations

import numpy as np

from aperture.arrays import Array
from aperture.cut.cut import BETWEEN
from aperture.errors import Problem


def between(first: Array, second: Array, share: float, way: str) -> Array:
    """Return the picture at a share of the way from one frame to the next.

    Parameters
    ----------
    first, second : ndarray, shape (H, W, 3), float32
        Linear light, or display values: what is given is mixed.
    share : float
        0 … 1.
    way : str
        A key of BETWEEN. "flow" moves each picture along dense motion found by inverse search (T.
        Kroeger et al., "Fast optical flow using dense inverse search", 2016, as OpenCV has it), and
        blends what arrives.

    Raises
    ------
    Problem
        If there is no such way.
    """
    if way not in BETWEEN:
        raise Problem(f"Between two frames is shown {', or '.join(BETWEEN.values())}.")
    share = float(share)  # a NumPy float would make doubles of the pictures
    if share <= 0 or share >= 1 or way == "repeat":
        return first if share < 0.5 else second
    if way == "blend":
        return np.asarray((1 - share) * first + share * second)
    ahead, back = _flow(first, second), _flow(second, first)
    arriving = _moved(first, -share * ahead), _moved(second, -(1 - share) * back)
    return np.asarray((1 - share) * arriving[0] + share * arriving[1])


def _flow(first: Array, second: Array) -> Array:
    import cv2

    high = max(float(first.max()), float(second.max()), 1e-6)
    grey = [
        (np.clip(one.mean(axis=2) / high, 0, 1) ** (1 / 2.2) * 255).astype(np.uint8)
        for one in (first, second)
    ]
    flow = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    return np.asarray(flow.calc(grey[0], grey[1], None))


def _moved(picture: Array, by: Array) -> Array:
    """The picture whose every pixel is taken from where `by` (H, W, 2), px, leads."""
    import cv2

    height, width = picture.shape[:2]
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    return np.asarray(
        cv2.remap(
            picture,
            x + by[..., 0],
            y + by[..., 1],
            cv2.INTER_LINEAR,
            borderMode=cv2.BORDER_REPLICATE,
        )
    )
