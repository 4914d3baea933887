"""Distortion profiles of the open lens database (lensfun), evaluated and turned into this program's
coefficients.

The database's models give the distorted radius of an undistorted one, both counted in half the
shorter side of the picture that was calibrated (lensfun's manual, "Lens distortion", models poly3,
poly5 and ptlens):

    poly3   r_d = r_u (1 − k1 + k1 r_u²)
    poly5   r_d = r_u (1 + k1 r_u² + k2 r_u⁴)
    ptlens  r_d = r_u (a r_u³ + b r_u² + c r_u + 1 − a − b − c)

Where the middle is scaled (1 − k1, 1 − a − b − c), that share belongs to the focal length, as ours
doesn't scale the middle.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.geometry.angles import FULL_FRAME_DIAGONAL_MM
from aperture.lens.distortion import growth_radius

MODELS = ("none", "poly3", "poly5", "ptlens")


@dataclass(frozen=True)
class Profile:
    """`terms` as the database has them; `unit_mm`: half the shorter side of the calibrated picture,
    on the sensor."""

    model: str
    terms: tuple[float, ...]
    unit_mm: float
    focal_mm: float

    def __post_init__(self) -> None:
        if self.model not in MODELS:
            raise Problem(f"There is no distortion model called “{self.model}”.")

    def ratio(self, r: Array) -> Array:
        """r_d / r_u at undistorted radii `r`, in units of `unit_mm`."""
        r, t = np.asarray(r, float), (*self.terms, 0.0, 0.0, 0.0)
        if self.model == "poly3":
            return 1 - t[0] + t[0] * r**2
        if self.model == "poly5":
            return 1 + t[0] * r**2 + t[1] * r**4
        if self.model == "ptlens":
            return t[0] * r**3 + t[1] * r**2 + t[2] * r + 1 - t[0] - t[1] - t[2]
        return np.ones_like(r)

    def distorted_mm(self, mm: Array) -> Array:
        """Where straight positions (N, 2), mm from the axis, come to lie on the sensor, (N, 2)
        mm."""
        mm = np.asarray(mm, float)
        return mm * self.ratio(np.hypot(mm[:, 0], mm[:, 1]) / self.unit_mm)[:, None]


def unit_mm(crop_factor: float, aspect: float = 1.5) -> float:
    """Half the shorter side, in mm, of a calibrated picture of this crop factor and aspect (longer
    over shorter side)."""
    return FULL_FRAME_DIAGONAL_MM / 2 / crop_factor / math.hypot(aspect, 1)


@dataclass(frozen=True)
class Converted:
    """`coefficients`: (k1, k2, k3, p1, p2) for a lens of `focal_mm`, whose middle is the profile's;
    `largest_error_mm` on the picture's area."""

    coefficients: tuple[float, ...]
    focal_mm: float
    largest_error_mm: float


def convert(profile: Profile, gate_mm: tuple[float, float], samples: int = 400) -> Converted:
    """This program's coefficients for a profile, fitted by least squares over a gate (width, height
    in mm).

    Raises Problem where the profile folds inside the picture, so that no lens could have drawn it.
    """
    corner = math.hypot(*gate_mm) / 2
    # Straight radii up to the one whose image is the corner; a little more, so that overscan is not
    # left to chance.
    r = np.linspace(0, 1.6 * corner, 4 * samples + 1)[1:]
    drawn = r * profile.ratio(r / profile.unit_mm)
    grows = np.maximum.accumulate(drawn) <= drawn + 1e-12
    reaches = np.argmax(drawn >= corner) if (drawn >= corner).any() else len(r) - 1
    if not grows[: reaches + 1].all() or drawn[reaches] < corner:
        raise Problem(
            "This profile folds inside the picture: it can't be used on a sensor of this size."
        )
    inside = slice(0, reaches + 1)
    x, middle = r[inside] / profile.focal_mm, float(profile.ratio(np.zeros(1))[0])
    # r_d = f (x + k1 x³ + k2 x⁵ + k3 x⁷): linear in f and the products f·k. Where the profile has
    # even powers only, f is exact.
    basis = np.stack([x, x**3, x**5, x**7], -1)
    if profile.model == "ptlens":
        solution = np.linalg.lstsq(basis / basis.max(axis=0), drawn[inside], rcond=None)[
            0
        ] / basis.max(axis=0)
    else:
        focal = profile.focal_mm * middle
        rest = np.linalg.lstsq(
            basis[:, 1:] / basis[:, 1:].max(axis=0), drawn[inside] - focal * x, rcond=None
        )[0] / basis[:, 1:].max(axis=0)
        solution = np.array([focal, *rest])
    focal = float(solution[0])
    k = tuple(float(value) for value in solution[1:] / focal)
    if growth_radius((*k, 0.0, 0.0)) <= x[-1]:
        raise Problem(
            "This profile can't be written in this program's coefficients without folding inside"
            " the picture."
        )
    error = np.abs(basis @ solution - drawn[inside]).max()
    return Converted((*k, 0.0, 0.0), focal, float(error))
