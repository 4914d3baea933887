"""What is done to a picture on its way in: mirrored, turned upright, made smaller. Each is a step
of the gate chain, in this order."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from aperture.arrays import Array, ArrayLike

SMALLEST = 64  # px of width
_NAME = re.compile(r"(f?)([123]?)(?:w(\d{2,5}))?")


@dataclass(frozen=True)
class WayIn:
    """How a plate's pictures come from their files.

    flip : mirrored left to right, first of all.
    quarters : then turned clockwise by so many quarters, 0 … 3.
    width : then brought to so many px of width, with the height that keeps the aspect; 0: as it is.
    It never enlarges.
    """

    flip: bool = False
    quarters: int = 0
    width: int = 0

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> WayIn:
        """From what `json` kept; {} is as the files are."""
        return cls(
            bool(data.get("flip")), int(data.get("quarters", 0)) % 4, int(data.get("width", 0))
        )

    @classmethod
    def parse(cls, name: str) -> WayIn | None:
        """From its short name; None where it isn't one."""
        found = _NAME.fullmatch(name)
        return cls(bool(found[1]), int(found[2] or 0), int(found[3] or 0)) if found else None

    def json(self) -> dict[str, Any]:
        """What isn't as the files have it."""
        out = {"flip": self.flip, "quarters": self.quarters, "width": self.width}
        return {name: value for name, value in out.items() if value}

    def __bool__(self) -> bool:
        return bool(self.json())

    def __str__(self) -> str:
        """A short name, for folders and addresses: f2w960."""
        width = f"w{self.width}" if self.width else ""
        return f"{'f' if self.flip else ''}{self.quarters or ''}{width}"

    def within(self, size: tuple[int, int]) -> WayIn:
        """The same without a width that wouldn't make a file's picture of this size smaller."""
        plain = replace(self, width=0)
        return plain if self.size(*size) == plain.size(*size) else self

    def size(self, width: int, height: int) -> tuple[int, int]:
        """The size that a picture of this size comes to."""
        if self.quarters % 2:
            width, height = height, width
        if self.width and self.width < width:
            return self.width, max(1, round(height * self.width / width))
        return width, height

    def apply(self, pixels: Array) -> Array:
        """(h, w, C) of a picture (H, W, C), in its own kind of numbers."""
        import cv2

        if self.flip:
            pixels = pixels[:, ::-1]
        pixels = np.rot90(pixels, -self.quarters)
        pixels = np.ascontiguousarray(pixels)
        height, width = pixels.shape[:2]
        size = WayIn(width=self.width).size(width, height)
        if size == (width, height):
            return pixels
        if pixels.dtype == np.float16:  # which OpenCV doesn't resize
            small = cv2.resize(pixels.astype(np.float32), size, interpolation=cv2.INTER_AREA)
            return np.asarray(small.astype(np.float16))
        return np.asarray(cv2.resize(pixels, size, interpolation=cv2.INTER_AREA))

    def points(self, points: ArrayLike, size: tuple[int, int]) -> Array:
        """Where points (N, 2) px of the file's picture, which has this size, come to lie."""
        at = np.array(points, float).reshape(-1, 2)
        width, height = size
        if self.flip:
            at[:, 0] = width - at[:, 0]
        for _ in range(self.quarters):
            at = np.stack([height - at[:, 1], at[:, 0]], axis=1)
            width, height = height, width
        new_width, new_height = self.size(*size)
        scaled: Array = at * [new_width / width, new_height / height]
        return scaled

    def back(self, points: ArrayLike, size: tuple[int, int]) -> Array:
        """The other way: from points (N, 2) px as they come in to those of the file's picture,
        which has this size."""
        at = np.array(points, float).reshape(-1, 2)
        turned = WayIn(self.flip, self.quarters).size(*size)
        at = at * np.array(turned) / self.size(*size)
        width, height = turned
        for _ in range(-self.quarters % 4):
            at = np.stack([height - at[:, 1], at[:, 0]], axis=1)
            width, height = height, width
        if self.flip:
            at[:, 0] = width - at[:, 0]
        return at

    def steps(self, width: int, height: int) -> list[dict[str, Any]]:
        """The same as steps of a gate chain, which end at a picture of this size."""
        out: list[dict[str, Any]] = []
        if self.flip:
            out.append({"id": "way-flip", "do": "flip", "way": "sides"})
        if self.quarters:
            out.append({"id": "way-turn", "do": "turn", "quarters": self.quarters})
        if self.width:
            out.append({"id": "way-size", "do": "resize", "width": width, "height": height})
        return [step | {"from": "way in"} for step in out]
