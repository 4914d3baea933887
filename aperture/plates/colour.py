"""sRGB by IEC 61966-2-1:1999, clause 5.2 (the curve's constants, from memory)."""

import numpy as np


def encode_srgb(linear):
    """Display values 0…1 from linear light; below 0 and above 1 are clipped."""
    linear = np.clip(linear, 0, 1)
    return np.where(linear <= 0.0031308, linear * 12.92, 1.055 * np.maximum(linear, 1e-9) ** (1 / 2.4) - 0.055)


def decode_srgb(display):
    """Linear light from display values 0…1."""
    display = np.asarray(display, float)
    return np.where(display <= 0.04045, display / 12.92, ((display + 0.055) / 1.055) ** 2.4)


# Linear light of the 256 display values, for pictures looked at pixel by pixel.
_LINEAR = decode_srgb(np.arange(256) / 255).astype(np.float32)


def luminance(pixels) -> np.ndarray:
    """(H, W) float32 linear luminance of uint8 sRGB pixels (H, W, 3): ITU-R BT.709's weights."""
    return _LINEAR[pixels] @ np.array([0.2126, 0.7152, 0.0722], np.float32)
