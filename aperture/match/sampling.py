"""What refining reads of a picture: luminance at any position, smoothing, the noise."""

from __future__ import annotations

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.plates.colour import luminance

SEARCH_PX = 5.0  # how far from what is drawn the picture is searched


class Sampler:
    """Luminance at any position of a picture (H, W, 3), in linear light by a transfer curve;
    samples as `colour.linear_light` takes them.

    The picture may be memory-mapped: only what is looked at is read.
    """

    def __init__(self, pixels: Array, transfer: str = "srgb") -> None:
        self.pixels, self.transfer = pixels, transfer

    def at(self, points: Array) -> Array:
        """Values (…) at positions (…, 2) px, cubically interpolated; the nearest border pixel
        outside."""
        import cv2

        points = np.asarray(points, float)
        height, width = self.pixels.shape[:2]
        low = np.maximum(np.floor(points.reshape(-1, 2).min(axis=0)).astype(int) - 4, 0)
        high = np.minimum(
            np.ceil(points.reshape(-1, 2).max(axis=0)).astype(int) + 4, (width, height)
        )
        if (low >= high).any():
            raise Problem("That lies outside the picture.")
        part = luminance(np.asarray(self.pixels[low[1] : high[1], low[0] : high[0]]), self.transfer)
        # OpenCV counts from the first pixel's centre.
        local = (points - low - 0.5).astype(np.float32)
        flat = local.reshape(-1, 2)
        out = np.empty(len(flat), np.float32)
        for start in range(0, len(flat), 30000):  # remap takes pictures of less than 32768 rows
            piece = flat[start : start + 30000]
            out[start : start + 30000] = cv2.remap(
                part,
                piece[:, None, 0],
                piece[:, None, 1],
                cv2.INTER_CUBIC,
                borderMode=cv2.BORDER_REPLICATE,
            )[:, 0]
        return out.reshape(points.shape[:-1]).astype(float)


def smoothed(rows: Array, sigma: float) -> Array:
    """Each row smoothed by a Gaussian of `sigma` samples."""
    reach = int(np.ceil(3 * sigma))
    kernel = np.exp(-(np.arange(-reach, reach + 1) ** 2) / (2 * sigma**2))
    kernel /= kernel.sum()
    padded = np.pad(rows, ((0, 0), (reach, reach)), mode="edge")
    return np.stack([np.convolve(row, kernel, mode="valid") for row in padded])


def noise_of(rows: Array) -> float:
    """The noise of single samples, from second differences along the first axis, insensitive to
    edges across it (Immerkær 1996, in one direction)."""
    if len(rows) < 3:
        return 0.0
    return float(1.4826 * np.median(np.abs(rows[2:] - 2 * rows[1:-1] + rows[:-2])) / np.sqrt(6))
