"""A lens on an arc: what a head turns about its pivot, with the lens a little off it.

Every camera stands at C = p + R d, with one pivot p and one arm d for all frames. Of a way of
centimetres that is six numbers in place of three a frame, and where it holds, the tracks tell them
and the distances of the points far better. It is only a start: what is found so is let loose.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from aperture.arrays import Array
from aperture.path.problem import Facts, Row, State

PIVOT, ARM = slice(0, 3), slice(3, 6)


@dataclass(frozen=True)
class Together:
    """The equations of several at once; an arc, where there is one, comes with its unknowns."""

    all: tuple[Facts, ...]

    def rows(self, state: State) -> list[Row]:
        """Those of each in turn."""
        return [row for one in self.all for row in one.rows(state)]


@dataclass
class Arc:
    """The equations of an arc: three for each camera.

    values (6,): the pivot and the arm, in the path's unit; sigma: how far a camera may stand from
    the arc.
    """

    sigma: float
    values: Array = field(default_factory=lambda: np.zeros(6))

    def places(self, rotations: Array) -> Array:
        """(F, 3) where cameras with these rotations (F, 3, 3) stand."""
        return self.values[PIVOT] + rotations @ self.values[ARM]

    def rows(self, state: State) -> list[Row]:
        """Of a state whose `extra` begins with pivot and arm."""
        pivot, arm = state.extra[PIVOT], state.extra[ARM]
        off = state.positions - pivot - state.rotations @ arm
        cross = np.array([[0, -arm[2], arm[1]], [arm[2], 0, -arm[0]], [-arm[1], arm[0], 0]])
        out = []
        for camera, rotation in enumerate(state.rotations):
            by_camera = np.zeros((3, 7))
            by_camera[:, :3], by_camera[:, 3:6] = rotation @ cross, np.eye(3)
            for axis in range(3):
                slopes = np.concatenate([-np.eye(3)[axis], -rotation[axis]]) / self.sigma
                out.append(
                    Row(
                        float(off[camera, axis] / self.sigma),
                        camera,
                        by_camera[axis] / self.sigma,
                        extra=tuple(enumerate(slopes.tolist())),
                    )
                )
        return out
