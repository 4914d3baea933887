"""A pixel grid and the millimetres of sensor it covers.

Every operation on a picture (crop, resize, turn, overscan) gives a new grid whose affine map is
known exactly, so that gate, pixel pitch, centre and the place of any pixel on any other grid follow
from the maps and are never stored a second time. Coordinates: see docs/conventions.md. Pixels: x
right, y down, origin at the outer corner. Millimetres: origin mid-sensor.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from aperture.arrays import Array, ArrayLike
from aperture.errors import Problem


@dataclass(frozen=True)
class Grid:
    """A grid of pixels and the millimetres of sensor it covers.

    Parameters
    ----------
    width, height : int
        Pixels.
    mm_from_px : tuple of two tuples of three float
        The affine map, as row-major tuples so that a grid is hashable. Its columns are the
        millimetres per pixel to the right, per pixel down, and the sensor position of the pixel
        corner (0, 0).

    Raises
    ------
    Problem
        If the grid has no pixel or the gate has no area.

    Examples
    --------
    >>> grid = Grid.from_gate(4096, 2160, 24.0, 12.65625)
    >>> grid.window(128, 0, 3840, 2160).gate_mm
    (22.5, 12.65625)
    """

    width: int
    height: int
    mm_from_px: tuple[tuple[float, ...], ...]

    def __post_init__(self) -> None:
        if self.width < 1 or self.height < 1:
            raise Problem("A picture needs at least one pixel each way.")
        if [len(row) for row in self.mm_from_px] != [3, 3]:
            raise Problem("A map from pixels to millimetres has two rows of three numbers.")
        (a, b, x), (c, d, y) = self.mm_from_px
        if not all(map(math.isfinite, (a, b, x, c, d, y))) or abs(a * d - b * c) < 1e-18:
            raise Problem("The gate must have a width and a height above zero.")

    @classmethod
    def from_gate(cls, width: int, height: int, width_mm: float, height_mm: float) -> Grid:
        """Return the grid of `width` × `height` pixels that cover a gate centred on the sensor.

        Parameters
        ----------
        width, height : int
            Pixels.
        width_mm, height_mm : float
            The gate, millimetres.

        Raises
        ------
        Problem
            If one of them isn't above zero.
        """
        if not (
            np.isfinite(width_mm) and np.isfinite(height_mm) and width_mm > 0 and height_mm > 0
        ):
            raise Problem("The gate must have a width and a height above zero.")
        if width < 1 or height < 1:
            raise Problem("A picture needs at least one pixel each way.")
        return cls(
            int(width),
            int(height),
            ((width_mm / width, 0.0, -width_mm / 2), (0.0, height_mm / height, -height_mm / 2)),
        )

    # Maps
    # ----------------------------------------------------------------------------------------------

    @cached_property
    def linear(self) -> Array:
        """(2, 2) mm per px."""
        (a, b, _), (c, d, _) = self.mm_from_px
        return _kept([[a, b], [c, d]])

    @cached_property
    def px_linear(self) -> Array:
        """(2, 2) px per mm."""
        return _kept(np.linalg.inv(self.linear))

    @cached_property
    def corner_mm(self) -> Array:
        """(2,) where the pixel corner (0, 0) lies on the sensor."""
        return _kept([self.mm_from_px[0][2], self.mm_from_px[1][2]])

    def to_mm(self, points: ArrayLike) -> Array:
        """Return sensor positions, shape (N, 2), millimetres, of pixel positions, shape (N, 2)."""
        return np.asarray(points, float) @ self.linear.T + self.corner_mm

    def to_px(self, points: ArrayLike) -> Array:
        """Return pixel positions, shape (N, 2), of sensor positions, shape (N, 2), millimetres."""
        return (np.asarray(points, float) - self.corner_mm) @ self.px_linear.T

    # What follows from the map
    # --------------------------------------------------------------------------------------

    @property
    def mm_per_px(self) -> tuple[float, float]:
        """Millimetres on the sensor of one pixel to the right, and of one down."""
        (a, b, _), (c, d, _) = self.mm_from_px
        return math.hypot(a, c), math.hypot(b, d)

    @property
    def gate_mm(self) -> tuple[float, float]:
        """Width and height of the gate in mm, along the picture's rows and columns."""
        across, down = self.mm_per_px
        return across * self.width, down * self.height

    @property
    def centre_mm(self) -> tuple[float, float]:
        """Where the middle of the picture lies on the sensor, in mm."""
        x, y = self.to_mm([[self.width / 2, self.height / 2]])[0]
        return float(x), float(y)

    def shown_gate_mm(self, squeeze: float = 1.0) -> tuple[float, float]:
        """Width and height of the gate with the squeeze undone, mm. The squeeze acts along the
        sensor's width, however the picture is turned."""
        across, down = np.hypot(*(np.diag([squeeze, 1.0]) @ self.linear))
        return float(across) * self.width, float(down) * self.height

    def pixel_aspect(self, squeeze: float = 1.0) -> float:
        """Width over height of one pixel as it should be shown, once the squeeze is undone."""
        width, height = self.shown_gate_mm(squeeze)
        return width / self.width / (height / self.height)

    # Operations
    # ----------------------------------------------------------------------------------------------

    def _remapped(self, width: int, height: int, old_from_new: Any) -> Grid:
        old_from_new = np.asarray(old_from_new, float)
        linear = self.linear @ old_from_new[:, :2]
        offset = self.linear @ old_from_new[:, 2] + self.corner_mm
        return Grid(
            int(width),
            int(height),
            tuple((float(a), float(b), float(c)) for (a, b), c in zip(linear, offset)),
        )

    def window(self, left: float, top: float, width: int, height: int) -> Grid:
        """Crop, or pad where it reaches outside: the new picture's corner lies at (left, top) px of
        this one."""
        return self._remapped(width, height, [[1, 0, left], [0, 1, top]])

    def resize(self, width: int, height: int) -> Grid:
        """The same gate in another number of pixels."""
        return self._remapped(
            width, height, [[self.width / width, 0, 0], [0, self.height / height, 0]]
        )

    def overscan(self, left: int, right: int, top: int, bottom: int) -> Grid:
        """Extra pixels and their gate outside; focal length, pitch and principal point stay."""
        return self.window(-left, -top, self.width + left + right, self.height + top + bottom)

    def turn(self, quarters: int) -> Grid:
        """The picture turned by `quarters` × 90° clockwise."""
        w, h = self.width, self.height
        return {
            0: lambda: self,
            1: lambda: self._remapped(h, w, [[0, 1, 0], [-1, 0, h]]),
            2: lambda: self._remapped(w, h, [[-1, 0, w], [0, -1, h]]),
            3: lambda: self._remapped(h, w, [[0, -1, w], [1, 0, 0]]),
        }[quarters % 4]()

    def moved(self, right: float, down: float, turn: float = 0.0, scale: float = 1.0) -> Grid:
        """The picture of the same size, its content scaled and turned clockwise (radians) about the
        middle, then moved (px)."""
        middle = np.array([self.width / 2, self.height / 2])
        back = np.array([[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]]) / scale
        offset = middle - back @ (middle + [right, down])
        return self._remapped(self.width, self.height, np.column_stack([back, offset]))

    def flip(self) -> Grid:
        """The picture mirrored left to right."""
        return self._remapped(self.width, self.height, [[-1, 0, self.width], [0, 1, 0]])

    def desqueeze(self, squeeze: float) -> Grid:
        """The width in pixels times the squeeze, so that pixels become square; the sensor's
        millimetres stay."""
        return self.resize(round(self.width * squeeze), self.height)


def _kept(values: ArrayLike) -> Array:
    """An array that a grid keeps, and that nobody may change."""
    out = np.array(values, float)
    out.flags.writeable = False
    return out
