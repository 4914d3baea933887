"""What a projection is: how a direction becomes a place on the ideal picture, and back.

Positions are in focal lengths from where the axis meets the picture, x to the right, y down. A
camera-space point (X, Y, Z) looks down −Z; turning Y upward into y downward happens here only.
"""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np

from aperture.arrays import Array


class Projection(Protocol):
    """A projection. Solver, tracer, overlays and exporters ask it; none compares its name.

    name : its key in documents.
    matched : whether a match document can name it.
    straight : whether straight lines stay straight in the picture.
    parameters : the names of the distortion coefficients that it takes, beside focal length and
    centre.
    limit : radians, the largest angle from the axis that is imaged.
    wraps : whether the picture goes on at its opposite side, longitudes going evenly across.
    around : whether it is a panorama's: it has no one axis to which distances are measured.
    """

    @property
    def name(self) -> str: ...  # noqa: D102
    @property
    def matched(self) -> bool: ...  # noqa: D102
    @property
    def straight(self) -> bool: ...  # noqa: D102
    @property
    def parameters(self) -> tuple[str, ...]: ...  # noqa: D102
    @property
    def limit(self) -> float: ...  # noqa: D102
    @property
    def wraps(self) -> bool: ...  # noqa: D102
    @property
    def around(self) -> bool: ...  # noqa: D102

    def project(self, points: Array, derivatives: bool = False) -> Any:
        """Ideal positions (N, 2) of camera-space points (N, 3); with `derivatives` also (N, 2, 3).
        NaN where nothing is imaged."""

    def rays(self, q: Array) -> Array:
        """Camera-space directions (N, 3) of ideal positions (N, 2), not of length 1; NaN outside
        the picture."""

    def ray_jacobian(self, q: Array) -> Array:
        """(N, 3, 2) derivative of `rays` by the ideal position."""

    def ray_jacobian_along(self, q: Array, dq: Array) -> Array:
        """(N, 3, 2) derivative of `ray_jacobian` along dq (N, 2)."""


def radius_at(projection: Projection, theta: float) -> float:
    """Distance from the picture's middle in focal lengths of a ray at `theta` radians from the
    axis; NaN where there is none."""
    return float(projection.project(np.array([[np.sin(theta), 0.0, -np.cos(theta)]]))[0, 0])


def angle_at(projection: Projection, radius: float) -> float:
    """The angle from the axis, radians, imaged at `radius` focal lengths from the middle; NaN where
    there is none."""
    x, _, z = projection.rays(np.array([[radius, 0.0]]))[0]
    return float(np.arctan2(x, -z))
