"""Panoramas laid out in pieces: the six faces of a cube, or the two circles of lenses back to back.

Each piece is a projection of its own that looks another way, in a cell of the picture. Positions
are in focal lengths from the picture's middle, as everywhere; a cube's face is 2 wide and high, and
a circle of lenses that see 180° has the radius π/2.

The layouts, each piece as it is seen from within, upright unless said:

- cube cross, 4 × 3: left, front, right, back in the middle row; up above the front, down below it;
- cube strip, 6 × 1: right, left, up, down, back, front; up with its lower edge, down with its upper
  edge toward the front;
- cube block, 3 × 2: left, front, right above; down, back, up below, up and down as in the strip;
- two circles, 2 × 1: equidistant, front at the left, back at the right, both upright; each circle
  reaches its cell's borders, and shows as many degrees as the name says: beyond 180° both see the
  rim.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.geometry.rotation import rotation_from_angles
from aperture.lens.projections.radial import Equidistant
from aperture.lens.projections.rectilinear import Rectilinear

# How a camera is turned to look that way: pan and tilt, degrees.
WAYS = {
    "front": (0.0, 0.0),
    "right": (-90.0, 0.0),
    "back": (180.0, 0.0),
    "left": (90.0, 0.0),
    "up": (0.0, 90.0),
    "down": (0.0, -90.0),
}
SAME = 1e-6


@dataclass(frozen=True)
class Pieces:
    """A `Projection` of several.

    cells : the way that each piece looks, and the column and row of its cell; columns, rows: of the
    whole.
    half : half of a cell's side, focal lengths.
    """

    name: str
    cells: tuple[tuple[str, int, int], ...]
    columns: int
    rows: int
    half: float = 1.0
    circles: bool = False
    matched: bool = True
    straight: bool = False
    parameters: tuple[str, ...] = ()
    limit: float = math.pi
    wraps: bool = False
    around: bool = True
    _own: Any = field(init=False, repr=False, compare=False)
    _turns: Array = field(init=False, repr=False, compare=False)
    _middles: Array = field(init=False, repr=False, compare=False)
    _of_cell: Array = field(init=False, repr=False, compare=False)
    _joined: Array = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        angles = [np.radians(WAYS[way]) for way, _, _ in self.cells]
        turns = [rotation_from_angles(pan, tilt, 0.0) for pan, tilt in angles]
        at = np.array([[column, row] for _, column, row in self.cells], float)
        middles = (2 * at + 1 - [self.columns, self.rows]) * self.half
        of_cell = np.full((self.rows, self.columns), -1)
        for index, (_, column, row) in enumerate(self.cells):
            of_cell[row, column] = index
        own: Any = Equidistant("equidistant") if self.circles else Rectilinear()
        for name, value in (
            ("_own", own),
            ("_turns", np.array(turns)),
            ("_middles", middles),
            ("_of_cell", of_cell),
        ):
            object.__setattr__(self, name, value)
        object.__setattr__(self, "_joined", self._find_joined())

    @property
    def size(self) -> tuple[float, float]:
        """Of the whole picture, focal lengths."""
        return 2 * self.half * self.columns, 2 * self.half * self.rows

    def told(self) -> dict[str, Any]:
        """As JSON, for whoever draws it: how each piece is turned (row by row), where the middle of
        its cell is, and half of it."""
        pieces = [
            {"turn": turn.ravel().tolist(), "middle": middle.tolist()}
            for turn, middle in zip(self._turns, self._middles)
        ]
        return {
            "projection": "pieces",
            "pieces": pieces,
            "half": self.half,
            "circles": self.circles,
        }

    def _find_joined(self) -> Array:
        """(I, I) whether the picture goes on from one piece to the other across their common
        border."""
        count = len(self.cells)
        out: Array = np.zeros((count, count), bool)
        np.fill_diagonal(out, True)
        for one in range(count):
            for other in range(count):
                step = self._middles[other] - self._middles[one]
                if abs(np.abs(step).sum() - 2 * self.half) > SAME or self.circles:
                    continue
                edge = self._middles[one] + step / 2 + 0.3 * step[::-1] / 2
                rays = [self._ray_of(np.array([index]), edge[None])[0] for index in (one, other)]
                same = float(np.linalg.norm(np.cross(*rays))) < SAME and rays[0] @ rays[1] > 0
                out[one, other] = bool(same)
        return out

    def together(self, q: Array) -> Array:
        """(N − 1,) whether the picture goes on from each position (N, 2) to the next."""
        which = self.which(q)
        here, there = which[:-1], which[1:]
        return np.where((here >= 0) & (there >= 0), self._joined[here, there], False)

    def which(self, q: Array) -> Array:
        """(N,) the piece in whose cell positions (N, 2) lie; −1 where there is none."""
        q = np.asarray(q, float)
        with np.errstate(invalid="ignore"):
            at = q / (2 * self.half) + np.array([self.columns, self.rows]) / 2
            fine = np.asarray(np.isfinite(at).all(axis=1)) & (at >= -SAME).all(axis=1)
            fine &= (at <= np.array([self.columns, self.rows]) + SAME).all(axis=1)
        cell = np.where(fine[:, None], at, 0).astype(int)
        column = np.clip(cell[:, 0], 0, self.columns - 1)
        row = np.clip(cell[:, 1], 0, self.rows - 1)
        return np.where(fine, self._of_cell[row, column], -1)

    def _facing(self, points: Array) -> Array:
        """(N,) the piece that looks most nearly toward points (N, 3)."""
        return (-self._turns[:, :, 2] @ points.T).argmax(axis=0)

    def project(self, points: Array, derivatives: bool = False) -> Any:
        """As `Projection` has it."""
        points = np.asarray(points, float)
        which = self._facing(points)
        turns = self._turns[which]
        own = np.einsum("nji,nj->ni", turns, points)
        if not derivatives:
            return self._own.project(own) + self._middles[which]
        q, jacobian = self._own.project(own, derivatives=True)
        return q + self._middles[which], jacobian @ turns.transpose(0, 2, 1)

    def _ray_of(self, which: Array, q: Array) -> Array:
        return np.einsum("nij,nj->ni", self._turns[which], self._own.rays(q - self._middles[which]))

    def rays(self, q: Array) -> Array:
        """As `Projection` has it."""
        which = self.which(q)
        out = self._ray_of(np.maximum(which, 0), np.asarray(q, float))
        out[which < 0] = np.nan
        if self.circles:
            away = np.linalg.norm(q - self._middles[np.maximum(which, 0)], axis=1)
            out[away > self.half + SAME] = np.nan
        return out

    def ray_jacobian(self, q: Array) -> Array:
        """As `Projection` has it."""
        which = np.maximum(self.which(q), 0)
        return self._turns[which] @ self._own.ray_jacobian(q - self._middles[which])

    def ray_jacobian_along(self, q: Array, dq: Array) -> Array:
        """As `Projection` has it."""
        which = np.maximum(self.which(q), 0)
        return self._turns[which] @ self._own.ray_jacobian_along(q - self._middles[which], dq)


CROSS = Pieces(
    "cube cross",
    (
        ("left", 0, 1),
        ("front", 1, 1),
        ("right", 2, 1),
        ("back", 3, 1),
        ("up", 1, 0),
        ("down", 1, 2),
    ),
    4,
    3,
)
STRIP = Pieces(
    "cube strip",
    (
        ("right", 0, 0),
        ("left", 1, 0),
        ("up", 2, 0),
        ("down", 3, 0),
        ("back", 4, 0),
        ("front", 5, 0),
    ),
    6,
    1,
)
BLOCK = Pieces(
    "cube block",
    (
        ("left", 0, 0),
        ("front", 1, 0),
        ("right", 2, 0),
        ("down", 0, 1),
        ("back", 1, 1),
        ("up", 2, 1),
    ),
    3,
    2,
)
CIRCLES = tuple(
    Pieces(
        f"two circles of {degrees}°",
        (("front", 0, 0), ("back", 1, 0)),
        2,
        1,
        math.radians(degrees) / 2,
        True,
    )
    for degrees in (180, 190, 200, 210, 220)
)
LAYOUTS = (CROSS, STRIP, BLOCK, *CIRCLES)
