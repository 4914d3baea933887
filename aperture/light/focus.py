"""Focus and depth of field of a thin lens: near and far limit, blur circles, and what scale a blur
implies.

Distances are metres from the entrance pupil along the lens axis; f is the focal length, N the
f-number, c the diameter of the blur circle on the sensor that still counts as sharp::

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
LEAST_PLACES, ROUNDS, HUBER = 4, 12, 1.5


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
        """Diameters of the blur circles on the sensor, of points so many metres away along the
        axis."""
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

    @classmethod
    def for_depth(cls, focal_mm: float, near: float, far: float, circle: float) -> ThinLens:
        """Return a lens that is focused and stopped down so that all from near to far is sharp.

        Parameters
        ----------
        focal_mm : float
        near, far : float
            Metres; far may be inf.
        circle : float
            What counts as sharp, mm.

        Raises
        ------
        Problem
            Unless far lies beyond near, and near before the camera.
        """
        if not 0 < near < far:
            raise Problem("The far end has to lie beyond the near one, and both before the camera.")
        focal = focal_mm / 1000
        focus = 2 * near if math.isinf(far) else 2 * near * far / (near + far)
        # The blur of both ends is alike there.
        away = 1.0 if math.isinf(far) else abs(1 - focus / far)
        return cls(focal_mm, focal_mm * focal * away / ((focus - focal) * circle), focus)


@dataclass(frozen=True)
class BlurScale:
    """What the blur of a picture says about the size of its scene.

    Parameters
    ----------
    share, plus_minus : float
        1/k²: the share of the expected blur's square that is there, and its standard deviation.
    floor : float
        The blur of what is in focus, in the unit of the measured ones.
    """

    share: float
    plus_minus: float
    floor: float

    @property
    def factor(self) -> float:
        """k: by what factor the scene would have to be larger; inf where no blur follows the
        distance."""
        return 1 / math.sqrt(self.share) if self.share > 2 * self.plus_minus else math.inf

    @property
    def factor_plus_minus(self) -> float:
        """The ± of the factor."""
        if math.isinf(self.factor):
            return math.inf
        return 0.5 * self.plus_minus / self.share**1.5

    @property
    def least_factor(self) -> float:
        """The smallest factor that agrees within two standard deviations."""
        return 1 / math.sqrt(max(self.share, 0.0) + 2 * self.plus_minus)

    @property
    def agrees(self) -> bool:
        """Whether a factor of 1 agrees within three standard deviations."""
        return abs(self.share - 1) <= 3 * self.plus_minus


def scale_from_blur(expected: ArrayLike, measured: ArrayLike, sigma: ArrayLike) -> BlurScale:
    """Find by what factor a scene would have to be larger for its blur to be as measured.

    Blur falls with the scene's size: all distances k times as long make blur circles 1/k as large
    (as long as the focus is far against the focal length). What a sharp edge measures, b, adds in
    quadrature: measured² = b² + expected² / k². Both are found by weighted least squares, places
    that disagree weighted down (P. J. Huber, "Robust estimation of a location parameter", 1964).

    Parameters
    ----------
    expected, measured : array_like, shape (N,)
        Diameters, in the same unit.
    sigma : array_like, shape (N,)
        The ± of the measured ones.

    Raises
    ------
    Problem
        If there are fewer than four places, or all are expected to be blurred alike.
    """
    implied: Array = np.asarray(expected, float)
    seen: Array = np.asarray(measured, float)
    wide: Array = np.asarray(sigma, float)
    used = np.isfinite(implied) & np.isfinite(seen) & (wide > 0)
    implied, seen, wide = implied[used], seen[used], wide[used]
    if len(implied) < LEAST_PLACES:
        raise Problem("Too few blurred edges were measured to compare them with the lens.")
    if np.ptp(implied) < 0.3 * implied.max() + 1e-9:
        raise Problem("All edges are expected to be blurred alike: they say nothing of the size.")
    design = np.stack([np.ones_like(implied), implied**2], axis=1)
    # The ± of a square; never below that of one σ itself, where the blur is small.
    spread = 2 * np.maximum(seen, wide) * wide
    weights = 1 / spread**2
    values = np.zeros(2)
    for _ in range(ROUNDS):
        normal = design.T @ (weights[:, None] * design)
        values = np.linalg.solve(normal, design.T @ (weights * seen**2))
        if values[0] < 0:  # a blur below none: what is in focus is as sharp as can be
            slope = (weights * implied**2 * seen**2).sum() / (weights * implied**4).sum()
            values = np.array([0.0, slope])
        off = np.abs(seen**2 - design @ values) / spread
        scale = max(1.4826 * float(np.median(off)), 1e-9)
        weights = np.minimum(1, HUBER * scale / np.maximum(off, 1e-12)) / spread**2
    covariance = np.linalg.inv(design.T @ (weights[:, None] * design))
    freedom = max(float((weights * spread**2).sum()) - 2, 1.0)
    chi2 = float((weights * (seen**2 - design @ values) ** 2).sum())
    own = math.sqrt(float(covariance[1, 1]) * max(1.0, chi2 / freedom))
    return BlurScale(float(values[1]), own, math.sqrt(max(float(values[0]), 0.0)))
