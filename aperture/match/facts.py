"""Facts from the set, each one an equation: what it measures, what was measured, and how that hangs
on the unknowns of a match.

Every fact gives one residual, (value − wanted) / ±. Values are in metres, radians or millimetres,
as `unit` says. To add a kind of fact: a class here, its shape in schema/match.schema.json, and a
line in `document.read`.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera, border_points
from aperture.geometry.rotation import angles_from_rotation
from aperture.lens.lens import PARAMETERS, Lens

if TYPE_CHECKING:
    from aperture.geometry.grid import Grid
    from aperture.match.system import State, System

AXES = ("across", "up", "along")
ANGLES = ("pan", "tilt", "roll")
BASES = ("horizontal", "vertical", "diagonal")


@dataclass(frozen=True)
class Fact:
    """`name` is what it is called in a sentence; `plus_minus` in the fact's unit."""

    id: str
    name: str
    plus_minus: float
    unit: ClassVar[str] = "m"
    # Whether it is what the document gives of the lens, and not a fact with an id of its own.
    of_lens: ClassVar[bool] = False

    def value(self, system: Any, state: Any, points: Any) -> float:
        """What a state says of it; `points` (S, 3) are the state's spots."""
        raise NotImplementedError

    def wanted(self, value: float) -> float:
        """What was measured."""
        raise NotImplementedError

    def slopes(self, system: Any, state: Any, points: Any, row: Any) -> None:
        """Add the derivative of `value` by every unknown to `row` (size,)."""
        raise NotImplementedError

    def says(self, value: float) -> str:
        """What the rest of the evidence says of it, for a sentence."""
        raise NotImplementedError


@dataclass(frozen=True)
class Length(Fact):
    """The distance between two spots; with `axis` they differ in that direction only."""

    start: str
    end: str
    metres: float
    axis: int | None = None

    def _apart(self, system: System, points: Array) -> tuple[int, int, tuple[float, float, float]]:
        start, end = system.spot_index[self.start], system.spot_index[self.end]
        (ax, ay, az), (bx, by, bz) = points[start].tolist(), points[end].tolist()
        return (
            start,
            end,
            (bx - ax, by - ay, bz - az),
        )  # plain floats: of three numbers they are quicker than arrays

    def value(self, system: System, state: State, points: Array) -> float:
        _, _, apart = self._apart(system, points)
        return math.hypot(*apart) if self.axis is None else abs(apart[self.axis])

    def wanted(self, value: float) -> float:
        return self.metres

    def slopes(self, system: System, state: State, points: Array, row: Array) -> None:
        start, end, apart = self._apart(system, points)
        if self.axis is None:
            length = max(math.hypot(*apart), 1e-12)
            direction = [part / length for part in apart]
        else:
            direction = [0.0, 0.0, 0.0]
            direction[self.axis] = 1.0 if apart[self.axis] >= 0 else -1.0
        first = system.at["values"].start
        for index, sign in ((end, 1), (start, -1)):
            for slot, part in zip(system.variable[index].tolist(), direction):
                if slot >= 0:
                    row[first + slot] += sign * part

    def says(self, value: float) -> str:
        return f"by the rest “{self.name}” would be {abs(value):.3f} m long, not {self.metres:.3f}"


@dataclass(frozen=True)
class CameraCoordinate(Fact):
    """One known coordinate (index in AXES) of the camera's position. A position fact makes up to
    three of these."""

    metres: float
    axis: int = 1

    def value(self, system: System, state: State, points: Array) -> float:
        return state.position[self.axis]

    def wanted(self, value: float) -> float:
        return self.metres

    def slopes(self, system: System, state: State, points: Array, row: Array) -> None:
        row[system.at["position"].start + self.axis] += 1

    def says(self, value: float) -> str:
        what = "the camera's height" if self.axis == 1 else f"the camera's place {AXES[self.axis]}"
        return f"without “{self.name}” {what} would be {value:.3f} m, not {self.metres:.3f}"


@dataclass(frozen=True)
class CameraAngle(Fact):
    """Pan, tilt or roll (index in ANGLES), radians: a camera that stood level has roll 0."""

    unit: ClassVar[str] = "rad"
    radians: float
    of: int

    def value(self, system: System, state: State, points: Array | None) -> float:
        angle = angles_from_rotation(state.rotation)[self.of]
        return self.radians + (angle - self.radians + np.pi) % (2 * np.pi) - np.pi

    def wanted(self, value: float) -> float:
        return self.radians

    def slopes(self, system: System, state: State, points: Array, row: Array) -> None:
        row[system.at["rotation"]] += angle_slopes(state.rotation)[self.of]

    def says(self, value: float) -> str:
        return (
            f"without “{self.name}” the camera's {ANGLES[self.of]} would be"
            f" {np.degrees(value):.2f}°, not {np.degrees(self.radians):.2f}°"
        )


@dataclass(frozen=True)
class AngleOfView(Fact):
    """The full angle, radians, across, down or on the diagonal (index in BASES), the lens's
    distortion included."""

    unit: ClassVar[str] = "rad"
    radians: float
    basis: int

    def value(self, system: System, state: State, points: Array | None) -> float:
        return _view(system.grid, state.lens)[self.basis]

    def wanted(self, value: float) -> float:
        return self.radians

    def slopes(self, system: System, state: State, points: Array, row: Array) -> None:
        row[system.at["lens"]] += view_slopes(system.grid, state.lens, system.free_lens)[self.basis]

    def says(self, value: float) -> str:
        return (
            f"without “{self.name}” the angle would be {np.degrees(value):.2f}°, not"
            f" {np.degrees(self.radians):.2f}°"
        )


@dataclass(frozen=True)
class FocalLength(Fact):
    """The lens's focal length, mm."""

    unit: ClassVar[str] = "mm"
    of_lens: ClassVar[bool] = True
    mm: float

    def value(self, system: System, state: State, points: Array | None) -> float:
        return state.lens.focal_mm

    def wanted(self, value: float) -> float:
        return self.mm

    def slopes(self, system: System, state: State, points: Array, row: Array) -> None:
        if 0 in system.free_lens:
            row[system.at["lens"].start] += state.lens.focal_mm * self._weight(state.lens.focal_mm)

    def _weight(self, value: float) -> float:
        return 1.0

    def says(self, value: float) -> str:
        return f"without it the focal length would be {value:.2f} mm, not {self.mm:.2f}"


@dataclass(frozen=True)
class FocalRange(FocalLength):
    """A zoom's range, mm: inside it every focal length is as good as another, outside it costs by
    the distance from its end."""

    of_lens: ClassVar[bool] = False
    mm: float  # the shorter end
    longest_mm: float = 0.0

    def wanted(self, value: float) -> float:
        return min(max(value, self.mm), self.longest_mm)

    def _weight(self, value: float) -> float:
        return 0.0 if self.mm <= value <= self.longest_mm else 1.0

    def says(self, value: float) -> str:
        return (
            f"without “{self.name}” the focal length would be {value:.2f} mm, outside"
            f" {self.mm:g}–{self.longest_mm:g}"
        )


@dataclass(frozen=True)
class PrincipalPoint(Fact):
    """One coordinate, px, of where a calibration puts the lens's axis: x (0) or y (1)."""

    unit: ClassVar[str] = "px"
    of_lens: ClassVar[bool] = True
    px: float
    axis: int

    def value(self, system: System, state: State, points: Array) -> float:
        return float(system.grid.to_px([state.lens.centre_mm])[0, self.axis])

    def wanted(self, value: float) -> float:
        return self.px

    def slopes(self, system: System, state: State, points: Array, row: Array) -> None:
        first = system.at["lens"].start
        for slot, column in enumerate(system.free_lens):
            if column in (1, 2):
                row[first + slot] += system.px_linear[self.axis, column - 1]

    def says(self, value: Any) -> Any:
        return f"without it {'xy'[self.axis]} would be {value:.1f} px, not {self.px:.1f}"


@dataclass(frozen=True)
class Coefficient(Fact):
    """A coefficient of distortion (index in PARAMETERS) from a calibration."""

    unit: ClassVar[str] = "value"
    of_lens: ClassVar[bool] = True
    given: float
    parameter: int

    def value(self, system: System, state: State, points: Array) -> float:
        return float(state.lens.parameters[self.parameter])

    def wanted(self, value: float) -> float:
        return self.given

    def slopes(self, system: System, state: State, points: Array, row: Array) -> None:
        if self.parameter in system.free_lens:
            row[system.at["lens"].start + system.free_lens.index(self.parameter)] += 1.0

    def says(self, value: Any) -> Any:
        return f"without it {PARAMETERS[self.parameter]} would be {value:.4g}, not {self.given:.4g}"


def angle_slopes(rotation: Array) -> Array:
    """(3, 3) derivative of pan, tilt and roll by a turn in camera space.

    The turn that a change of each makes, seen from the camera, inverted; looking straight up or
    down, where pan and roll can't be told apart, the nearest answer.
    """
    _, tilt, roll = angles_from_rotation(rotation)
    (ct, st), (cr, sr) = (np.cos(tilt), np.sin(tilt)), (np.cos(roll), np.sin(roll))
    turns = np.array([[ct * sr, cr, 0.0], [ct * cr, -sr, 0.0], [-st, 0.0, 1.0]])
    return np.linalg.inv(turns) if abs(ct) > 1e-6 else np.linalg.pinv(turns)


def view_slopes(grid: Grid, lens: Lens, free: list[int]) -> Array:
    """(3, F) derivative of the horizontal, vertical and diagonal angle of view by the lens's free
    parameters (indices in PARAMETERS)."""
    rays, _, by_lens, _ = lens.ray_derivatives(grid.to_mm(border_points(grid)), free)
    length = np.linalg.norm(rays, axis=1)
    unit = rays / length[:, None]
    slopes = (
        by_lens - unit[:, :, None] * np.einsum("ni,nif->nf", unit, by_lens)[:, None, :]
    ) / length[:, None, None]
    a, b, da, db = unit[0::2], unit[1::2], slopes[0::2], slopes[1::2]
    sine = np.linalg.norm(np.cross(a, b), axis=1)
    with np.errstate(all="ignore"):
        return np.nan_to_num(
            -(np.einsum("ni,nif->nf", b, da) + np.einsum("ni,nif->nf", a, db))
            / np.maximum(sine, 1e-12)[:, None]
        )


def _view(grid: Grid, lens: Lens) -> Array:
    view = Camera(grid, lens, np.eye(4)).view
    return np.array([view.horizontal, view.vertical, view.diagonal])
