"""The mean of many frames of a shot whose camera stands still: the same picture with less noise."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.plates.film import Pictures

MOVED_PX = 0.3  # between the first and the last frames: more, and the mean is blurred


def write_mean(folder: Path, numbers: Sequence[int], file: Path, count: Path) -> float:
    """Write the mean of a film's pictures, values as they are encoded: a PNG of 16 bits, or a float
    TIFF of linear light.

    `count` is a file in which the number of pictures read so far is kept. Returns by how many px
    the picture moves between the first and the last quarter of them. Raises Problem where none or
    one can be read.
    """
    import cv2

    total: Array | None = None
    ends: list[Array] = []
    read, linear = 0, False
    quarter = max(1, len(numbers) // 4)
    with Pictures(folder) as pictures:
        for index, number in enumerate(numbers):
            try:
                pixels, linear = pictures[number]
            except Problem:
                continue
            values = _as_float(pixels)
            total = values if total is None else total + values
            read += 1
            if index < quarter or index >= len(numbers) - quarter:
                ends.append(_grey(values))
            count.write_text(str(read))
    if total is None or read < 2:
        raise Problem("Fewer than two of these pictures can be read: there is nothing to average.")
    mean = total / read
    if linear:
        written = cv2.imwrite(str(file.with_suffix(".tif")), mean[..., ::-1].astype(np.float32))
    else:
        sixteen = np.clip(mean * 65535 + 0.5, 0, 65535).astype(np.uint16)
        written = cv2.imwrite(str(file.with_suffix(".png")), sixteen[..., ::-1])
    if not written:
        raise OSError(f"could not write {file.name}")
    half = max(1, len(ends) // 2)
    return moved(np.mean(ends[:half], axis=0), np.mean(ends[half:] or ends, axis=0))


def _as_float(pixels: Array) -> Array:
    values = pixels.astype(np.float64)
    return values / np.iinfo(pixels.dtype).max if pixels.dtype.kind == "u" else values


def _grey(values: Array) -> Array:
    return np.asarray(values.mean(axis=2), np.float32)


def moved(before: Array, after: Array) -> float:
    """By how many px one grey picture (H, W), 0 … 1, lies elsewhere than another, at the worst of
    its corners and its middle.

    From the affine map that makes all of one look most like the other (OpenCV's ECC), so that noise
    averages out.
    """
    import cv2

    turn = np.eye(2, 3, dtype=np.float32)
    enough = (cv2.TERM_CRITERIA_EPS | cv2.TERM_CRITERIA_COUNT, 100, 1e-6)
    one, two = np.asarray(before, np.float32), np.asarray(after, np.float32)
    try:
        _, turn = cv2.findTransformECC(one, two, turn, cv2.MOTION_AFFINE, enough, None, 5)
    except cv2.error:  # it doesn't come to rest: what is seen is another thing altogether
        return float("inf")
    height, width = before.shape
    ends = np.array([[0, 0], [width, 0], [0, height], [width, height], [width / 2, height / 2]])
    led = ends @ turn[:, :2].T + turn[:, 2]
    return float(np.linalg.norm(led - ends, axis=1).max())
