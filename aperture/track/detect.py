"""Corners that are worth following, spread evenly over the picture.

Corners are ranked by the smaller eigenvalue of their window's structure tensor (Shi and Tomasi
1994, "Good features to track"), which is what the σ of an alignment depends on. Ranked over the
whole picture, they would all lie in its best textured corner, and a camera that is held by one
corner of the picture is badly held; so the picture is divided into cells, and each cell gives its
best ones in turn.
"""

from __future__ import annotations

import cv2
import numpy as np

from aperture.arrays import Array

# Half the side of the structure tensor's window, as the alignment's default.
STRUCTURE_REACH = 5
# A corner of less than this share of the picture's best one in its smaller eigenvalue has no
# texture.
LEAST_SHARE = 2e-4
# And of less than this, which is four times the mean squared slope across the window (8-bit values
# per px): with a noise of 2 values, an alignment there is uncertain by about a tenth of a pixel.
LEAST_STRENGTH = 4.0

# Of an edge the smaller eigenvalue is this small a share of the larger one; it slides along itself.
LEAST_ROUND = 0.05
# And of less than this times the variance of the picture's noise.
STRENGTH_PER_NOISE = 3.0


def noise_of(picture: Array) -> float:
    """Standard deviation of a picture's (H, W) noise, in its values (Immerkær 1996, "Fast noise
    variance estimation").

    From the second derivatives both ways, which edges hardly have; of those their median absolute
    value, so that texture doesn't count as noise.
    """
    kernel = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32)
    response = cv2.filter2D(picture, cv2.CV_32F, kernel)[1:-1:2, 1:-1:2]
    return float(np.median(np.abs(response))) / (6 * 0.6745)


def corners(
    picture: Array, most: int, apart_px: float, avoid: Array, keep_out: Array | None = None
) -> Array:
    """Return new corners to follow.

    Parameters
    ----------
    picture : ndarray, shape (H, W), float32
        Brightness, 0 to 255.
    most : int
        How many to return at most.
    apart_px : float
        The least distance between two corners, and from those in `avoid`.
    avoid : ndarray, shape (N, 2), px
        Positions that are followed already.
    keep_out : ndarray of bool, shape (H, W), optional
        Where no corner may lie.

    Returns
    -------
    ndarray, shape (M, 2), px
        Best first within each cell, cells in turn. To the pixel: a corner is a template, wherever
        in it its point is said to lie.
    """
    height, width = picture.shape
    if most <= 0 or min(height, width) < 4 * STRUCTURE_REACH:
        return np.zeros((0, 2))
    smooth = cv2.GaussianBlur(picture, (0, 0), 0.8)
    strength, along = _eigenvalues(smooth)
    strength[strength < LEAST_ROUND * along] = 0
    allowed = _allowed(picture.shape, avoid, apart_px, keep_out)
    strength[~allowed] = 0
    is_peak = strength >= cv2.dilate(strength, np.ones((7, 7), np.uint8))
    floor = max(
        float(strength.max()) * LEAST_SHARE,
        LEAST_STRENGTH,
        STRENGTH_PER_NOISE * noise_of(picture) ** 2,
    )
    rows, columns = np.nonzero(is_peak & (strength > floor))
    order = np.argsort(-strength[rows, columns], kind="stable")
    candidates = np.stack([columns[order], rows[order]], axis=1) + 0.5
    return _spread_out(candidates, most, apart_px, width, height)


def _eigenvalues(smooth: Array) -> tuple[Array, Array]:
    """(H, W) twice: the smaller and the larger eigenvalue of the structure tensor around each
    pixel."""
    side = 2 * STRUCTURE_REACH + 1
    slope_x = cv2.Sobel(smooth, cv2.CV_32F, 1, 0, ksize=3) / 4
    slope_y = cv2.Sobel(smooth, cv2.CV_32F, 0, 1, ksize=3) / 4
    xx = cv2.blur(slope_x * slope_x, (side, side))
    xy = cv2.blur(slope_x * slope_y, (side, side))
    yy = cv2.blur(slope_y * slope_y, (side, side))
    middle, apart = (xx + yy) / 2, np.hypot((xx - yy) / 2, xy)
    return middle - apart, middle + apart


def _allowed(
    shape: tuple[int, ...], avoid: Array, apart_px: float, keep_out: Array | None
) -> Array:
    """(H, W) of bool: where a corner may lie."""
    blocked = np.zeros(shape, np.uint8)
    for x, y in np.nan_to_num(avoid, nan=-1e4):
        cv2.circle(blocked, (int(x), int(y)), max(1, round(apart_px)), 1, -1)
    if keep_out is not None:
        blocked |= keep_out.astype(np.uint8)
    rim = 2 * STRUCTURE_REACH
    allowed = np.zeros(shape, bool)
    allowed[rim:-rim, rim:-rim] = blocked[rim:-rim, rim:-rim] == 0
    return allowed


def _spread_out(candidates: Array, most: int, apart_px: float, width: int, height: int) -> Array:
    """The candidates (N, 2), best first, thinned to `most` that are `apart_px` from each other,
    cells in turn."""
    side = max(2.0 * apart_px, np.sqrt(width * height / max(most, 1)))
    cells: dict[tuple[int, int], list[Array]] = {}
    for candidate in candidates:
        cells.setdefault((int(candidate[0] / side), int(candidate[1] / side)), []).append(candidate)
    taken: dict[tuple[int, int], list[Array]] = {}
    out: list[Array] = []
    queues = [iter(cell) for _, cell in sorted(cells.items())]
    while queues and len(out) < most:
        still = []
        for queue in queues:
            for candidate in queue:
                if _is_free(candidate, taken, apart_px):
                    key = (int(candidate[0] / apart_px), int(candidate[1] / apart_px))
                    taken.setdefault(key, []).append(candidate)
                    out.append(candidate)
                    still.append(queue)
                    break
            if len(out) == most:
                break
        queues = still
    return np.array(out).reshape(-1, 2)


def _is_free(candidate: Array, taken: dict[tuple[int, int], list[Array]], apart_px: float) -> bool:
    """Whether no taken corner, filed by squares of `apart_px`, lies nearer than that."""
    column, row = int(candidate[0] / apart_px), int(candidate[1] / apart_px)
    return all(
        np.hypot(*(candidate - other)) >= apart_px
        for dx in (-1, 0, 1)
        for dy in (-1, 0, 1)
        for other in taken.get((column + dx, row + dy), ())
    )
