"""What a move does, per frame: speed, acceleration, turn rates, height, and what it comes near
to."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from fractions import Fraction
from typing import Any

import numpy as np
from numba import njit
from scipy.spatial.transform import Rotation

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.moves.move import Move

CAMERA_M = 0.15  # half a camera: what comes nearer than that to its lens touches it
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
        try:
            return cls(**{name: float(data[name]) for name in NAMES if name in data})
        except (TypeError, ValueError) as error:
            raise error if isinstance(error, Problem) else Problem("A limit is a number.") from None


@dataclass(frozen=True, eq=False)
class Readings:
    """Per frame (F,): metres, seconds, degrees; `near` and `nearest`: the distance to the nearest
    of the things that were given, infinite without any and 0 inside of it, and its index.
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
        far, within = distances(move.positions, triangles)
        far[within] = 0.0
        closer = far < near
        near[closer], nearest[closer] = far[closer], index
    return Readings(speed, acceleration, rates, move.positions[:, 1], near, nearest)


def _turn_rates(rotations: Array) -> Array:
    """(F, 3) degrees per frame about the camera's own axes: pan, tilt, roll."""
    steps = Rotation.from_matrix(np.transpose(rotations[:-1], (0, 2, 1)) @ rotations[1:])
    each = np.degrees(steps.as_rotvec())[:, [1, 0, 2]]
    return np.concatenate([each[:1], (each[1:] + each[:-1]) / 2, each[-1:]])


def distances(points: Array, triangles: Array) -> tuple[Array, Array]:
    """Return how far points are from a surface, and whether they are inside of it.

    Parameters
    ----------
    points : ndarray, shape (F, 3)
    triangles : ndarray, shape (T, 3, 3)

    Returns
    -------
    far : ndarray, shape (F,)
        To the nearest point of the nearest triangle: within it where the point's foot on its plane
        lies there, or else on an edge. Infinite without triangles.
    inside : ndarray of bool, shape (F,)
        By the solid angle that all triangles fill (van Oosterom and Strackee 1983, equation 8, from
        memory), which is that of a whole sphere inside of a closed surface and nothing outside; one
        that isn't closed seldom fills half of it.
    """
    return _measured(np.ascontiguousarray(points, float), np.ascontiguousarray(triangles, float))


@njit(cache=True)
def _dot(a, b):
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@njit(cache=True)
def _edge(away, along):
    """Squared distance to the edge that begins `away` from it and goes `along`."""
    length = _dot(along, along)
    share = 0.0 if length <= 0 else min(1.0, max(0.0, _dot(away, along) / length))
    out = 0.0
    for axis in range(3):
        out += (away[axis] - share * along[axis]) ** 2
    return out


@njit(cache=True)
def _measured(points, triangles):
    far, within = np.full(len(points), np.inf), np.zeros(len(points), np.bool_)
    first, second, third, normal = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    a, b, c = np.empty(3), np.empty(3), np.empty(3)
    for i in range(len(points)):
        best, angle = np.inf, 0.0
        for t in range(len(triangles)):
            for axis in range(3):
                a[axis] = points[i, axis] - triangles[t, 0, axis]
                b[axis] = points[i, axis] - triangles[t, 1, axis]
                c[axis] = points[i, axis] - triangles[t, 2, axis]
                first[axis] = triangles[t, 1, axis] - triangles[t, 0, axis]
                second[axis] = triangles[t, 2, axis] - triangles[t, 0, axis]
                third[axis] = triangles[t, 2, axis] - triangles[t, 1, axis]
            normal[0] = first[1] * second[2] - first[2] * second[1]
            normal[1] = first[2] * second[0] - first[0] * second[2]
            normal[2] = first[0] * second[1] - first[1] * second[0]
            square, over = _dot(normal, normal), _dot(a, normal)
            # Barycentric coordinates of the foot on the plane.
            ff, ss, fs = _dot(first, first), _dot(second, second), _dot(first, second)
            af, as_ = _dot(a, first), _dot(a, second)
            u, v = (ss * af - fs * as_), (ff * as_ - fs * af)
            if square > 0 and u >= 0 and v >= 0 and u + v <= square:
                best = min(best, over * over / square)
            else:
                best = min(best, _edge(a, first), _edge(a, second), _edge(b, third))
            la, lb, lc = np.sqrt(_dot(a, a)), np.sqrt(_dot(b, b)), np.sqrt(_dot(c, c))
            under = la * lb * lc + _dot(a, b) * lc + _dot(a, c) * lb + _dot(b, c) * la
            angle += 2 * np.arctan2(over, under)
        far[i] = np.sqrt(best)
        within[i] = abs(angle) > 2 * np.pi
    return far, within
