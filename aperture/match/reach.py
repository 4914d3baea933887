"""How far a fit can be trusted away from its marks: on the floor, at a surveyed point not placed
yet; and how level the floor is.

All from the covariance of the unknowns at the optimum, carried to first order through the
projection.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.arrays import Array, ArrayLike
from aperture.camera import Camera
from aperture.match import diagnose
from aperture.match.least_squares import Optimum, Spread
from aperture.match.system import System


@dataclass(frozen=True)
class Reach:
    """The camera of an optimum and the spread of its unknowns; `camera_covariance` (C, C) in the
    order of `columns`."""

    system: System
    camera: Camera
    spread: Spread

    @classmethod
    def of(cls, system: System, optimum: Optimum) -> Reach:
        """For an optimum with a known place in the world. Nothing is said of size here: ask the fit
        whether scale is determined."""
        state = optimum.state
        pose = np.eye(4)
        pose[:3, :3], pose[:3, 3] = state.rotation, state.position
        return cls(system, Camera(system.grid, state.lens, pose), optimum.wide_spread)

    def _rows(self, points: Array) -> tuple[Array, Array, Array]:
        """Pixels (N, 2) of world points (N, 3), their derivative by the unknowns (N, 2, size) and
        by the point (N, 2, 3)."""
        camera, system = self.camera, self.system
        local = camera.to_camera_space(points)
        mm, by_point, by_lens = camera.lens.project(local, derivatives=True)
        by_point = system.px_linear @ by_point
        by_world = by_point @ camera.rotation.T
        rows = np.zeros((len(local), 2, system.size))
        rows[:, :, system.at["rotation"]] = np.cross(by_point, local[:, None, :])
        if system.has_position:
            rows[:, :, system.at["position"]] = -by_world
        if system.free_lens:
            rows[:, :, system.at["lens"]] = (system.px_linear @ by_lens)[:, :, system.free_lens]
        return system.grid.to_px(mm), rows, by_world

    def expected(self, points: Any, plus_minus: Any) -> tuple[Array, Array]:
        """Where world points (N, 3) m known to `plus_minus` (N,) m should be seen: (N, 2) px and
        their covariances (N, 2, 2) px²."""
        at, rows, by_world = self._rows(np.asarray(points, float))
        covariance = rows @ self.spread.covariance @ rows.transpose(0, 2, 1)
        return at, covariance + (np.asarray(plus_minus, float) ** 2)[:, None, None] * (
            by_world @ by_world.transpose(0, 2, 1)
        )

    def on_floor(self, pixels: ArrayLike) -> dict[str, Array]:
        """For pixels (N, 2): the floor's points `world` (N, 3) m seen there; `px` (N,) by how far
        such a point may be seen elsewhere, and `metres` (N,) by how far the pixel may lie elsewhere
        on the floor: each the longer half-axis of the one-σ ellipse; NaN above the horizon."""
        return on_floor(self.camera, pixels, self.spread.covariance, lambda at: self._rows(at)[1:])

    def floor_tilt(self, optimum: Optimum) -> tuple[float, list[tuple[str, float]]]:
        """By how much the floor may be tilted about the steepest of its directions, radians (1 σ),
        and what carries it: (id, share) of each mark and fact, the share of what is known of that
        tilt, as one over its variance, that would be lost without it; the most first."""
        turn = np.zeros((2, self.system.size))
        turn[:, self.system.at["rotation"]] = self.camera.rotation[
            [0, 2]
        ]  # turns about the world's across and along
        covariance = optimum.spread.covariance
        values, vectors = np.linalg.eigh(turn @ covariance @ turn.T)
        row = vectors[:, 1] @ turn
        carriers: dict[Any, Any] = {}
        for leaving in diagnose.leave_out(self.system, optimum, optimum.spread):
            reach = row @ covariance @ optimum.jacobian[leaving.block.rows].T
            loss = float(reach @ leaving.inverse @ reach)
            carriers[leaving.block.id] = max(
                carriers.get(leaving.block.id, 0.0), loss / max(values[1] + loss, 1e-300)
            )
        tilt = float(np.sqrt(values[1] * optimum.widening))
        return tilt, sorted(carriers.items(), key=lambda one: -one[1])


def on_floor(
    camera: Camera, pixels: ArrayLike, covariance: Array, slopes: Callable[[Array], Any]
) -> dict[str, Array]:
    """What `Reach.on_floor` gives, for any camera whose unknowns have a `covariance` (C, C).

    slopes: of world points (N, 3) the derivatives of their pixels by the unknowns (N, 2, C) and by
    the points (N, 2, 3).
    """
    pixels = np.asarray(pixels, float)
    world = camera.on_plane(pixels)
    seen = np.flatnonzero(np.isfinite(world).all(axis=1))
    px, metres = np.full(len(pixels), np.nan), np.full(len(pixels), np.nan)
    if len(seen):
        rows, by_world = slopes(world[seen])
        with np.errstate(all="ignore"):
            spread = rows @ covariance @ rows.transpose(0, 2, 1)
            px[seen] = longest(spread)
            inverse = np.linalg.pinv(
                by_world[:, :, [0, 2]]
            )  # from px to the floor's two directions
            metres[seen] = longest(inverse @ spread @ inverse.transpose(0, 2, 1))
    return {"world": world, "px": px, "metres": metres}


def longest(covariance: Array) -> Array:
    """(N,) the longer half-axis of the ellipses of covariances (N, 2, 2)."""
    a, b, c = covariance[:, 0, 0], covariance[:, 0, 1], covariance[:, 1, 1]
    return np.sqrt(np.maximum((a + c) / 2 + np.sqrt(((a - c) / 2) ** 2 + b**2), 0))


def ellipse(covariance: Array) -> tuple[float, float, float]:
    """(longer half-axis, shorter, angle in degrees of the longer from the x axis) of one covariance
    (2, 2), 1 σ."""
    values, vectors = np.linalg.eigh(covariance)
    return (
        float(np.sqrt(max(values[1], 0))),
        float(np.sqrt(max(values[0], 0))),
        float(np.degrees(np.arctan2(vectors[1, 1], vectors[0, 1]))),
    )
