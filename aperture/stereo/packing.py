"""Pictures of two eyes in one: beside or over each other, as an anaglyph, or as a checkerboard.

Pictures are (H, W, 3 or 4) linear light, all of one size.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem

# E. Dubois, "A projection method to generate anaglyph stereo images" (ICASSP 2001): least squares
# in CIE XYZ for red and cyan filters before a CRT; the figures are cited from memory.
LEAST_SQUARES = (
    np.array([[0.437, 0.449, 0.164], [-0.062, -0.062, -0.024], [-0.048, -0.050, -0.017]]),
    np.array([[-0.011, -0.032, -0.007], [0.377, 0.761, 0.009], [-0.026, -0.093, 1.234]]),
)
PLAIN = (np.diag([1.0, 0.0, 0.0]), np.diag([0.0, 1.0, 1.0]))
KINDS = {
    "side": "Side by side, full",
    "side half": "Side by side, half the width",
    "over": "Over and under, full",
    "over half": "Over and under, half the height",
    "anaglyph": "Anaglyph, red–cyan",
    "least": "Anaglyph, red–cyan by least squares",
    "checker": "Checkerboard",
}
# What stands where, for who opens the file.
SAYS = {
    "side": "left eye at the left, right eye at the right",
    "side half": "left eye at the left, right eye at the right, each half as wide",
    "over": "left eye above, right eye below",
    "over half": "left eye above, right eye below, each half as high",
    "anaglyph": "left eye red, right eye green and blue",
    "least": "left eye through a red filter, right eye through a cyan one, by least squares",
    "checker": "left eye where column and row add up to an even number, counted from 0",
}


def packed(left: Array, right: Array, kind: str) -> Array:
    """Both pictures as one. Raises Problem where they are of different sizes, or the kind is
    unknown."""
    left, right = np.asarray(left, np.float32), np.asarray(right, np.float32)
    if left.shape != right.shape:
        raise Problem("The pictures of the two eyes are of different sizes.")
    if kind == "side":
        return np.concatenate([left, right], axis=1)
    if kind == "over":
        return np.concatenate([left, right], axis=0)
    if kind == "side half":
        return np.concatenate([_halved(left, 1), _halved(right, 1)], axis=1)
    if kind == "over half":
        return np.concatenate([_halved(left, 0), _halved(right, 0)], axis=0)
    if kind == "checker":
        rows, columns = np.indices(left.shape[:2])
        return np.where(((rows + columns) % 2 == 0)[..., None], left, right)
    if kind in ("anaglyph", "least"):
        own, other = PLAIN if kind == "anaglyph" else LEAST_SQUARES
        mixed = left[..., :3] @ own.T + right[..., :3] @ other.T
        out = np.clip(mixed, 0, None).astype(np.float32)
        if left.shape[2] == 3:
            return out
        return np.concatenate([out, np.maximum(left[..., 3:], right[..., 3:])], axis=2)
    raise Problem("There is no such way to pack two pictures.", "kind")


def _halved(picture: Array, axis: int) -> Array:
    """Of each two rows or columns their mean; of an odd number, the last one counts alone."""
    count = picture.shape[axis]
    if count % 2:
        last = np.take(picture, [count - 1], axis)
        picture = np.concatenate([picture, last], axis)
    even, odd = (np.take(picture, range(first, picture.shape[axis], 2), axis) for first in (0, 1))
    return (even + odd) / 2


def parted(picture: Array, kind: str) -> tuple[Array, Array]:
    """Left and right out of a picture that is packed beside or over; half ones stay half.

    Raises Problem for other kinds, or where it can't be halved.
    """
    axis = {"side": 1, "side half": 1, "over": 0, "over half": 0}.get(kind)
    if axis is None:
        raise Problem("Only pictures beside or over each other are parted again.", "kind")
    count = picture.shape[axis]
    if count % 2:
        raise Problem("This picture can’t be halved: it has an odd number of pixels there.")
    half = count // 2
    return np.take(picture, range(half), axis), np.take(picture, range(half, count), axis)


def part_file(packed: Path, kind: str, left: Path, right: Path) -> None:
    """Write both eyes' pictures of a packed file, as PNG, half ones stretched to the full size
    again. Raises Problem."""
    import cv2

    picture = cv2.imread(str(packed), cv2.IMREAD_UNCHANGED)
    if picture is None:
        raise Problem("This picture can’t be read.", "files")
    for half, path in zip(parted(picture, kind), (left, right)):
        if kind.endswith("half"):
            high, wide = half.shape[:2]
            size = (2 * wide, high) if kind.startswith("side") else (wide, 2 * high)
            half = cv2.resize(half, size, interpolation=cv2.INTER_LINEAR)  # noqa: PLW2901
        cv2.imwrite(str(path), half)
