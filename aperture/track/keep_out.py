"""Keep-out areas: polygons with keys over frames, in which nothing is followed."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem


@dataclass(frozen=True, eq=False)
class KeepOut:
    """An area of the picture that holds no evidence: a person, water, a reflection, burnt-in text.

    frames: the frames at which it was drawn, in order; polygons: for each the same number of
    corners, (C, 2) px. Before the first and after the last it stays as it was drawn there; between
    two, each corner goes straight.
    """

    frames: tuple[int, ...]
    polygons: tuple[Array, ...]

    def __post_init__(self) -> None:
        corners = {len(polygon) for polygon in self.polygons}
        if len(corners) != 1 or min(corners) < 3:
            raise Problem("A keep-out area needs three corners or more, as many on every frame.")
        if list(self.frames) != sorted(set(self.frames)):
            raise Problem("The frames of a keep-out area must be in order, each once.")

    def at(self, frame: int) -> Array:
        """(C, 2) px: the polygon at a frame."""
        corners = np.array(self.polygons, float)
        flat = corners.reshape(len(self.frames), -1)
        columns = [np.interp(frame, self.frames, column) for column in flat.T]
        return np.array(columns).reshape(-1, 2)

    def holds(self, frame: int, xy: Array) -> Array:
        """(N,) whether points (N, 2) px lie inside at a frame: a ray to the right crosses the rim
        oddly often."""
        corners = self.at(frame)
        inside = np.zeros(len(xy), bool)
        for (x1, y1), (x2, y2) in zip(corners, np.roll(corners, -1, axis=0)):
            between = (y1 > xy[:, 1]) != (y2 > xy[:, 1])
            if between.any():
                at = x1 + (xy[:, 1] - y1) * (x2 - x1) / (y2 - y1)
                inside ^= between & (xy[:, 0] < at)
        return inside


def mask(areas: list[KeepOut], frame: int, width: int, height: int) -> Array | None:
    """(H, W) of bool: the pixels that any of the areas covers at a frame; None where there are no
    areas."""
    if not areas:
        return None
    covered = np.zeros((height, width), np.uint8)
    for area in areas:
        corners = np.clip(area.at(frame) - 0.5, -1e4, 1e5)
        cv2.fillPoly(covered, [np.round(corners).astype(np.int32)], 1)
    return covered.astype(bool)
