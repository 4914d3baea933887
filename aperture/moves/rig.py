"""A simulated motion-control rig: a stand-in for the device on a stage, which ships with the
program.

A pillar runs on straight rails and lifts an arm that swings about it; at the arm's end hangs or
stands a head that pans, tilts and rolls. In the rig's own space the rails lie along X, Y is up, and

    camera = (rail + L sin θ,  lift,  L cos θ)

with the arm's length L and its swing θ. So a place (x, y, z) has swing ± arccos(z / L), lift y and
rail x − L sin θ, which is all there is to its inverse kinematics. The head then turns the camera to
its target.

A program says from where to where, by which kind of move, how fast along it. `play` gives every
axis of the rig per frame, which limits it exceeds, and the nodes of a scene file with its helpers.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from fractions import Fraction
from typing import Any, Literal

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.geometry.rotation import angles_from_rotation, rotations_from_angles
from aperture.moves.hierarchy import Node, look_at

Kind = Literal["rise", "line", "arc"]
Profile = Literal["even", "eased", "smooth"]
Mount = Literal["standing", "hanging"]
KINDS: dict[str, str] = {
    "rise": "Rise past something: the pillar stands, the arm lifts and swings",
    "line": "Straight line",
    "arc": "Arc about the target",
}
PROFILES: dict[str, str] = {
    "smooth": "slow at both ends, no jolt",
    "eased": "slow at both ends",
    "even": "at one speed",
}
MOUNTS: dict[str, str] = {"standing": "stands on the arm", "hanging": "hangs under the arm"}
LONGEST_S = 600.0


@dataclass(frozen=True)
class Axis:
    """Range and highest speed of one axis of a rig, in metres or degrees, and per second."""

    name: str
    low: float
    high: float
    fastest: float
    unit: str


AXES = {
    "rail": Axis("The pillar on its rails", -4.0, 4.0, 1.2, "m"),
    "lift": Axis("The lift", 0.4, 3.2, 1.2, "m"),
    "swing": Axis("The arm’s swing", -175.0, 175.0, 45.0, "°"),
    "pan": Axis("The head’s pan", -200.0, 200.0, 90.0, "°"),
    "tilt": Axis("The head’s tilt", -95.0, 95.0, 60.0, "°"),
    "roll": Axis("The head’s roll", -190.0, 190.0, 90.0, "°"),
}


@dataclass(frozen=True)
class Program:
    """What a rig is told to do; places in its own space, metres.

    Parameters
    ----------
    kind : {"rise", "line", "arc"}
    start, target : tuple of float
        Where the camera begins, and what it looks at.
    end : tuple of float
        Where a straight line ends. Of the others only its height counts.
    turn_deg : float
        By how much the arm swings ("rise") or the camera goes about its target ("arc").
    seconds : float
    profile : {"smooth", "eased", "even"}
        "smooth" is the move of least jerk, 10 s³ − 15 s⁴ + 6 s⁵; "eased" is 3 s² − 2 s³.
    mount : {"standing", "hanging"}
        A camera that hangs is upside down.
    side : int
        On which side of the pillar the arm is, 1 or −1, where both reach the place.
    arm_m, focal_mm, gate_mm
        Of the arm, the lens and the camera.
    """

    kind: Kind = "rise"
    start: tuple[float, float, float] = (0.0, 0.62, 1.5)
    end: tuple[float, float, float] = (0.0, 2.6, 1.5)
    target: tuple[float, float, float] = (4.0, 1.35, -3.0)
    turn_deg: float = 45.0
    seconds: float = 3.5
    profile: Profile = "smooth"
    mount: Mount = "standing"
    side: int = 1
    arm_m: float = 1.5
    focal_mm: float = 27.0
    gate_mm: tuple[float, float] = (36.0, 20.25)

    def __post_init__(self) -> None:
        for name, value, allowed in (
            ("kind", self.kind, KINDS),
            ("profile", self.profile, PROFILES),
            ("mount", self.mount, MOUNTS),
            ("side", self.side, (1, -1)),
        ):
            if value not in allowed:
                raise Problem(f"“{value}” is not one of {', '.join(map(str, allowed))}.", name)
        numbers = (*self.start, *self.end, *self.target, self.turn_deg, *self.gate_mm)
        if not np.isfinite(numbers).all() or max(map(abs, numbers)) > 1e4:
            raise Problem("A place or an angle of the rig’s program is beyond any stage.")
        if not 0 < self.seconds <= LONGEST_S:
            raise Problem(f"The move takes more than 0 and at most {LONGEST_S:g} s.", "seconds")
        if not (0.2 <= self.arm_m <= 20 and 1 <= self.focal_mm <= 2000 and min(self.gate_mm) > 0):
            raise Problem("The arm has 0.2 to 20 m, and the lens 1 to 2000 mm.")

    def to_json(self) -> dict[str, Any]:
        """As plain values."""
        return asdict(self)


@dataclass(frozen=True, eq=False)
class Played:
    """A rig's move: its axes per frame, from frame zero on, in metres and degrees."""

    program: Program
    rate: Fraction
    axes: Mapping[str, Array]
    exceeds: tuple[str, ...] = field(default=())

    @property
    def count(self) -> int:
        """How many frames it has."""
        return len(self.axes["rail"])

    def nodes(self) -> list[Node]:
        """The rig as a scene file has it, from the root down to the camera: one node per axis, and
        a helper that carries nothing.
        """
        axes, count = self.axes, self.count
        still = np.zeros(count)
        arm = np.full(count, self.program.arm_m)
        locals_ = [
            ("rails", _shift(axes["rail"], still, still)),
            ("pillar", _shift(still, axes["lift"], still)),
            ("arm", _turn(axes["swing"], still, still)),
            ("counterweight", np.tile(np.eye(4), (count, 1, 1))),
            ("head", _shift(still, still, arm)),
            ("pan", _turn(axes["pan"], still, still)),
            ("tilt", _turn(still, axes["tilt"], still)),
            ("camera", _turn(still, still, axes["roll"])),
        ]
        return [
            Node(name, index - 1 if index else None, local)
            for index, (name, local) in enumerate(locals_)
        ]

    def poses(self) -> Array:
        """(T, 4, 4) the camera's in the rig's space."""
        out = np.tile(np.eye(4), (self.count, 1, 1))
        for node in self.nodes():
            out = out @ node.local
        return out


def shares(profile: Profile, count: int) -> Array:
    """(count,) how far along a move is on each of its frames, from 0 to 1."""
    s = np.linspace(0, 1, count) if count > 1 else np.zeros(1)
    if profile == "even":
        return s
    return s**2 * (3 - 2 * s) if profile == "eased" else s**3 * (10 - 15 * s + 6 * s**2)


def play(program: Program, rate: Fraction) -> Played:
    """Return what a rig does by a program.

    Parameters
    ----------
    program : Program
    rate : Fraction
        Frames per second.

    Raises
    ------
    Problem
        If the arm doesn't reach a place, or the camera comes to its target.
    """
    count = round(program.seconds * float(rate)) + 1
    along = shares(program.profile, count)
    positions, swing = _path(program, along)
    rail = positions[:, 0] - program.arm_m * np.sin(swing)
    rotations = look_at(positions, np.tile(program.target, (count, 1)))
    angles = np.array([angles_from_rotation(rotation) for rotation in rotations])
    roll = np.pi if program.mount == "hanging" else 0.0
    pan = np.unwrap(angles[:, 0]) - swing
    pan -= 2 * np.pi * np.round(pan[0] / (2 * np.pi))
    axes = {
        "rail": rail,
        "lift": positions[:, 1],
        "swing": np.degrees(swing),
        "pan": np.degrees(pan),
        "tilt": np.degrees(angles[:, 1]),
        "roll": np.full(count, np.degrees(roll)),
    }
    return Played(program, rate, axes, tuple(_exceeded(axes, float(rate))))


def _path(program: Program, along: Array) -> tuple[Array, Array]:
    """Places (T, 3) of the camera, and the arm's swing (T,) in radians."""
    start, end, target = (
        np.array(at, float) for at in (program.start, program.end, program.target)
    )
    height = start[1] + along * (end[1] - start[1])
    turn = np.radians(program.turn_deg) * along
    if program.kind == "rise":
        (first,) = _swing(program, start[2:])
        swing = first + turn
        rail = start[0] - program.arm_m * np.sin(first)
        x, z = rail + program.arm_m * np.sin(swing), program.arm_m * np.cos(swing)
        return np.stack([x, height, z], axis=1), swing
    if program.kind == "line":
        positions = start + along[:, None] * (end - start)
    else:
        reach = start - target
        x = target[0] + np.cos(turn) * reach[0] + np.sin(turn) * reach[2]
        z = target[2] - np.sin(turn) * reach[0] + np.cos(turn) * reach[2]
        positions = np.stack([x, height, z], axis=1)
    return positions, _swing(program, positions[:, 2])


def _swing(program: Program, beside: Array) -> Array:
    """The arm's swing, radians, that brings the camera so far beside the rails."""
    share = beside / program.arm_m
    if np.abs(share).max() > 1 + 1e-9:
        frame, far = int(np.argmax(np.abs(share))), float(np.abs(beside).max())
        raise Problem(
            f"On frame {frame} the camera is {far:.2f} m beside the rails, and the arm reaches "
            f"{program.arm_m:.2f} m."
        )
    return program.side * np.arccos(np.clip(share, -1, 1))


def _exceeded(axes: Mapping[str, Array], rate: float) -> list[str]:
    """What is beyond an axis's range or speed, in sentences."""
    out = []
    for key, axis in AXES.items():
        values, unit = axes[key], axis.unit
        space = "" if unit == "°" else " "
        beyond = np.maximum(values - axis.high, axis.low - values)
        if beyond.max() > 1e-9:
            frame = int(np.argmax(beyond))
            out.append(
                f"{axis.name} would be at {values[frame]:.2f}{space}{unit} on frame {frame}; it "
                f"goes from {axis.low:g} to {axis.high:g}{space}{unit}."
            )
        speeds = np.abs(np.diff(values)) * rate
        if len(speeds) and speeds.max() > axis.fastest + 1e-9:
            frame = int(np.argmax(speeds)) + 1
            out.append(
                f"{axis.name} would do {speeds.max():.2f}{space}{unit}/s on frame {frame}; "
                f"{axis.fastest:g}{space}{unit}/s is the most."
            )
    return out


def _shift(x: Array, y: Array, z: Array) -> Array:
    out = np.tile(np.eye(4), (len(x), 1, 1))
    out[:, :3, 3] = np.stack([x, y, z], axis=1)
    return out


def _turn(pan: Array, tilt: Array, roll: Array) -> Array:
    """(T, 4, 4) of angles in degrees."""
    out = np.tile(np.eye(4), (len(pan), 1, 1))
    out[:, :3, :3] = rotations_from_angles(np.radians(np.stack([pan, tilt, roll], axis=1)))
    return out
