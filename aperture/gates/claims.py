"""A field of view and a focal length quoted together: for which kind of lens, measured which way,
are both true?"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.geometry.angles import FULL_FRAME_DIAGONAL_MM, FULL_FRAME_MM
from aperture.lens import projections

BASES = ("horizontal", "vertical", "diagonal")
# Quoted angles and equivalents are rounded, and makers round kindly: within this share they are
# taken to agree.
AGREES = 0.02


@dataclass(frozen=True)
class Claim:
    """What is quoted; None for what isn't. `angle` in radians, full; `basis` in BASES or None where
    nobody says.

    `focal_mm` belongs to `sensor_mm`; an equivalent focal length belongs to 36 × 24 mm, see
    `from_equivalent`.
    """

    angle: float | None = None
    basis: str | None = None
    focal_mm: float | None = None
    sensor_mm: tuple[float, float] | None = None

    def __post_init__(self) -> None:
        if self.angle is not None and not 0 < self.angle < 2 * math.pi:
            raise Problem("The angle must lie between 0° and 360°.", "angle")
        if self.focal_mm is not None and not 0 < self.focal_mm < 100000:
            raise Problem("The focal length must be above zero.", "focal")
        if self.sensor_mm is not None and not all(0 < side < 10000 for side in self.sensor_mm):
            raise Problem("The sensor must have a width and a height above zero.", "sensor")
        if sum(value is not None for value in (self.angle, self.focal_mm, self.sensor_mm)) < 2:
            raise Problem(
                "Give two of these: an angle, a focal length or its equivalent, the sensor."
            )


@dataclass(frozen=True)
class Reading:
    """One projection and basis. What was not quoted is computed: the angle (radians), the focal
    length or the sensor's side (mm); NaN where none.

    `off` is the computed angle less the quoted one, radians, where all three are given.
    """

    projection: str
    basis: str
    angle: float
    focal_mm: float
    side_mm: float
    off: float | None = None
    agrees: bool = False


def equivalent_sensor(aspect: float = 1.5, basis: str = "diagonal") -> tuple[float, float]:
    """The frame, in mm, to which an equivalent focal length belongs: 36 mm wide, or 43.27 mm on the
    diagonal, of the picture's aspect."""
    width = (
        FULL_FRAME_MM[0]
        if basis == "width"
        else FULL_FRAME_DIAGONAL_MM * aspect / math.hypot(aspect, 1)
    )
    return width, width / aspect


def lay_out(claim: Claim) -> list[Reading]:
    """Every projection × basis, with what the quoted numbers imply and whether they agree (within 2
    %)."""
    out = []
    for projection in projections.OF_LENSES:
        for basis in BASES:
            side = _side(claim.sensor_mm, basis) if claim.sensor_mm else math.nan
            focal = claim.focal_mm or math.nan
            angle = (
                2 * projections.angle_at(projections.named(projection), side / 2 / focal)
                if claim.sensor_mm and claim.focal_mm
                else math.nan
            )
            if claim.sensor_mm and claim.focal_mm and claim.angle is not None:
                off = angle - claim.angle
                agrees = abs(off) <= AGREES * claim.angle and claim.basis in (None, basis)
                out.append(Reading(projection, basis, angle, focal, side, off, bool(agrees)))
                continue
            if claim.angle is not None:
                angle, r = (
                    claim.angle,
                    projections.radius_at(projections.named(projection), claim.angle / 2),
                )
                r = r if r > 0 else math.nan
                if claim.sensor_mm:
                    focal = side / 2 / r
                else:
                    side = 2 * r * focal
            out.append(Reading(projection, basis, angle, focal, side))
    return out


def _side(sensor: tuple[float, float], basis: str) -> float:
    return {"horizontal": sensor[0], "vertical": sensor[1], "diagonal": math.hypot(*sensor)}[basis]


def curves(most: float = math.pi, samples: int = 91) -> dict[str, Array]:
    """For drawing the mappings: projection → (N, 2) of angle from the axis in radians up to `most`,
    and radius in focal lengths."""
    theta = np.linspace(0, most, samples)
    points = np.stack([np.sin(theta), np.zeros_like(theta), -np.cos(theta)], -1)
    return {
        name: np.stack([theta, projections.named(name).project(points)[:, 0]], -1)
        for name in projections.OF_LENSES
    }
