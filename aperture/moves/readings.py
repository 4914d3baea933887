"""What a move does, per frame: speed, acceleration, turn rates, height, and what it comes near to."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from fractions import Fraction
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.moves.move import Move

CAMERA_M = 0.15  # half a camera: what comes nearer than that to its lens touches it
AT_ONCE = 2_000_000  # pairs of places and triangles
NAMES = {
    "speed": ("Speed", "m/s"),
    "acceleration": ("Acceleration", "m/s²"),
    "pan": ("Pan rate", "°/s"),
    "tilt": ("Tilt rate", "°/s"),
    "roll": ("Roll rate", "°/s"),
    "low": ("Height, least", "m"),
    "high": ("Height, most", "m"),
}


@dataclass(frozen=True)
class Limits:
    """What a dolly and a head can do. The usual ones: common practice, no source."""

    speed: float = 3.0
    acceleration: float = 2.5
    pan: float = 90.0
    tilt: float = 60.0
    roll: float = 60.0
    low: float = 0.1
    high: float = 6.0

    def __post_init__(self) -> None:
        if not all(np.isfinite(value) for value in asdict(self).values()):
            raise Problem("A limit is a number.")
        if min(self.speed, self.acceleration, self.pan, self.tilt, self.roll) <= 0:
            raise Problem("A limit of a speed is above zero.")
        if not self.low < self.high:
            raise Problem("The least height is below the most.", "low")

    def to_json(self) -> dict[str, float]:
        """As plain values."""
        return asdict(self)

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Limits:
        """The way back; what is missing is as usual."""
        known = {name: float(data[name]) for name in NAMES if name in data}
        return cls(**known)


@dataclass(frozen=True, eq=False)
class Readings:
    """Per frame (F,): metres, seconds, degrees; `near` and `nearest`: the distance to the nearest of
    the things that were given, infinite without any and 0 inside of it, and its index.
    """

    speed: Array
    acceleration: Array
    rates: Array
    height: Array
    near: Array
    nearest: Array

    def exceeded(self, limits: Limits) -> dict[str, Array]:
        """(F,) where each limit is exceeded, by the limits' names."""
        rates = np.abs(self.rates)
        return {
            "speed": self.speed > limits.speed,
            "acceleration": self.acceleration > limits.acceleration,
            "pan": rates[:, 0] > limits.pan,
            "tilt": rates[:, 1] > limits.tilt,
            "roll": rates[:, 2] > limits.roll,
            "low": self.height < limits.low,
            "high": self.height > limits.high,
        }


def readings(move: Move, rate: Fraction, things: Sequence[Array] = ()) -> Readings:
    """Return what a move does.

    Parameters
    ----------
    move : Move
    rate : Fraction
        Frames per second.
    things : sequence of ndarray, shape (T, 3, 3)
        Triangles of each of the things that the camera may come near to, metres.
    """
    fps, count = float(rate), len(move.frames)
    speed, acceleration, rates = np.zeros(count), np.zeros(count), np.zeros((count, 3))
    if count > 1:
        velocity = np.gradient(move.positions, axis=0) * fps
        speed = np.linalg.norm(velocity, axis=1)
        acceleration = np.linalg.norm(np.gradient(velocity, axis=0), axis=1) * fps
        rates = _turn_rates(move.rotations) * fps
    near, nearest = np.full(count, np.inf), np.full(count, -1)
    for index, triangles in enumerate(things):
        far = distances(move.positions, triangles)
        far[inside(move.positions, triangles)] = 0.0
        closer = far < near
        near[closer], nearest[closer] = far[closer], index
    return Readings(speed, acceleration, rates, move.positions[:, 1], near, nearest)


def _turn_rates(rotations: Array) -> Array:
    """(F, 3) degrees per frame about the camera's own axes: pan, tilt, roll."""
    steps = Rotation.from_matrix(np.transpose(rotations[:-1], (0, 2, 1)) @ rotations[1:])
    each = np.degrees(steps.as_rotvec())[:, [1, 0, 2]]
    return np.concatenate([each[:1], (each[1:] + each[:-1]) / 2, each[-1:]])


def inside(points: Array, triangles: Array) -> Array:
    """(F,) whether points (F, 3) are inside of a closed surface of triangles (T, 3, 3).

    By the solid angle that all triangles fill (van Oosterom and Strackee 1983, equation 8, from
    memory), which is that of a whole sphere inside and nothing outside; a surface that isn't closed
    seldom fills half of it.
    """
    out = np.zeros(len(points), bool)
    rows = max(1, AT_ONCE // max(len(triangles), 1))
    for start in range(0, len(points), rows):
        own = slice(start, start + rows)
        a, b, c = (triangles[:, index] - points[own, None] for index in range(3))
        la, lb, lc = (np.linalg.norm(side, axis=2) for side in (a, b, c))
        over = (a * np.cross(b, c)).sum(axis=2)
        under = la * lb * lc + (a * b).sum(axis=2) * lc
        under += (a * c).sum(axis=2) * lb + (b * c).sum(axis=2) * la
        out[own] = np.abs(2 * np.arctan2(over, under).sum(axis=1)) > 2 * np.pi
    return out


def distances(points: Array, triangles: Array) -> Array:
    """(F,) the distance of each point (F, 3) to the nearest of triangles (T, 3, 3), metres.

    By the nearest point of a triangle: its inside where the point is above it, or else the nearest
    of its edges.
    """
    out = np.full(len(points), np.inf)
    if not len(triangles):
        return out
    rows = max(1, AT_ONCE // len(triangles))
    for start in range(0, len(points), rows):
        own = slice(start, start + rows)
        out[own] = _distances(points[own], triangles)
    return out


def _distances(points: Array, triangles: Array) -> Array:
    corner = triangles[:, 0]
    first, second = triangles[:, 1] - corner, triangles[:, 2] - corner
    normal = np.cross(first, second)
    square = np.maximum((normal * normal).sum(axis=1), 1e-300)
    away = points[:, None] - corner
    # Barycentric coordinates of the foot on the triangle's plane.
    u = (np.cross(away, second) * normal).sum(axis=2) / square
    v = (np.cross(first, away) * normal).sum(axis=2) / square
    above = np.abs((away * normal).sum(axis=2)) / np.sqrt(square)
    inside = (u >= 0) & (v >= 0) & (u + v <= 1)
    best = np.where(inside, above, np.inf)
    for a, b in ((0, 1), (1, 2), (2, 0)):
        start, along = triangles[:, a], triangles[:, b] - triangles[:, a]
        length = np.maximum((along * along).sum(axis=1), 1e-300)
        off = points[:, None] - start
        share = np.clip((off * along).sum(axis=2) / length, 0, 1)
        best = np.minimum(best, np.linalg.norm(off - share[..., None] * along, axis=2))
    return best.min(axis=1)
