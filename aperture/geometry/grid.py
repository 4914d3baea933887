"""A pixel grid and the millimetres of sensor it covers.

Every operation on a picture (crop, resize, turn, overscan) gives a new grid whose affine map is
known exactly, so that gate, pixel pitch, centre and the place of any pixel on any other grid follow
from the maps and are never stored a second time. Coordinates: see docs/conventions.md. Pixels: x
right, y down, origin at the outer corner. Millimetres: origin mid-sensor.
"""

from __future__ import annotations

from dataclasses import dataclass
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
        values = np.array(self.mm_from_px, float)
        if (
            values.shape != (2, 3)
            or not np.isfinite(values).all()
            or abs(np.linalg.det(values[:, :2])) < 1e-18
        ):
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

    @property
    def linear(self) -> Array:
        """(2, 2) mm per px."""
        return np.array(self.mm_from_px, float)[:, :2]

    @property
    def px_linear(self) -> Array:
        """(2, 2) px per mm."""
        return np.linalg.inv(self.linear)

    def to_mm(self, points: ArrayLike) -> Array:
        """Return sensor positions, shape (N, 2), millimetres, of pixel positions, shape (N, 2)."""
        affine = np.array(self.mm_from_px, float)
        return np.asarray(points, float) @ affine[:, :2].T + affine[:, 2]

    def to_px(self, points: ArrayLike) -> Array:
        """Return pixel positions, shape (N, 2), of sensor positions, shape (N, 2), millimetres."""
        affine = np.array(self.mm_from_px, float)
        return (np.asarray(points, float) - affine[:, 2]) @ self.px_linear.T

    # What follows from the map
    # --------------------------------------------------------------------------------------

    @property
    def mm_per_px(self) -> tuple[float, float]:
        """Millimetres on the sensor of one pixel to the right, and of one down."""
        across, down = self.linear.T
        return float(np.hypot(*across)), float(np.hypot(*down))

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
        affine = np.array(self.mm_from_px, float)
        linear = affine[:, :2] @ old_from_new[:, :2]
        offset = affine[:, :2] @ old_from_new[:, 2] + affine[:, 2]
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
