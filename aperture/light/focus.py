"""Focus and depth of field of a thin lens: near and far limit, blur circles, and what scale a blur implies.

Distances are metres from the entrance pupil along the lens axis; f is the focal length, N the
f-number, c the diameter of the blur circle on the sensor that still counts as sharp:

    hyperfocal   H = f² / (N c) + f
    near limit   s (H − f) / (H + s − 2 f)
    far limit    s (H − f) / (H − s),   infinite for s ≥ H
    blur circle  (f² / N) |d − s| / (d (s − f))

References
----------
S. F. Ray, *Applied Photographic Optics*, 3rd edition (2002), chapter 22; cited from memory.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array, ArrayLike
from aperture.errors import Problem
from aperture.geometry.angles import FULL_FRAME_DIAGONAL_MM

CIRCLE_MM = 0.03  # on 36 × 24 mm: common practice, no source
BASES = {
    "frame": "0.03 mm on 36 × 24 mm, scaled by the diagonal",
    "pixel": "one pixel of the plate",
    "typed": "typed",
}
LEAST_M, MOST_M = 1e-3, 1e6


def circle_mm(basis: str, gate_mm: tuple[float, float], px_mm: float, typed_mm: float) -> float:
    """Return the diameter of the blur circle that still counts as sharp.

    Parameters
    ----------
    basis : str
        A key of BASES.
    gate_mm : tuple of float
        Width and height of the gate.
    px_mm : float
        Width of a pixel on the gate.
    typed_mm : float
        What is typed, of use for that basis.

    Returns
    -------
    float
        Millimetres.
    """
    if basis == "pixel":
        return px_mm
    if basis == "typed":
        return typed_mm
    return CIRCLE_MM * math.hypot(*gate_mm) / FULL_FRAME_DIAGONAL_MM


@dataclass(frozen=True)
class ThinLens:
    """A focused lens.

    Parameters
    ----------
    focal_mm, f_number : float
    focus_m : float
        Distance of the plane of focus; inf is allowed.

    Raises
    ------
    Problem
        If the focus is nearer than twice the focal length, which no photographic lens reaches
        without a magnification above 1, or the stop is not above zero.

    Examples
    --------
    >>> lens = ThinLens(50, 2.8, 3.0)
    >>> [round(metres, 3) for metres in lens.limits(0.03)]
    [2.729, 3.33]
    >>> round(lens.hyperfocal(0.03), 2)
    29.81
    """

    focal_mm: float
    f_number: float
    focus_m: float

    def __post_init__(self) -> None:
        if not (self.f_number > 0 and self.focal_mm > 0):
            raise Problem("Stop and focal length must be above zero.")
        if not self.focus_m > 0:
            raise Problem("The focus must lie before the camera, above zero.")
        if self.focus_m < 2 * self.focal_mm / 1000:
            raise Problem(
                f"A lens of {self.focal_mm:g} mm can't be focused at {1000 * self.focus_m:.3g} mm: "
                "that is nearer than twice its focal length."
            )

    @property
    def pupil_mm(self) -> float:
        """Diameter of the entrance pupil."""
        return self.focal_mm / self.f_number

    def hyperfocal(self, circle: float) -> float:
        """The nearest focus, metres, at which infinity is sharp; `circle` mm."""
        return (self.focal_mm**2 / (self.f_number * circle) + self.focal_mm) / 1000

    def limits(self, circle: float) -> tuple[float, float]:
        """Near and far limit of what is sharp, metres; far is inf at the hyperfocal and beyond."""
        focal, hyperfocal = self.focal_mm / 1000, self.hyperfocal(circle)
        if math.isinf(self.focus_m):
            return hyperfocal - focal, math.inf
        near = self.focus_m * (hyperfocal - focal) / (hyperfocal + self.focus_m - 2 * focal)
        if self.focus_m >= hyperfocal:
            return near, math.inf
        return near, self.focus_m * (hyperfocal - focal) / (hyperfocal - self.focus_m)

    def blur_mm(self, distance: ArrayLike) -> Array:
        """Diameters of the blur circles on the sensor, of points so many metres away along the axis."""
        distance = np.asarray(distance, float)
        focal = self.focal_mm / 1000
        with np.errstate(all="ignore"):
            if math.isinf(self.focus_m):
                out = self.focal_mm * focal / self.f_number / distance
            else:
                # |d − s| / d as |1 − s / d|, which holds at infinity too.
                away = np.abs(1 - self.focus_m / distance)
                out = self.focal_mm * focal / self.f_number * away / (self.focus_m - focal)
        return np.where(distance > 0, out, np.nan)

    def for_depth(self, near: float, far: float, circle: float) -> ThinLens:
        """The lens focused and stopped down so that all from near to far is sharp.

        Raises Problem unless far lies beyond near, and near before the camera.
        """
        if not 0 < near < far:
            raise Problem("The far end has to lie beyond the near one, and both before the camera.")
        focal = self.focal_mm / 1000
        focus = 2 * near if math.isinf(far) else 2 * near * far / (near + far)
        # Of the blur at both ends, which are alike there.
        away = 1.0 if math.isinf(far) else abs(1 - focus / far)
        stop = self.focal_mm * focal * away / ((focus - focal) * circle)
        return ThinLens(self.focal_mm, stop, focus)


def scale_from_blur(
    expected: ArrayLike, measured: ArrayLike, sigma: ArrayLike
) -> tuple[float, float]:
    """By what factor a scene would have to be larger for its blur to be as measured.

    Blur falls with the scene's size: all distances k times as long make blur circles 1/k as large
    (as long as the focus is far against the focal length). So k is the weighted mean of expected
    over measured.

    Parameters
    ----------
    expected, measured : array_like, shape (N,)
        Diameters, in the same unit; expected ones above zero.
    sigma : array_like, shape (N,)
        The ± of the measured ones.

    Returns
    -------
    factor, plus_minus : float

    Raises
    ------
    Problem
        If nothing blurred was measured.
    """
    implied: Array = np.asarray(expected, float)
    seen: Array = np.asarray(measured, float)
    wide: Array = np.asarray(sigma, float)
    used = (implied > 0) & np.isfinite(implied) & np.isfinite(seen) & (wide > 0)
    if not used.any():
        raise Problem("No blurred edge was measured that the lens says is blurred.")
    implied, seen, wide = implied[used], seen[used], wide[used]
    # seen = implied / k: linear in 1/k, so that small blurs can't blow up.
    weights = (implied / wide) ** 2
    inverse = float((weights * seen / implied).sum() / weights.sum())
    if inverse <= 0:
        raise Problem("The picture's edges are sharper than can be told from none.")
    freedom = max(len(implied) - 1, 1)
    chi2 = float((((seen - inverse * implied) / wide) ** 2).sum())
    of_inverse = math.sqrt(max(1.0, chi2 / freedom) / float(weights.sum()))
    return 1 / inverse, of_inverse / inverse**2
