"""How bright a picture is: against middle grey, in stops, over the picture, and on a patch that is
known.

All of it is measured in linear light. Middle grey is 0.18, a diffuse white sheet about 0.9; where
nothing else is said, 1.0 is as bright as the picture's file can say, and is called clipped; files
of floating-point numbers have no such ceiling.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.plates.colour import LUMINANCE_BT709

MIDDLE_GREY = 0.18
CLIPPED, CRUSHED = 0.996, 1e-4  # 254 of 255 after sRGB's curve is 0.991; 1 of 255 is 3e-4
# What a patch is, and the share of the light that it sends back: 18 % is the grey card's own
# figure; white paper and skin are common practice, no source (skin: one stop above middle grey, for
# light skin; darker skin lies up to two stops lower, so its ± is wide).
SURFACES = {
    "grey": ("Grey card, 18 %", 0.18, 0.02),
    "white": ("White paper", 0.85, 0.08),
    "skin": ("Light skin, lit by the key", 0.36, 0.35),
    "skin_dark": ("Dark skin, lit by the key", 0.12, 0.35),
}
# Upper ends of the false colours' ranges, in stops from middle grey: shades from below to above.
BANDS = (-6.0, -4.5, -3.0, -1.5, -0.5, 0.5, 1.5, 2.25)
BAND_COLOURS = (
    (49, 31, 74),
    (59, 63, 130),
    (52, 103, 153),
    (74, 148, 152),
    (133, 178, 140),
    (200, 200, 196),
    (232, 207, 130),
    (229, 156, 84),
    (201, 88, 66),
)
CLIPPED_COLOUR, CRUSHED_COLOUR = (255, 40, 140), (0, 0, 0)
LEAST_PATCH_PX = 4


def luminance_of(linear: Array) -> Array:
    """(H, W) luminance of linear pixels (H, W, 3): ITU-R BT.709's weights."""
    return np.asarray(linear, np.float32)[..., :3] @ LUMINANCE_BT709


@dataclass(frozen=True)
class Levels:
    """How bright a picture is.

    Parameters
    ----------
    mean, log_average, low, median, high : float
        Luminance, 1.0 is white. `log_average`: the geometric mean, which a few lamps don't move;
        `low` and `high`: the 1st and 99th percentile.
    clipped, crushed : float
        Shares of the pixels that are as bright as the file can say in any channel, and as dark.
    """

    mean: float
    log_average: float
    low: float
    median: float
    high: float
    clipped: float
    crushed: float

    def stops(self, name: str) -> float:
        """One of the levels in stops from middle grey."""
        return stops_from_grey(getattr(self, name))


def stops_from_grey(luminance: float) -> float:
    """Stops above middle grey; −inf for black."""
    return math.log2(luminance / MIDDLE_GREY) if luminance > 0 else -math.inf


def levels(linear: Array, ceiling: float = CLIPPED) -> Levels:
    """Return how bright a picture (H, W, 3) is, linear light; from `ceiling` on it is clipped."""
    bright = luminance_of(linear)
    low, median, high = np.percentile(bright, [1, 50, 99]).tolist()
    return Levels(
        float(bright.mean(dtype=float)),
        float(np.exp(np.log(np.maximum(bright, CRUSHED)).mean(dtype=float))),
        low,
        median,
        high,
        float((np.asarray(linear)[..., :3].max(axis=-1) >= ceiling).mean()),
        float((bright <= CRUSHED).mean()),
    )


def histogram(linear: Array, bins: int = 128, least: float = -9.0, most: float = 4.0) -> Array:
    """Return the shares of pixels per bin of stops from middle grey.

    Parameters
    ----------
    linear : ndarray, shape (H, W, 3)
    bins : int
    least, most : float
        Stops; what lies beyond them is counted in the first and the last bin.

    Returns
    -------
    ndarray, shape (4, bins)
        Of red, green, blue and luminance.
    """
    picture = np.asarray(linear, np.float32)[..., :3]
    channels = [*np.moveaxis(picture, -1, 0), luminance_of(picture)]
    out = []
    for values in channels:
        stops = np.log2(np.maximum(values, 1e-9) / MIDDLE_GREY)
        counts, _ = np.histogram(np.clip(stops, least, most - 1e-6), bins, (least, most))
        out.append(counts / values.size)
    return np.array(out)


def waveform(encoded: Array, columns: int = 256, rows: int = 128) -> Array:
    """Return how often each brightness occurs across the picture.

    Parameters
    ----------
    encoded : ndarray, shape (H, W)
        Brightness as it is shown, 0 … 1.
    columns, rows : int

    Returns
    -------
    ndarray, shape (rows, columns)
        The share of each column's pixels, brightest row first.
    """
    encoded = np.clip(np.asarray(encoded, float), 0, 1)
    across = np.broadcast_to(np.arange(encoded.shape[1]), encoded.shape)
    counts, _, _ = np.histogram2d(
        (1 - encoded).ravel(),
        across.ravel(),
        (rows, columns),
        ((0, 1 + 1e-9), (0, encoded.shape[1])),
    )
    return counts / np.maximum(counts.sum(axis=0), 1)


def false_colour(linear: Array, stops: float = 0.0, ceiling: float = CLIPPED) -> Array:
    """Return a picture whose colours say how bright each pixel is.

    Parameters
    ----------
    linear : ndarray, shape (H, W, 3)
    stops : float
        By how much it is exposed more than it was.
    ceiling : float
        From which linear light on it is clipped.

    Returns
    -------
    ndarray, shape (H, W, 3), uint8
        Of BAND_COLOURS by BANDS; CLIPPED_COLOUR and CRUSHED_COLOUR where the file's own values end.
    """
    picture = np.asarray(linear, np.float32)[..., :3]
    bright = luminance_of(picture)
    above = np.log2(np.maximum(bright, 1e-9) / MIDDLE_GREY) + stops
    out = np.array(BAND_COLOURS, np.uint8)[np.searchsorted(BANDS, above)]
    out[picture.max(axis=-1) >= ceiling] = CLIPPED_COLOUR
    out[bright <= CRUSHED] = CRUSHED_COLOUR
    return out


@dataclass(frozen=True)
class Metered:
    """A patch of the picture against what it is said to be.

    Parameters
    ----------
    colour : tuple of three floats
        Its mean, linear light.
    luminance, plus_minus : float
        Its mean luminance and the standard deviation of that mean.
    stops, stops_plus_minus : float
        By how much it would have to be exposed more, to be as bright as it is said to be.
    clipped : float
        The share of its pixels that are clipped.
    """

    colour: tuple[float, float, float]
    luminance: float
    plus_minus: float
    stops: float
    stops_plus_minus: float
    clipped: float


def meter(
    linear: Array,
    box: tuple[float, float, float, float],
    surface: str,
    ceiling: float = CLIPPED,
) -> Metered:
    """Meter a patch that is known.

    The ± holds the ± of what such a surface sends back, and that of the mean. Neighbouring pixels
    share their noise (a camera interpolates colours, a codec smooths), so the mean's ± is taken
    from means of blocks, as many as there are.

    Parameters
    ----------
    linear : ndarray, shape (H, W, 3)
    box : left, top, right, bottom
        Pixels.
    surface : str
        A key of SURFACES.
    ceiling : float
        From which linear light on a pixel is clipped.

    Raises
    ------
    Problem
        If the patch has no pixels, is black, or is clipped throughout.
    """
    patch = patch_of(linear, box)
    _, reflectance, share = SURFACES[surface]
    bright = luminance_of(patch)
    clipped = float((patch.max(axis=-1) >= ceiling).mean())
    mean = float(bright.mean(dtype=float))
    if clipped > 0.5:
        raise Problem("Most of that patch is clipped: it tells nothing of how bright it was.")
    if mean <= CRUSHED:
        raise Problem("That patch is black: it tells nothing of how bright it was.")
    wide = _of_mean(bright)
    stops = math.log2(reflectance / mean)
    own = math.hypot(share, wide / mean) / math.log(2)
    colour = patch.reshape(-1, 3).mean(axis=0, dtype=float)
    return Metered(tuple(colour.tolist()), mean, wide, stops, own, clipped)


def patch_of(linear: Array, box: tuple[float, float, float, float]) -> Array:
    """(h, w, 3) the pixels of a patch. Raises Problem where there are too few."""
    height, width = linear.shape[:2]
    left, top, right, bottom = (float(side) for side in box)
    columns = slice(max(0, round(left)), min(width, round(right)))
    rows = slice(max(0, round(top)), min(height, round(bottom)))
    patch = np.asarray(linear[rows, columns, :3], np.float32)
    if patch.shape[0] * patch.shape[1] < LEAST_PATCH_PX:
        raise Problem("That patch has too few pixels of the plate: draw a larger one.")
    return patch


def _of_mean(values: Array) -> float:
    """The standard deviation of a patch's mean, from means of up to 6 × 6 blocks."""
    blocks = [
        np.mean(part)
        for rows in np.array_split(values, min(6, values.shape[0]), axis=0)
        for part in np.array_split(rows, min(6, values.shape[1]), axis=1)
    ]
    return float(np.std(blocks, ddof=1) / math.sqrt(len(blocks))) if len(blocks) > 1 else 0.0
