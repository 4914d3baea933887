"""The lens: camera space ↔ millimetres on the sensor, with the derivatives that the solver needs.

Every projection in the program (solver, overlay, renderer, exporters) goes through `Lens.project`
and `Lens.rays`.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.lens import distortion
from aperture.lens.projections import RECTILINEAR, Projection, named

# The parameters of a lens, in the order of the last axis of the derivatives below.
PARAMETERS = ("ln_focal", "centre_x", "centre_y") + distortion.NAMES


@dataclass(frozen=True)
class Lens:
    """A lens: focal length, squeeze, projection, principal point and distortion.

    Parameters
    ----------
    focal_mm : float
        Focal length down the picture, millimetres.
    squeeze : float
        Of an anamorphic lens, 1 to 4; it divides the focal length across the picture.
    projection : Projection or str
        The object, or its name.
    centre_mm : tuple of two float
        Where the axis meets the sensor, millimetres from its middle.
    coefficients : tuple of five float
        k1, k2, k3, p1, p2 of D. C. Brown, "Close-range camera calibration" (1971), in the order of
        docs/conventions.md, for projections that take them.

    Raises
    ------
    Problem
        If a value is out of its range.

    Examples
    --------
    A point up and to the right lies right of and above the middle; sensor millimetres count
    downwards.

    >>> Lens(35.0).project(np.array([[0.2, 0.1, -1.0]]))
    array([[ 7. , -3.5]])
    """

    focal_mm: float
    squeeze: float = 1.0
    projection: Projection = RECTILINEAR
    centre_mm: tuple[float, float] = (0.0, 0.0)
    coefficients: tuple[float, ...] = (0.0, 0.0, 0.0, 0.0, 0.0)

    def __post_init__(self) -> None:
        if not (np.isfinite(self.focal_mm) and self.focal_mm > 0):
            raise Problem("The focal length must be above zero.")
        if not (np.isfinite(self.squeeze) and 1 <= self.squeeze <= 4):
            raise Problem("The squeeze must lie between 1 (none) and 4.")
        if isinstance(self.projection, str):
            object.__setattr__(self, "projection", named(self.projection))
        if not self.projection.parameters and any(self.coefficients):
            raise Problem(
                "Distortion coefficients belong to a rectilinear lens; a curved projection takes"
                " none."
            )

    def with_parameters(self, values: Array) -> Lens:
        """The lens whose PARAMETERS are `values` (P,)."""
        return replace(
            self,
            focal_mm=float(np.exp(values[0])),
            centre_mm=(float(values[1]), float(values[2])),
            coefficients=tuple(float(v) for v in values[3:]),
        )

    @property
    def parameters(self) -> Array:
        """(P,) the PARAMETERS."""
        return np.array([np.log(self.focal_mm), *self.centre_mm, *self.coefficients])

    @property
    def scale_mm(self) -> Array:
        """(2,) millimetres on the sensor of one focal length, across and down."""
        return np.array([self.focal_mm / self.squeeze, self.focal_mm])

    @property
    def bends(self) -> bool:
        """Whether straight lines aren't straight in the picture: by distortion, or by the
        projection."""
        return self.distorts or not self.projection.straight

    @property
    def distorts(self) -> bool:
        """Whether any coefficient is set."""
        return any(self.coefficients)

    def project(self, points: Array, derivatives: bool = False) -> Any:
        """Return where camera-space points are imaged on the sensor.

        Parameters
        ----------
        points : ndarray, shape (N, 3)
            Any length unit.
        derivatives : bool
            Whether to return the derivatives too.

        Returns
        -------
        ndarray, shape (N, 2)
            Millimetres; NaN where nothing is imaged.
        ndarray, shape (N, 2, 3)
            With `derivatives`: the derivative by the point.
        ndarray, shape (N, 2, P)
            With `derivatives`: the derivative by the lens's PARAMETERS.
        """
        scale = self.scale_mm
        if not derivatives:
            q = self.projection.project(points)
            if self.distorts:
                q = distortion.distort(q, self.coefficients)
            return q * scale + self.centre_mm
        x, by_point = self.projection.project(points, derivatives=True)
        q = distortion.distort(x, self.coefficients) if self.distorts else x
        by_lens = np.zeros((len(q), 2, len(PARAMETERS)))
        by_lens[:, :, 0] = q * scale
        by_lens[:, 0, 1] = by_lens[:, 1, 2] = 1
        if self.projection.parameters:
            by_lens[:, :, 3:] = distortion.by_coefficients(x) * scale[:, None]
        if self.distorts:
            by_point = distortion.jacobian(x, self.coefficients) @ by_point
        return q * scale + self.centre_mm, by_point * scale[:, None], by_lens

    def rays(self, mm: Array) -> Array:
        """Return the camera-space directions that are imaged at sensor positions.

        Parameters
        ----------
        mm : ndarray, shape (N, 2)
            Millimetres.

        Returns
        -------
        ndarray, shape (N, 3)
            Not of length 1; NaN where the lens forms no picture.
        """
        q = (np.asarray(mm, float) - self.centre_mm) / self.scale_mm
        if self.distorts:
            q = distortion.undistort(q, self.coefficients)
        return self.projection.rays(q)

    def ray_derivatives(self, mm: Array, free: Any = ()) -> tuple[Array, Array, Array, Array]:
        """Rays (N, 3), and A = their derivative by the sensor position (N, 3, 2) per mm; then both
        by each parameter in `free`.

        `free` holds indices into PARAMETERS; the last two results are (N, 3, F) and (N, 3, 2, F).
        By the inverse function theorem: undistorting moves by −D⁻¹ ∂D when a coefficient moves.
        """
        scale = self.scale_mm
        xd = (np.asarray(mm, float) - self.centre_mm) / scale
        free = np.asarray(free, int)
        x, inverse, moves, inverse_by = distortion.straightening(xd, self.coefficients, free)
        for axis in (0, 1):
            moves[free == 1 + axis] /= scale[axis]
            inverse_by[free == 1 + axis] /= scale[axis]
        rays, by_x = self.projection.rays(x), self.projection.ray_jacobian(x)
        by_xd = by_x @ inverse
        a = by_xd / scale  # by mm
        if not len(free):
            return rays, a, np.zeros((len(x), 3, 0)), np.zeros((len(x), 3, 2, 0))
        by_lens = by_xd @ moves.transpose(1, 2, 0)
        bent = by_x @ inverse_by
        if not self.projection.straight:
            # All parameters at once: the arrays are small, and every call costs more than what it
            # computes.
            along = (inverse @ moves[..., None]).reshape(-1, 2)
            everywhere = np.tile(x, (len(free), 1))
            by_x_by_lens = self.projection.ray_jacobian_along(everywhere, along)
            bent = bent + by_x_by_lens.reshape(len(free), len(x), 3, 2) @ inverse
        a_by_lens = np.moveaxis(bent / scale, 0, -1)
        a_by_lens[..., free == 0] -= a[..., None]
        return rays, a, by_lens, a_by_lens
