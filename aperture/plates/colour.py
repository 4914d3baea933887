"""sRGB by IEC 61966-2-1:1999, clause 5.2 (the curve's constants, from memory)."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np

from aperture.arrays import Array


def encode_srgb(linear: Array) -> Array:
    """Display values 0…1 from linear light; below 0 and above 1 are clipped."""
    linear = np.clip(linear, 0, 1)
    return np.where(
        linear <= 0.0031308, linear * 12.92, 1.055 * np.maximum(linear, 1e-9) ** (1 / 2.4) - 0.055
    )


def decode_srgb(display: Array) -> Array:
    """Linear light from display values 0…1."""
    display = np.asarray(display, float)
    return np.where(display <= 0.04045, display / 12.92, ((display + 0.055) / 1.055) ** 2.4)


def decode_bt709(display: Any) -> Any:
    """Linear light from a camera's values 0…1 by ITU-R BT.709-6, 1.2 (constants from memory)."""
    display = np.asarray(display, float)
    return np.where(display < 0.081, display / 4.5, ((display + 0.099) / 1.099) ** (1 / 0.45))


def decode_gamma22(display: Any) -> Any:
    """Linear light from values 0…1 by a pure power of 2.2."""
    return np.asarray(display, float) ** 2.2


def decode_linear(display: Array) -> Array:
    """Values 0…1 that are linear light already."""
    return np.asarray(display, float)


# How values become light: key → (name on screen, function from 0…1 to 0…1).
TRANSFERS = {
    "srgb": ("sRGB", decode_srgb),
    "bt709": ("BT.709", decode_bt709),
    "gamma22": ("gamma 2.2", decode_gamma22),
    "linear": ("linear", decode_linear),
}
LUMINANCE_BT709 = np.array([0.2126, 0.7152, 0.0722], np.float32)


@cache
def _table(transfer: str, most: int) -> Array:
    """Linear light of the values 0 … most, for pictures looked at pixel by pixel."""
    return TRANSFERS[transfer][1](np.arange(most + 1) / most).astype(np.float32)


def linear_light(pixels: Array, transfer: str = "srgb") -> Array:
    """float32 linear light of uint8, uint16 or float samples of any shape.

    `transfer`: a key of TRANSFERS, the curve that the values were encoded with. Floats are meant
    from 0 to 1, and may go beyond where they are linear.
    """
    if pixels.dtype.kind == "u":
        return _table(transfer, np.iinfo(pixels.dtype).max)[pixels]
    values = np.asarray(pixels, np.float32)
    if transfer == "linear":
        return values
    return TRANSFERS[transfer][1](np.maximum(values, 0)).astype(np.float32)


def luminance(pixels: Array, transfer: str = "srgb") -> Array:
    """(H, W) float32 linear luminance of pixels (H, W, 3), as `linear_light` takes them: ITU-R
    BT.709's weights."""
    return linear_light(pixels, transfer) @ LUMINANCE_BT709
