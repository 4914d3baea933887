"""Aligning a small patch of a picture to a template, to a few hundredths of a pixel.

The template T is a square window around a point of the key frame. In a later frame I it appears
moved, turned, scaled and sheared (an affine map W of window coordinates), and brighter or darker (a
gain g and an offset b):

    I(W(u)) = g T(u) + b + noise,    u in the window.

The inverse compositional algorithm (Baker and Matthews 2004, "Lucas–Kanade 20 years on", IJCV 56
(3), section 3.2) looks for the small change of the *template* that explains the difference, and
composes its inverse with W. The derivatives of T, and the Hessian H = Σ w s sᵀ of the eight
parameters (two of translation, four of the affine part, gain, offset), are then the same in every
iteration and in every frame: they are computed once per track. Gain and offset are taken into the
same Hessian, so that no part of a change of brightness is mistaken for motion.

The pixels are weighted, so the covariance of the parameters is s² H⁻¹ (Σ w² s sᵀ) H⁻¹, with s² the
variance of the residual. The residual holds the noise of both pictures, which is what the distance
between the two positions has. What it doesn't hold is the correlation of neighbouring pixels that
compression brings: `path` rescales σ from its own residuals.

Coordinates here are those of array indices, as in OpenCV: integers are pixel centres. The public
functions of this package count from the outer corner of the first pixel (docs/conventions.md) and
add the half.

The kernels release Python's lock, so that threads share the tracks of a frame; they don't use
numba's own threads, which may not be entered by two threads of one process at once.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from aperture.arrays import Array

# Parameters of one alignment, in the order of the columns of `warps`: position in the picture, the
# affine part less the identity, gain less one, offset.
WARP = ("x", "y", "a_xx", "a_xy", "a_yx", "a_yy", "gain", "offset")
COUNT = len(WARP)
# How an alignment ended.
ALIGNED, LEFT_PICTURE, SINGULAR = 0, 1, 2
# Pixels that the interpolation reads beyond a position.
INTERPOLATION_REACH = 3


def window_weights(reach: int) -> Array:
    """(n², ) float32 weights of the pixels of a window, n = 2 reach + 1: a Gaussian that ends at a
    fifth.

    The middle counts more than the rim, where the affine map holds least.
    """
    offsets = np.arange(-reach, reach + 1) / reach
    squared = offsets[:, None] ** 2 + offsets**2
    return np.exp(-0.8 * squared).astype(np.float32).ravel()


@njit(cache=True, nogil=True)
def _window(reach):
    """(2, m) float32: columns and rows of the window's pixels, counted from its middle."""
    side = 2 * reach + 1
    places = np.empty((2, side * side), np.float32)
    for pixel in range(side * side):
        places[0, pixel], places[1, pixel] = pixel % side - reach, pixel // side - reach
    return places


@njit(cache=True, nogil=True, inline="always")
def _cubic(t):
    """The four weights of Catmull–Rom interpolation at the fraction `t` between the middle two of
    four pixels."""
    t2 = t * t
    t3 = t2 * t
    half, one = np.float32(0.5), np.float32(1.0)
    two, three_halves, five_halves = np.float32(2.0), np.float32(1.5), np.float32(2.5)
    return (
        -half * t + t2 - half * t3,
        one - five_halves * t2 + three_halves * t3,
        half * t + two * t2 - three_halves * t3,
        -half * t2 + half * t3,
    )


@njit(cache=True, nogil=True, fastmath=True)
def sample(picture, x, y):
    """The picture's value at (x, y), by Catmull–Rom interpolation of 4 × 4 pixels; these must lie
    inside."""
    column, row = int(np.floor(x)), int(np.floor(y))
    a0, a1, a2, a3 = _cubic(np.float32(x - column))
    b0, b1, b2, b3 = _cubic(np.float32(y - row))
    total = np.float32(0.0)
    for step, weight in ((-1, b0), (0, b1), (1, b2), (2, b3)):
        line = picture[row + step]
        total += weight * (
            a0 * line[column - 1]
            + a1 * line[column]
            + a2 * line[column + 1]
            + a3 * line[column + 2]
        )
    return total


@njit(cache=True, nogil=True, fastmath=True)
def make_templates(picture, places, reach, weights, values, slopes, inverses, spreads, freedoms):
    """Fill the templates around `places` (n, 2): what `align` needs of the key frame.

    values (n, m) and slopes (n, 2, m), m = (2 reach + 1)²: the pixels and their derivatives by
    column and row; inverses (n, 8, 8): H⁻¹, the affine parameters times `reach`. spreads (n, 8, 8):
    the covariance of the parameters for residuals of variance 1; freedoms (n,): by what the
    weighted sum of squares has to be divided to get that variance.
    """
    side = 2 * reach + 1
    rim = np.empty((side + 2, side + 2), np.float32)
    slope = np.empty(8, np.float32)
    for track in range(places.shape[0]):
        for j in range(side + 2):
            for i in range(side + 2):
                x = places[track, 0] + i - reach - 1
                y = places[track, 1] + j - reach - 1
                rim[j, i] = sample(picture, x, y)
        hessian, doubly = np.zeros((8, 8)), np.zeros((8, 8))
        pixel = 0
        for j in range(side):
            for i in range(side):
                slope_x = np.float32(0.5) * (rim[j + 1, i + 2] - rim[j + 1, i])
                slope_y = np.float32(0.5) * (rim[j + 2, i + 1] - rim[j, i + 1])
                u, v = np.float32(i - reach) / reach, np.float32(j - reach) / reach
                value = rim[j + 1, i + 1]
                values[track, pixel] = value
                slopes[track, 0, pixel], slopes[track, 1, pixel] = slope_x, slope_y
                slope[0], slope[1] = slope_x, slope_y
                slope[2], slope[3] = slope_x * u, slope_x * v
                slope[4], slope[5] = slope_y * u, slope_y * v
                slope[6], slope[7] = value, np.float32(1.0)
                for a in range(8):
                    for b in range(a + 1):
                        product = weights[pixel] * slope[a] * slope[b]
                        hessian[a, b] += product
                        doubly[a, b] += weights[pixel] * product
                pixel += 1
        for a in range(8):
            for b in range(a):
                hessian[b, a], doubly[b, a] = hessian[a, b], doubly[a, b]
            # A window with no texture in some direction: invertible, and its σ says how badly
            # known.
            hessian[a, a] += 1e-6 * hessian[a, a] + 1e-9
        inverse = np.linalg.inv(hessian)
        spread = np.dot(inverse, np.dot(doubly, inverse))
        inverses[track] = inverse
        spreads[track] = spread
        freedoms[track] = weights.sum() - np.trace(np.dot(inverse, doubly))


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _along(pixels, at, a0, a1, a2, a3):
    """Four pixels of a row, from the one before `at`, by their weights."""
    one, two = np.uint32(1), np.uint32(2)
    before, behind = a0 * pixels[at - one], a3 * pixels[at + two]
    return before + a1 * pixels[at] + a2 * pixels[at + one] + behind


@njit(cache=True, nogil=True, fastmath=True)
def _misfit(picture, corner, warp, places, template, weights, weighted):
    """The weighted sum of squares of what a picture, less offset and over gain, differs from a
    template by under a warp; weighted (m,) gets the differences times their weights.

    picture: its pixels in one row, (H W,); corner: width and the index of the pixel that `warp`'s
    place is counted from. Plain unsigned indices: negative ones, which NumPy counts from the end,
    cost a third of the time.
    """
    width, base = corner
    x0, y0, fxx, fxy, fyx, fyy, inverse_gain, level = warp
    row = np.uint32(width)
    total = np.float32(0.0)
    for pixel in range(len(template)):
        u, v = places[0, pixel], places[1, pixel]
        dx, dy = x0 + fxx * u + fxy * v, y0 + fyx * u + fyy * v
        left, top = np.floor(dx), np.floor(dy)
        a0, a1, a2, a3 = _cubic(dx - left)
        b0, b1, b2, b3 = _cubic(dy - top)
        r1 = np.uint32(base + np.int32(top) * width + np.int32(left))
        value = b0 * _along(picture, r1 - row, a0, a1, a2, a3)
        value += b1 * _along(picture, r1, a0, a1, a2, a3)
        value += b2 * _along(picture, r1 + row, a0, a1, a2, a3)
        value += b3 * _along(picture, r1 + row + row, a0, a1, a2, a3)
        error = (value - level) * inverse_gain - template[pixel]
        weighted[pixel] = weights[pixel] * error
        total += weighted[pixel] * error
    return total


@njit(cache=True, nogil=True, fastmath=True)
def _gradient(weighted, slope_x, slope_y, template, places, reach, gradient):
    """gradient (8,) gets Σ of weighted differences times the derivatives by the parameters."""
    gradient[:] = 0
    for pixel in range(len(template)):
        by_x, by_y = weighted[pixel] * slope_x[pixel], weighted[pixel] * slope_y[pixel]
        u, v = places[0, pixel], places[1, pixel]
        gradient[0] += by_x
        gradient[1] += by_y
        gradient[2] += by_x * u
        gradient[3] += by_x * v
        gradient[4] += by_y * u
        gradient[5] += by_y * v
        gradient[6] += weighted[pixel] * template[pixel]
        gradient[7] += weighted[pixel]
    for affine in range(2, 6):
        gradient[affine] /= reach


@njit(cache=True, nogil=True, fastmath=True)
def align(
    picture,
    values,
    slopes,
    inverses,
    freedoms,
    reach,
    weights,
    most_steps,
    close_px,
    warps,
    noise,
    ended,
):
    """Align templates to a picture, from `warps` (n, 8), which are updated in place.

    noise (n,) gets the standard deviation of the residual in the template's values, ended (n,) how
    it ended. An alignment is finished when a step is shorter than `close_px`, or after
    `most_steps`.
    """
    height, width = picture.shape
    pixels = picture.ravel()
    places, weighted = _window(reach), np.empty(len(weights), np.float32)
    gradient = np.zeros(8, np.float32)
    for track in range(warps.shape[0]):
        x, y = warps[track, 0], warps[track, 1]
        xx, xy = 1 + warps[track, 2], warps[track, 3]
        yx, yy = warps[track, 4], 1 + warps[track, 5]
        gain, offset = 1 + warps[track, 6], warps[track, 7]
        ended[track] = ALIGNED
        squares = 0.0
        for iteration in range(most_steps):
            span = reach * max(abs(xx) + abs(xy), abs(yx) + abs(yy)) + INTERPOLATION_REACH
            inside = x > span and y > span and x < width - 1 - span and y < height - 1 - span
            if not inside:
                ended[track] = LEFT_PICTURE
                break
            # Single precision from here: twice as many numbers at a time. Counted from a pixel near
            # by, so that a position far from the picture's corner keeps its decimals.
            left, top = int(x), int(y)
            warp = (
                np.float32(x - left),
                np.float32(y - top),
                np.float32(xx),
                np.float32(xy),
                np.float32(yx),
                np.float32(yy),
                np.float32(1.0 / gain),
                np.float32(offset),
            )
            corner = np.int32(width), np.int32(top * width + left)
            squares = _misfit(pixels, corner, warp, places, values[track], weights, weighted)
            _gradient(
                weighted,
                slopes[track, 0],
                slopes[track, 1],
                values[track],
                places,
                reach,
                gradient,
            )
            step = np.dot(inverses[track], gradient.astype(np.float64))
            # The change of the template, as an affine map; its inverse goes behind the map so far.
            dxx, dxy = 1 + step[2] / reach, step[3] / reach
            dyx, dyy = step[4] / reach, 1 + step[5] / reach
            determinant = dxx * dyy - dxy * dyx
            if not (0.1 < determinant < 10.0) or gain * (1 + step[6]) < 0.05:
                ended[track] = SINGULAR
                break
            ixx, ixy = dyy / determinant, -dxy / determinant
            iyx, iyy = -dyx / determinant, dxx / determinant
            back_x = -(ixx * step[0] + ixy * step[1])
            back_y = -(iyx * step[0] + iyy * step[1])
            x += xx * back_x + xy * back_y
            y += yx * back_x + yy * back_y
            xx, xy, yx, yy = (
                xx * ixx + xy * iyx,
                xx * ixy + xy * iyy,
                yx * ixx + yy * iyx,
                yx * ixy + yy * iyy,
            )
            offset += gain * step[7]
            gain *= 1 + step[6]
            if iteration > 0 and step[0] ** 2 + step[1] ** 2 < close_px * close_px:
                break
        warps[track] = (x, y, xx - 1, xy, yx, yy - 1, gain - 1, offset)
        noise[track] = np.sqrt(squares / freedoms[track])
