"""Flashes: a lamp that lights up in the picture, and so marks a frame, as a clapper does.

A flash is a place that all at once becomes brighter, or more of some colour, than anything near it
was a picture before. What moves is no flash: the picture before is first laid over this one, and
each place is compared with the most that its neighbourhood had. What is ordinary for a film is told
by its other pictures.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array

WIDTH = 480  # px to which pictures are brought
NEAR = (
    7  # px that things may move by themselves once the picture before has been laid over this one
)
FAR = 12  # where it can't be laid over it
LEAST = 0.06  # rise, as a share of white
TIMES = 6.0  # as far above the film's ordinary rises, in their σ
# Share of the picture: more is lit by a flash that lights the whole place, or is another shot after
# a cut.
WIDE = 0.12
CELL = 16  # px, to look back at where a lamp is
DIM = 0.2  # of its rise: a lamp that is lit while the shutter is open is dim in its first picture
SAME_PLACE = 0.05  # of the picture's sides
GOES_OUT = 100  # pictures within which a lamp goes out again, if it is a flash
MOST = 12  # that are told


@dataclass(frozen=True)
class Flash:
    """A lamp that lights up.

    number : the first picture in which it is lit.
    at : (x, y) of its middle, as shares of the picture's width and height.
    rise : by how much it becomes brighter or more coloured, as a share of white; `ordinary`: what
    the film's other pictures have. area : share of the picture that lights up; `wide` where it is
    much: the whole place is lit, or a shot ends.
    colour : (red, green, blue) 0 … 1 of the lit place, sRGB.
    """

    number: int
    at: tuple[float, float]
    rise: float
    ordinary: float
    area: float
    wide: bool
    colour: tuple[float, float, float]


def find_flashes(
    pictures: Iterable[tuple[int, Array]],
    region: tuple[float, float, float, float] | None = None,
) -> list[Flash]:
    """The flashes of a film, the strongest first, MOST of them.

    Parameters
    ----------
    pictures : (number, (H, W, 3) uint8 BGR) each, in order, all of one size.
    region : left, top, right, bottom as shares of the picture, outside which nothing is looked for.
    """
    rises: list[_Rise] = []
    before: tuple[Array, Array] | None = None
    for number, pixels in pictures:
        small = _small(pixels)
        grey = _grey(small)
        if before is not None:
            rises.append(_rise(number, before, (small, grey), region))
        before = small, grey
    return _outstanding(rises)


@dataclass(frozen=True)
class _Rise:
    """The greatest rise from one picture to the next."""

    number: int
    rise: float
    at: tuple[float, float]
    area: float
    colour: tuple[float, float, float]
    colour_before: tuple[float, float, float]
    cells: Array  # (rows, columns) the greatest rise within each CELL px


def _small(pixels: Array) -> Array:
    import cv2

    height, width = pixels.shape[:2]
    size = min(WIDTH, width), max(1, round(height * min(1.0, WIDTH / width)))
    small = cv2.resize(pixels, size, interpolation=cv2.INTER_AREA)
    return np.asarray(cv2.GaussianBlur(small, (3, 3), 0).astype(np.float32) / 255)


def _grey(small: Array) -> Array:
    import cv2

    return np.asarray((cv2.cvtColor(small, cv2.COLOR_BGR2GRAY) * 255).astype(np.uint8))


def _kinds(small: Array) -> Array:
    """(7, H, W): blue, green and red, and how much more of one colour there is than of the
    others."""
    blue, green, red = np.moveaxis(small, 2, 0)
    yellow = (red + green) / 2 - blue
    return np.stack([blue, green, red, red - green, green - red, yellow, -yellow])


def _laid_over(before: tuple[Array, Array], grey: Array) -> tuple[Array, int]:
    """The picture before, moved so that it lies over this one, and how many px may still be between
    them."""
    import cv2

    small, grey_before = before
    height, width = grey.shape
    corners = cv2.goodFeaturesToTrack(grey_before, 200, 0.01, 8)
    if corners is None or len(corners) < 12:
        return small, FAR
    found, there, _ = cv2.calcOpticalFlowPyrLK(grey_before, grey, corners, None, winSize=(15, 15))
    good = there.ravel() == 1
    if good.sum() < 12:
        return small, FAR
    turn, kept = cv2.estimateAffine2D(corners[good], found[good], ransacReprojThreshold=2.0)
    if turn is None or kept.sum() < 0.4 * good.sum() or abs(np.linalg.det(turn[:, :2]) - 1) > 0.3:
        return small, FAR
    moved = cv2.warpAffine(
        small, turn, (width, height), borderMode=cv2.BORDER_CONSTANT, borderValue=(9.0,) * 3
    )
    return np.asarray(moved), NEAR


def _rise(
    number: int,
    before: tuple[Array, Array],
    now: tuple[Array, Array],
    region: tuple[float, float, float, float] | None,
) -> _Rise:
    import cv2

    small, grey = now
    height, width = grey.shape
    moved, near = _laid_over(before, grey)
    new = moved.max(axis=2) > 1.5  # came in at the border: nobody knows what was there
    kernel = np.ones((2 * near + 1, 2 * near + 1), np.uint8)
    over = np.full((height, width), -1.0, np.float32)
    for mine, theirs in zip(_kinds(small), _kinds(np.minimum(moved, 1.0))):
        over = np.maximum(over, mine - cv2.dilate(theirs, kernel))
    unknown = cv2.dilate(new.astype(np.uint8), kernel) > 0
    over[unknown] = 0
    over[: 2 * near] = over[-2 * near :] = 0
    over[:, : 2 * near] = over[:, -2 * near :] = 0
    if region is not None:
        left, top, right, bottom = (
            int(np.clip(round(share * side), 0, side))
            for share, side in zip(region, (width, height, width, height))
        )
        outside = np.ones((height, width), bool)
        outside[top : max(bottom, top + 1), left : max(right, left + 1)] = False
        over[outside] = 0
    over = np.asarray(cv2.blur(np.maximum(over, 0), (3, 3)))
    y, x = np.unravel_index(int(over.argmax()), over.shape)
    rise = float(over[y, x])
    lit = over > rise / 2
    share = float((over > max(LEAST, rise / 4)).mean()) if rise > LEAST else 0.0
    count, labels = cv2.connectedComponents(lit.astype(np.uint8))
    blob = labels == labels[y, x] if rise > 0 and count > 1 else lit
    ys, xs = np.nonzero(blob)
    if not len(ys):
        ys, xs = np.array([y]), np.array([x])
    return _Rise(
        number,
        rise,
        (float((xs.mean() + 0.5) / width), float((ys.mean() + 0.5) / height)),
        share,
        _mean(small[ys, xs]),
        _mean(moved[ys, xs]),
        _in_cells(over),
    )


def _in_cells(over: Array) -> Array:
    height, width = (side // CELL * CELL for side in over.shape)
    cells = over[:height, :width].reshape(height // CELL, CELL, width // CELL, CELL)
    return np.asarray(cells.max(axis=(1, 3))) if cells.size else np.zeros((1, 1), np.float32)


def _mean(pixels: Array) -> tuple[float, float, float]:
    """Red, green and blue of (N, 3) blue, green, red."""
    blue, green, red = np.clip(pixels.mean(axis=0), 0, 1)
    return float(red), float(green), float(blue)


def _outstanding(rises: list[_Rise]) -> list[Flash]:
    """Of the rises those that the film's others don't explain; of several pictures that a lamp
    takes to light up, the first."""
    if not rises:
        return []
    values = np.array([rise.rise for rise in rises])
    ordinary = float(np.median(values))
    sigma = max(1.4826 * float(np.median(np.abs(values - ordinary))), 0.004)
    least = max(LEAST, ordinary + TIMES * sigma)
    found: list[_Rise] = []  # the strongest picture of each
    firsts: list[int] = []
    previous: _Rise | None = None
    for index, rise in enumerate(rises):
        if rise.rise < least:
            previous = None
        elif previous is not None and _beside(previous, rise):
            if rise.rise > found[-1].rise:
                found[-1] = rise
            previous = rise
        elif not any(_is_return(earlier, rise) for earlier in found):
            found.append(rise)
            firsts.append(_first_lit(rises, index))
            previous = rise
    flashes = [
        Flash(first, one.at, one.rise, ordinary, one.area, one.area > WIDE, one.colour)
        for first, one in zip(firsts, found)
    ]
    return sorted(flashes, key=lambda flash: (flash.wide, -flash.rise))[:MOST]


def _first_lit(rises: list[_Rise], index: int) -> int:
    """The number of the first picture in which a lamp is lit that rises most, or begins to, in
    rises[index]."""
    found = rises[index]
    rows, columns = found.cells.shape
    row = min(rows - 1, int(found.at[1] * rows))
    column = min(columns - 1, int(found.at[0] * columns))
    around = slice(max(0, row - 1), row + 2), slice(max(0, column - 1), column + 2)
    before = [float(rise.cells[around].max()) for rise in rises[max(0, index - 12) : index]]
    if len(before) < 3:
        return found.number
    usual = float(np.median(before))
    dim = max(DIM * found.rise, LEAST / 2, 4 * usual)
    return rises[index - 1].number if before[-1] > dim else found.number


def _beside(one: _Rise, other: _Rise) -> bool:
    return bool(np.hypot(*np.subtract(one.at, other.at)) < SAME_PLACE)


def _is_return(earlier: _Rise, rise: _Rise) -> bool:
    """Whether a lamp goes out: its place becomes what it was before it was lit, which in some
    colour is a rise too."""
    if not _beside(earlier, rise) or rise.number - earlier.number > GOES_OUT:
        return False
    lit = np.linalg.norm(np.subtract(earlier.colour, earlier.colour_before))
    left = np.linalg.norm(np.subtract(rise.colour, earlier.colour_before))
    return bool(left < 0.4 * lit)
