"""What glass does to light: fall-off, bloom, streaks, veiling glare, dirt, scratches and coloured
fringes.

All filters take and give linear light, (H, W, 3) float32. Lengths are shares of the picture's width
or half diagonal, so that a look is the same at every size; only fringes are in px of the picture.
"""

from __future__ import annotations

import math

import cv2
import numpy as np

from aperture.arrays import Array

DIRT_SPOTS = 60
SMALL_PX = 640  # width at which soft things are laid out
GLOW_LEAST = 0.004  # shares of the width: the narrowest of the glow's parts
GLOW_PARTS = 4


def _radius(height: int, width: int) -> Array:
    """(H, W) distance from the middle over the half diagonal."""
    across = np.arange(width) + 0.5 - width / 2
    down = np.arange(height) + 0.5 - height / 2
    return np.hypot(across, down[:, None]) / (np.hypot(width, height) / 2)


def fall_off(
    height: int, width: int, tan_corner: float, cos4: bool, measured: tuple[float, ...]
) -> Array:
    """Return how much light arrives over the picture, 1 in the middle.

    Parameters
    ----------
    height, width : int
    tan_corner : float
        Tangent of half the diagonal angle of view.
    cos4 : bool
        The natural law of a thin lens: cos⁴ of the angle from the axis.
    measured : tuple of float
        k₁, k₂, k₃ of 1 + k₁ r² + k₂ r⁴ + k₃ r⁶, r of the half diagonal, as measured on an even
        wall.

    Returns
    -------
    ndarray, shape (H, W)
    """
    squared = _radius(height, width) ** 2
    out = np.ones((height, width))
    if cos4:
        out /= (1 + squared * tan_corner**2) ** 2
    power = np.ones_like(squared)
    own = np.ones_like(squared)
    for coefficient in measured:
        power = power * squared
        own += coefficient * power
    return (out * own.clip(0)).astype(np.float32)


def bright_part(linear: Array, threshold: float) -> Array:
    """What is brighter than a threshold, without a step: the excess over it."""
    bright = linear.max(axis=2, keepdims=True)
    return linear * ((bright - threshold).clip(0) / np.maximum(bright, 1e-9))


def bloom(linear: Array, amount: float, threshold: float, size: float) -> Array:
    """Return a picture with a glow around what is bright; the light is spread, not added.

    Parameters
    ----------
    linear : ndarray, shape (H, W, 3)
    amount : float
        The share of the bright part that is spread.
    threshold : float
        Linear light.
    size : float
        Of the widest part of the glow, a share of the picture's width.
    """
    source = bright_part(linear, threshold)
    spread = np.zeros_like(linear)
    widths = np.geomspace(max(size / 8, GLOW_LEAST / 4), size, GLOW_PARTS)
    for share in widths:
        spread += _blurred(source, max(0.3, share * linear.shape[1]))
    return linear + amount * (spread / GLOW_PARTS - source)


def _blurred(picture: Array, sigma: float) -> Array:
    """A Gaussian blur, of a smaller copy where it is wide: what is left of it has no finer
    detail."""
    fewer = int(sigma / 3)
    if fewer < 2:
        return cv2.GaussianBlur(picture, (0, 0), sigma)
    height, width = picture.shape[:2]
    small = (max(1, width // fewer), max(1, height // fewer))
    own = cv2.resize(picture, small, interpolation=cv2.INTER_AREA)
    own = cv2.GaussianBlur(own, (0, 0), sigma * small[0] / width)
    return cv2.resize(own, (width, height), interpolation=cv2.INTER_LINEAR)


def streaks(
    linear: Array, amount: float, threshold: float, count: int, turn_deg: float, length: float
) -> Array:
    """Return a picture with streaks through what is bright, as a wet or anamorphic front element
    makes.

    Parameters
    ----------
    linear : ndarray, shape (H, W, 3)
    amount, threshold : float
        As of `bloom`.
    count : int
        Of the rays around each point, evenly turned: 2 are one line.
    turn_deg : float
        Of the first one, anticlockwise from the right.
    length : float
        A share of the picture's width.
    """
    source = bright_part(linear, threshold)
    height, width = linear.shape[:2]
    # Soft along, and a pixel or two wide: laid out at SMALL_PX, whatever the picture's size.
    share = min(1.0, SMALL_PX / width)
    small = (max(1, round(width * share)), max(1, round(height * share)))
    own = cv2.resize(source, small, interpolation=cv2.INTER_AREA)
    reach = max(1, round(length * small[0]))
    out = np.zeros_like(own)
    for ray in range(count):
        angle = math.radians(turn_deg) + ray * math.tau / count
        out += cv2.filter2D(own, -1, _ray(reach, angle)[::-1, ::-1], borderType=cv2.BORDER_CONSTANT)
    spread = cv2.resize(out / count, (width, height), interpolation=cv2.INTER_LINEAR)
    return linear + amount * (spread - source)


def _ray(reach: int, angle: float) -> Array:
    """A kernel that falls along one ray from its middle; its sum is 1."""
    out = np.zeros((2 * reach + 1, 2 * reach + 1), np.float32)
    for step in np.linspace(0, reach, 2 * reach + 1):
        x, y = reach + step * math.cos(angle), reach - step * math.sin(angle)
        out[round(y), round(x)] = max(out[round(y), round(x)], (1 - step / (reach + 1)) ** 2)
    return out / out.sum()


def veil(linear: Array, amount: float) -> Array:
    """Light scattered inside the lens: a share of the picture's mean over all of it (ISO 9358 calls
    it veiling glare)."""
    mean = linear.mean(axis=(0, 1), dtype=float).astype(np.float32)
    return (1 - amount) * linear + amount * mean


def dirt(height: int, width: int, amount: float, seed: int) -> Array:
    """(H, W) what soft spots of dust on the front element let through; the same ones for a seed."""
    random = np.random.default_rng([seed, 1])
    wide, high = width, height
    width, height = SMALL_PX, max(1, round(SMALL_PX * high / wide))
    out = np.ones((height, width), np.float32)
    at = random.uniform(0, 1, (DIRT_SPOTS, 2))
    sizes = width * random.uniform(0.004, 0.03, DIRT_SPOTS)
    depths = amount * random.uniform(0.1, 0.6, DIRT_SPOTS)
    for (x, y), size, depth in zip(at, sizes, depths):
        spot = np.zeros((height, width), np.float32)
        cv2.circle(spot, (round(x * width), round(y * height)), max(1, round(size)), 1.0, -1)
        out *= 1 - depth * cv2.GaussianBlur(spot, (0, 0), max(0.5, size / 3))
    return cv2.resize(out, (wide, high), interpolation=cv2.INTER_LINEAR)


def scratches(height: int, width: int, amount: float, count: int, seed: int, frame: int) -> Array:
    """(H, W) light that upright scratches of film add; they wander and vanish from frame to
    frame."""
    out = np.zeros((height, width), np.float32)
    random = np.random.default_rng([seed, 2])
    homes, phases = random.uniform(0, 1, count), random.uniform(0, math.tau, count)
    for home, phase in zip(homes, phases):
        if math.sin(0.9 * frame + phase) < -0.3:
            continue
        x = home + 0.003 * math.sin(0.7 * frame + phase)
        place = round(x * width)
        cv2.line(out, (place, 0), (place, height), amount, max(1, round(width / 1500)))
    return cv2.GaussianBlur(out, (0, 0), 0.5)


def fringes(picture: Array, red_px: float, blue_px: float) -> Array:
    """Return a picture whose red and blue are larger than its green: by so many px at the corner.

    Parameters
    ----------
    picture : ndarray, shape (H, W, 3)
    red_px, blue_px : float
        Outward at the corner, px of this picture; the shift grows with the distance from the
        middle.
    """
    height, width = picture.shape[:2]
    half = math.hypot(width, height) / 2
    out = picture.copy()
    for channel, px in ((0, red_px), (2, blue_px)):
        if not px:
            continue
        scale = 1 + px / half
        # Pixel centres, as OpenCV counts them, about the picture's middle.
        middle = ((width - 1) / 2, (height - 1) / 2)
        matrix = np.array(
            [[scale, 0, middle[0] * (1 - scale)], [0, scale, middle[1] * (1 - scale)]]
        )
        out[..., channel] = cv2.warpAffine(
            np.ascontiguousarray(picture[..., channel]),
            matrix,
            (width, height),
            flags=cv2.INTER_CUBIC,
            borderMode=cv2.BORDER_REPLICATE,
        )
    return out
