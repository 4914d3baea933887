"""How sharp a picture's edges are: a map of the blur at each edge, as the diameter of a disc in
pixels.

A step edge seen through a blur has a gradient as high as the blur's line spread function L at 0.
Blurred once more by a known Gaussian of σ₀, the ratio of the two gradients,

    R = L(0) / (L ∗ G_σ₀)(0),

falls from √(1 + σ₀²/σ_b²) for a sharp edge toward 1 for a wide blur. For L of a disc of diameter c
under what the sampling itself blurs (σ_b), R(c) is computed once, and read backwards. It is
measured at three scales, each with a derivative of its own width: small ones see small blurs, large
ones aren't led astray by noise. What is measured is the whole blur: lens, motion and focus
together.

References
----------
S. Zhuo, T. Sim, "Defocus map estimation from a single image", Pattern Recognition 44 (2011), with a
Gaussian instead of a disc.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cache

import cv2
import numpy as np

from aperture.arrays import Array
from aperture.plates.colour import luminance


@dataclass(frozen=True)
class Scale:
    """One scale: σ of the derivative's Gaussian, σ₀, and up to which diameter it is believed;
    px."""

    derivative: float
    again: float
    most: float


SCALES = (Scale(1.0, 1.2, 6.0), Scale(2.0, 3.0, 14.0), Scale(4.0, 6.0, 40.0))
# What a central difference over two pixels and the pixel itself blur, as variances of boxes, px².
DIFFERENCE, PIXEL = 4 / 12, 1 / 12
LEAST_STEP = 6.0  # by how many of its own spreads a gradient stands out where there is an edge
CELL = 32  # px: the side of the map's cells
LEAST_EDGES = 12  # in a cell
TILE, AROUND = 2048, 64  # px of a tile that is measured at once, and of what it sees around itself
UNEVEN = 0.2  # of a step: how much its sides may rise or fall
ALONG = 4.0  # px along an edge that share their noise
# Of a median, below which its ± never falls: edges of real photographs under known discs are read
# within that (tests/references/test_light.py).
LEAST_SHARE = 0.1


@dataclass(frozen=True, eq=False)
class BlurMap:
    """The blur of a picture's edges.

    Parameters
    ----------
    cell : int
        Side of a cell, px.
    diameter : ndarray, shape (rows, columns)
        Of each cell the median of its edges, px; NaN where it has too few.
    plus_minus : ndarray, shape (rows, columns)
        Of that median.
    """

    cell: int
    diameter: Array
    plus_minus: Array


def blur_map(pixels: Array, transfer: str = "srgb", cell: int = CELL) -> BlurMap:
    """Measure the blur at each edge of a picture.

    Parameters
    ----------
    pixels : ndarray, shape (H, W, 3)
    transfer : str
        The curve of its values, a key of `colour.TRANSFERS`: blur adds up in linear light.
    cell : int
    """
    found = [_in_tile(pixels, transfer, corner) for corner in _corners(pixels)]
    at = np.concatenate([places for places, _ in found])
    diameters = np.concatenate([own for _, own in found])
    rows, columns = (math.ceil(side / cell) for side in pixels.shape[:2])
    out, wide = np.full((rows, columns), np.nan), np.full((rows, columns), np.nan)
    where = (at[:, 0] // cell) * columns + at[:, 1] // cell
    order = np.argsort(where, kind="stable")
    starts = np.searchsorted(where[order], np.arange(rows * columns + 1))
    for index in np.flatnonzero(np.diff(starts) >= LEAST_EDGES):
        own = diameters[order[starts[index] : starts[index + 1]]]
        place = divmod(int(index), columns)
        out[place], wide[place] = median_of(own)
    return BlurMap(cell, out, wide)


def _corners(pixels: Array) -> list[tuple[int, int]]:
    height, width = pixels.shape[:2]
    return [(top, left) for top in range(0, height, TILE) for left in range(0, width, TILE)]


def _in_tile(pixels: Array, transfer: str, corner: tuple[int, int]) -> tuple[Array, Array]:
    """`edge_blurs` of one tile of a picture, so that a large one takes no more memory than a small
    one."""
    top, left = corner
    above, before = min(top, AROUND), min(left, AROUND)
    part = pixels[top - above : top + TILE + AROUND, left - before : left + TILE + AROUND]
    at, diameters = edge_blurs(luminance(np.asarray(part), transfer))
    own = (at >= (above, before)).all(axis=1) & (at < (above + TILE, before + TILE)).all(axis=1)
    return at[own] + (top - above, left - before), diameters[own]


def median_of(values: Array) -> tuple[float, float]:
    """(median, its ±) of the diameters along an edge, whose neighbours share their noise."""
    middle = float(np.median(values))
    spread = 1.4826 * float(np.median(np.abs(values - middle)))
    own = 1.2533 * spread / math.sqrt(max(len(values) / ALONG, 1))
    return middle, max(own, LEAST_SHARE * middle, 0.05)


def edge_blurs(bright: Array) -> tuple[Array, Array]:
    """Return rows and columns (N, 2) of a picture's edges, and the diameter (N,) of each one's
    blur, px.

    Parameters
    ----------
    bright : ndarray, shape (H, W)
        Linear light.
    """
    bright = np.asarray(bright, np.float32)
    places, diameters, least = [], [], 0.0
    for scale in SCALES:
        at, found = _at_scale(bright, scale)
        own = (found >= least) & (found < scale.most)
        places.append(at[own])
        diameters.append(found[own])
        least = scale.most
    return np.concatenate(places), np.concatenate(diameters)


def _at_scale(bright: Array, scale: Scale) -> tuple[Array, Array]:
    """Edges (N, 2) that stand out at a scale, and the diameters (N,) that it reads."""
    steep, across, down = _gradient(bright, scale.derivative)
    middle = float(np.median(steep))
    spread = 1.4826 * float(np.median(np.abs(steep - middle))) + 1e-6
    stands = steep > middle + LEAST_STEP * spread
    at = np.argwhere(stands & _ridge(steep, across, down))
    if not len(at):
        return at, np.zeros(0)
    again, _, _ = _gradient(bright, math.hypot(scale.derivative, scale.again))
    place = tuple(at.T)
    ratio = steep[place] / np.maximum(again[place], 1e-12)
    diameters, ratios = _table(scale)
    out = np.interp(ratio, ratios[::-1], diameters[::-1])
    ways = np.stack([down[place], across[place]], -1) / np.maximum(steep[place], 1e-12)[:, None]
    alone = _alone(bright, at, ways, 0.6 * out + 1.5 * scale.derivative + 1)
    return at[alone], out[alone]


def _alone(bright: Array, at: Array, ways: Array, reach: Array) -> Array:
    """(N,) whether an edge is a step between two even sides: a thin bar looks sharper than it is.

    at : rows and columns (N, 2). ways : (N, 2) unit, uphill. reach : (N,) px, where the step is
    over.
    """
    soft = cv2.GaussianBlur(bright, (0, 0), 1.0)

    def level(share: float) -> Array:
        there = (at + (share * reach)[:, None] * ways).astype(np.float32)
        # OpenCV's remap takes pictures of fewer than 32,768 rows.
        parts = [
            cv2.remap(
                soft,
                np.ascontiguousarray(part[:, 1:]),
                np.ascontiguousarray(part[:, :1]),
                cv2.INTER_LINEAR,
                borderMode=cv2.BORDER_REPLICATE,
            )[:, 0]
            for part in (there[i : i + 30_000] for i in range(0, len(there), 30_000))
        ]
        return np.concatenate(parts)

    high, low = level(1.0), level(-1.0)
    step = high - low
    even = np.maximum(np.abs(level(1.7) - high), np.abs(level(-1.7) - low))
    return even < UNEVEN * step


def _gradient(bright: Array, sigma: float) -> tuple[Array, Array, Array]:
    """(H, W) each: its length, across and down, after a Gaussian blur."""
    soft = cv2.GaussianBlur(bright, (0, 0), sigma)
    across = cv2.Sobel(soft, cv2.CV_32F, 1, 0, ksize=1, scale=0.5)
    down = cv2.Sobel(soft, cv2.CV_32F, 0, 1, ksize=1, scale=0.5)
    return cv2.magnitude(across, down), across, down


def _ridge(steep: Array, across: Array, down: Array) -> Array:
    """(H, W) whether a pixel's gradient is the largest along its own direction."""
    flat = np.abs(across) >= np.abs(down)
    pad = np.pad(steep, 1)
    side = np.maximum(pad[1:-1, :-2], pad[1:-1, 2:])
    over = np.maximum(pad[:-2, 1:-1], pad[2:, 1:-1])
    return steep >= np.where(flat, side, over)


@cache
def _table(scale: Scale) -> tuple[Array, Array]:
    """Diameters (K,) px, and the ratio (K,) of the two gradients that each gives, falling."""
    diameters = np.linspace(0, 2 * scale.most, 240)
    base = math.sqrt(scale.derivative**2 + DIFFERENCE + PIXEL)
    wide = math.hypot(base, scale.again)
    ratios = [_height(each, base) / _height(each, wide) for each in diameters]
    return diameters, np.array(ratios)


def _height(diameter: float, sigma: float) -> float:
    """The line spread function's height at 0, of a disc under a Gaussian blur."""
    nodes = np.sin(np.linspace(-math.pi / 2, math.pi / 2, 201))
    at = nodes * diameter / 2
    # A disc's own is √(1 − x²); with x = sin a, its weight is cos² a.
    weights = 1 - nodes**2
    return float((weights * np.exp(-(at**2) / (2 * sigma**2))).sum() / weights.sum() / sigma)
