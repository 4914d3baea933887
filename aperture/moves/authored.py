"""A move that is drawn: keys per channel, a route with a speed of its own, a point that is looked
at.

The position's three channels are a *route*: a curve in space. As long as nothing else is said the
keys' frames are also its timing. With a *speed* the route keeps its shape, and how far along it the
camera is follows from metres per second, over time or over the distance.

The direction is that of the keys; where a point is looked at, it is turned towards that by a weight
that is a channel too. A camera that follows at a distance is brought, on the line from the point,
to that distance.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.geometry.rotation import angles_from_rotation, rotations_from_angles
from aperture.moves.curves import Curve, Key, along
from aperture.moves.hierarchy import look_at
from aperture.moves.move import MOST_FRAMES, Move

POSITION = ("x", "y", "z")
ANGLES = ("pan", "tilt", "roll")
# Channel: unit, and what it is where there is no key.
CHANNELS: dict[str, tuple[str, float]] = {
    "x": ("m", 0.0),
    "y": ("m", 1.6),
    "z": ("m", 5.0),
    "pan": ("°", 0.0),
    "tilt": ("°", 0.0),
    "roll": ("°", 0.0),
    "focal": ("mm", 35.0),
    "focus": ("m", 5.0),
    "stop": ("", 4.0),
    "look": ("", 1.0),
    "distance": ("m", 3.0),
    "speed": ("m/s", 1.0),
}
BY = ("keys", "time", "distance")
PER_FRAME = 24  # samples of the route between two frames, for its length


@dataclass(frozen=True)
class Authored:
    """Keys of a move.

    Parameters
    ----------
    curves : mapping of str to Curve
        By the channels' names; a channel without keys has its usual value.
    first, last : int
        Frames.
    by : {"keys", "time", "distance"}
        What the position's timing follows: the keys' own frames, or the speed over time or
        distance.
    looks_at : tuple of float, optional
        A point of the set, metres, that the camera is turned towards, by the channel "look".
    follows : bool
        Whether the camera keeps the channel "distance" from that point.
    gate_mm : tuple of float
        Width and height, to which the focal length belongs.
    """

    curves: Mapping[str, Curve]
    first: int
    last: int
    by: str = "keys"
    looks_at: tuple[float, float, float] | None = None
    follows: bool = False
    gate_mm: tuple[float, float] = (36.0, 20.25)

    def __post_init__(self) -> None:
        unknown = set(self.curves) - set(CHANNELS)
        if unknown:
            raise Problem(f"There is no channel “{min(unknown)}”.")
        if self.by not in BY:
            raise Problem(f"“{self.by}” is not one of {', '.join(BY)}.", "by")
        if not (0 <= self.last - self.first < MOST_FRAMES):
            raise Problem(f"A move has 1 to {MOST_FRAMES:,} frames.")
        if self.looks_at is not None and not np.isfinite(self.looks_at).all():
            raise Problem("The point that is looked at must be finite.", "looks_at")

    def curve(self, channel: str) -> Curve:
        """Its keys, or one at the first frame with the channel's usual value."""
        if channel in self.curves:
            return self.curves[channel]
        return Curve((Key(self.first, CHANNELS[channel][1]),))

    @property
    def frames(self) -> Array:
        """(F,) all of its frames."""
        return np.arange(self.first, self.last + 1)

    def route(self, at: Array) -> Array:
        """(T, 3) metres of the route at frames of its keys."""
        return np.stack([self.curve(axis).at(at) for axis in POSITION], axis=1)

    def to_json(self) -> dict[str, Any]:
        """As plain values."""
        return {
            "curves": {
                name: [key.to_json() for key in curve.keys] for name, curve in self.curves.items()
            },
            "first": self.first,
            "last": self.last,
            "by": self.by,
            "looks_at": list(self.looks_at) if self.looks_at else None,
            "follows": self.follows,
            "gate_mm": list(self.gate_mm),
        }

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Authored:
        """The way back. Raises Problem where it isn't one."""
        try:
            curves = {
                str(name): Curve.of([Key.from_json(key) for key in keys])
                for name, keys in data["curves"].items()
                if keys
            }
            looks_at = data.get("looks_at")
            wide, high = (float(mm) for mm in data.get("gate_mm", (36.0, 20.25)))
            return cls(
                curves,
                int(data["first"]),
                int(data["last"]),
                str(data.get("by", "keys")),
                None if looks_at is None else _three(looks_at),
                bool(data.get("follows", False)),
                (wide, high),
            )
        except Problem:
            raise
        except (KeyError, TypeError, ValueError, AttributeError, OverflowError):
            raise Problem("These aren’t the keys of a move.") from None

    def shifted(self, frames: int) -> Authored:
        """On other frames."""
        curves = {
            name: Curve(tuple(replace(key, frame=key.frame + frames) for key in curve.keys))
            for name, curve in self.curves.items()
            if name != "speed"
        }
        curves |= {name: self.curves[name] for name in ("speed",) if name in self.curves}
        return replace(self, curves=curves, first=self.first + frames, last=self.last + frames)


def _three(values: Sequence[Any]) -> tuple[float, float, float]:
    x, y, z = (float(value) for value in values)
    return x, y, z


def keyed_move(authored: Authored, rate: Fraction) -> Move:
    """Return the move that the keys make, a camera per frame.

    Parameters
    ----------
    authored : Authored
    rate : Fraction
        Frames per second.

    Raises
    ------
    Problem
        If the camera comes to the point that it looks at, or a focal length to nothing.
    """
    frames = authored.frames
    positions = _positions(authored, rate)
    angles = np.radians(np.stack([authored.curve(name).at(frames) for name in ANGLES], axis=1))
    rotations = rotations_from_angles(angles)
    if authored.looks_at is not None:
        positions, rotations = _looking(authored, frames, positions, rotations, angles[:, 2])
    focal = authored.curve("focal").at(frames)
    if not (focal > 0.1).all():
        raise Problem("The focal length is above 0.1 mm on every frame.", "focal")
    half = np.array(authored.gate_mm) / 2
    return Move(frames, rotations, positions, half / focal[:, None], focal, np.zeros(2))


def _positions(authored: Authored, rate: Fraction) -> Array:
    frames = authored.frames
    if authored.by == "keys":
        return authored.route(frames)
    fine = _fine(authored)
    lengths = route_lengths(authored.route(fine))
    seconds = (frames - authored.first) / float(rate)
    gone = along(np.array([0.0, lengths[-1]]), seconds, authored.curve("speed"), authored.by)
    # Where the route stands still, its length tells no frame: the first of them will do.
    grows = np.concatenate([[True], np.diff(lengths) > 1e-12])
    return authored.route(np.interp(gone, lengths[grows], fine[grows]))


def _fine(authored: Authored) -> Array:
    """Moments along the keys of the position, dense, for measuring the route."""
    keys = np.concatenate([authored.curve(axis).frames for axis in POSITION])
    low, high = float(keys.min()), float(keys.max())
    return np.linspace(low, high, max(2, min(200_000, round((high - low) * PER_FRAME) + 1)))


def route_lengths(places: Array) -> Array:
    """(T,) metres along places (T, 3) from the first."""
    return np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(places, axis=0), axis=1))])


def _looking(
    authored: Authored, frames: Array, positions: Array, rotations: Array, roll: Array
) -> tuple[Array, Array]:
    target = np.array(authored.looks_at, float)
    if authored.follows:
        away = positions - target
        far = np.linalg.norm(away, axis=1)
        if not (far > 1e-9).all():
            raise Problem("The camera is where the point is that it follows.")
        wanted = authored.curve("distance").at(frames)
        positions = target + away / far[:, None] * np.maximum(wanted, 1e-3)[:, None]
    weight = np.clip(authored.curve("look").at(frames), 0, 1)
    if not weight.any():
        return positions, rotations
    towards = look_at(positions, np.tile(target, (len(frames), 1)), roll)
    between = Rotation.from_matrix(np.transpose(rotations, (0, 2, 1)) @ towards).as_rotvec()
    part = Rotation.from_rotvec(between * weight[:, None]).as_matrix()
    return positions, rotations @ part


def keys_from(move: Move, frames: Sequence[int], kind: str = "smooth") -> dict[str, Curve]:
    """Return curves with keys on some frames of a move, for its position, direction and lens.

    Parameters
    ----------
    move : Move
    frames : sequence of int
        Of the move, in order.
    kind : str
        Of the keys.
    """
    rows = np.searchsorted(move.frames, frames)
    angles = np.array(
        [angles_from_rotation(move.rotations[row]) for row in range(len(move.frames))]
    )
    angles = np.degrees(np.unwrap(angles, axis=0))
    values = dict(zip(POSITION, move.positions.T)) | dict(zip(ANGLES, angles.T))
    if move.knows_view and np.isfinite(move.focal_mm).all():
        values["focal"] = move.focal_mm
    out = {}
    for name, series in values.items():
        keys = [Key(float(move.frames[row]), float(series[row]), kind) for row in rows.tolist()]
        if len(keys) > 1 and np.ptp(series) < 1e-12:
            keys = keys[:1]
        out[name] = Curve.of(keys)
    return out
