"""How far one frame's camera of a solved path can be trusted: where the floor is seen, and where on
it a pixel lies."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array, ArrayLike
from aperture.camera import Camera
from aperture.lens.lens import PARAMETERS
from aperture.match.reach import on_floor


@dataclass(frozen=True, eq=False)
class FrameReach:
    """A frame's camera, the names of what is uncertain of it and its lens, as a fit has them, and
    their covariance (k, k)."""

    camera: Camera
    names: tuple[str, ...]
    covariance: Array

    @classmethod
    def of(cls, camera: Camera, names: list[str], lower: list[float]) -> FrameReach:
        """lower: the covariance's lower triangle, row after row."""
        covariance = np.zeros((len(names), len(names)))
        covariance[np.tril_indices(len(names))] = lower
        covariance += np.tril(covariance, -1).T
        return cls(camera, tuple(names), covariance)

    def on_floor(self, pixels: ArrayLike) -> dict[str, Array]:
        """As `aperture.match.reach.Reach.on_floor`, of the still matcher."""
        return on_floor(self.camera, pixels, self.covariance, self._slopes)

    def _slopes(self, points: Array) -> tuple[Array, Array]:
        """Derivatives of the pixels of world points (N, 3): by what is uncertain (N, 2, k), and by
        the points (N, 2, 3)."""
        camera = self.camera
        local = camera.to_camera_space(points)
        _, by_point, by_lens = camera.lens.project(local, derivatives=True)
        linear = camera.grid.px_linear
        by_point, by_lens = linear @ by_point, linear @ by_lens
        by_world = by_point @ camera.rotation.T
        columns = dict(
            zip(("rx", "ry", "rz"), np.moveaxis(np.cross(by_point, local[:, None]), 2, 0))
        )
        columns |= zip(("x", "y", "z"), np.moveaxis(-by_world, 2, 0))
        columns |= zip(PARAMETERS, np.moveaxis(by_lens, 2, 0))
        columns["zoom"] = columns[PARAMETERS[0]]
        return np.stack([columns[name] for name in self.names], axis=2), by_world
