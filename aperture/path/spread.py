"""Covariances of a solved path, as they are told, and what one number more does to them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.path.imaging import LENS_SIZE
from aperture.path.problem import State


@dataclass(frozen=True, eq=False)
class Spread:
    """Covariances: cameras (F, size, size), across (F, size, m) of each with the border, points (P,
    3, 3), border (m, m).

    The border begins with the lens. Zero where held.
    """

    cameras: Array
    across: Array
    points: Array
    border: Array

    @property
    def lens(self) -> Array:
        """(8, 8) of the PARAMETERS."""
        return self.border[:LENS_SIZE, :LENS_SIZE]

    @property
    def with_lens(self) -> Array:
        """(F, size + 8, size + 8) of each camera and the lens together."""
        size = self.cameras.shape[1]
        out = np.empty((len(self.cameras), size + LENS_SIZE, size + LENS_SIZE))
        out[:, :size, :size] = self.cameras
        out[:, :size, size:] = self.across[:, :, :LENS_SIZE]
        out[:, size:, :size] = np.swapaxes(out[:, :size, size:], 1, 2)
        out[:, size:, size:] = self.lens
        return out

    def plus(self, other: Spread) -> Spread:
        """The sum of two."""
        return Spread(
            self.cameras + other.cameras,
            self.across + other.across,
            self.points + other.points,
            self.border + other.border,
        )

    def widened(self, factor: float) -> Spread:
        """All variances times a factor."""
        return Spread(
            self.cameras * factor, self.across * factor, self.points * factor, self.border * factor
        )


@dataclass(frozen=True, eq=False)
class Along:
    """One number that a solution depends on beside its own unknowns: its σ, and by how much
    everything moves with it.

    by_camera (F, size), by_lens (8,), by_point (P, 3).
    """

    sigma: float
    by_camera: Array
    by_lens: Array
    by_point: Array

    def added(self, spread: Spread) -> Spread:
        """A spread with what this number may be off."""
        by_border = np.zeros(len(spread.border))
        by_border[: len(self.by_lens)] = self.by_lens

        def outer(slopes: Array, others: Array) -> Array:
            return self.sigma**2 * slopes[..., :, None] * others[..., None, :]

        return Spread(
            spread.cameras + outer(self.by_camera, self.by_camera),
            spread.across + outer(self.by_camera, by_border),
            spread.points + outer(self.by_point, self.by_point),
            spread.border + outer(by_border, by_border),
        )


def slopes_between(first: State, last: State, step: float, size: int) -> tuple[Array, Array, Array]:
    """By how much cameras (F, size), lens (8,) and points (P, 3) move per unit of what differs by
    `step` between two states."""
    turn = np.swapaxes(first.rotations, 1, 2) @ last.rotations
    skew = (turn - np.swapaxes(turn, 1, 2)) / 2
    omega = np.stack([skew[:, 2, 1], skew[:, 0, 2], skew[:, 1, 0]], axis=1)
    zoom = (last.zoom - first.zoom)[:, None]
    cameras = np.concatenate([omega, last.positions - first.positions, zoom], axis=1)[:, :size]
    return cameras / step, (last.lens - first.lens) / step, (last.points - first.points) / step
