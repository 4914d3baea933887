"""A path that is given by frame, such as a rig's: as evidence, and to begin with.

A rig knows where its camera was to a ±, and drifts: its errors on neighbouring frames are alike. So
its ± is that of the whole move, not of as many measurements as it has frames, and each of the F
frames counts with the ± times √F, as a fact about the camera does that holds for all frames. What
tracks tell of the path's shape, they tell better; where it stands, how it is turned and how large
it is, the move tells.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.arrays import Array
from aperture.match.document import InvalidDocument
from aperture.path.problem import Equation, Row, State

FARTHEST_M = 1e7
# A move that goes less than this has no parallax to begin a path with, metres.
LEAST_M = 0.02


@dataclass(frozen=True, eq=False)
class GivenMove:
    """Rotations (F, 3, 3) and positions (F, 3) on frames (F,), with the σ of both: metres,
    radians."""

    frames: Array
    rotations: Array
    positions: Array
    sigma_m: float
    sigma_rad: float

    @classmethod
    def read(cls, data: Mapping[str, Any]) -> GivenMove:
        """Of a document's `move`. Raises InvalidDocument where it isn't one."""
        frames = np.array(data["frames"], int)
        poses = np.array(data["world_from_camera"], float).reshape(-1, 4, 4)
        if len(frames) != len(poses):
            raise InvalidDocument("The move has as many poses as frames.", "/move")
        if not (np.diff(frames) > 0).all():
            raise InvalidDocument("The move’s frames go up, each once.", "/move/frames")
        turns = poses[:, :3, :3]
        apart = np.abs(turns @ np.transpose(turns, (0, 2, 1)) - np.eye(3)).max(initial=0)
        if not np.isfinite(poses).all() or apart > 1e-6 or np.abs(poses).max() > FARTHEST_M:
            raise InvalidDocument(
                "The move holds a matrix that isn’t a rotation and a position.",
                "/move/world_from_camera",
            )
        sigmas = float(data["plus_minus"]), float(np.radians(data["plus_minus_deg"]))
        return cls(frames, turns, poses[:, :3, 3], *sigmas)

    @property
    def goes(self) -> bool:
        """Whether it has parallax."""
        return bool(np.ptp(self.positions, axis=0).max() > LEAST_M)

    def equation(self, number_of_frame: Mapping[int, int]) -> OfMove | None:
        """Its equation for the frames that have a camera; None without any."""
        rows = [row for row, frame in enumerate(self.frames.tolist()) if frame in number_of_frame]
        if not rows:
            return None
        cameras = [number_of_frame[int(self.frames[row])] for row in rows]
        return OfMove(
            "move",
            self.sigma_m,
            np.array(cameras),
            self.rotations[rows],
            self.positions[rows],
            self.sigma_rad,
        )


@dataclass
class OfMove(Equation):
    """Six numbers per camera: its position less the given one, and the turn from the given one,
    about the camera's own axes.
    """

    cameras: Array = field(default_factory=lambda: np.zeros(0, int))
    rotations: Array = field(default_factory=lambda: np.zeros((0, 3, 3)))
    positions: Array = field(default_factory=lambda: np.zeros((0, 3)))
    sigma_rad: float = 1.0
    directional = True

    def rows(self, state: State) -> list[Row]:
        """Turns first, then places, of each camera."""
        many = np.sqrt(len(self.cameras))
        place, turn = self.sigma * many, self.sigma_rad * many
        given = np.transpose(self.rotations, (0, 2, 1)) @ state.rotations[self.cameras]
        off = np.concatenate(
            [
                Rotation.from_matrix(given).as_rotvec() / turn,
                (state.positions[self.cameras] - self.positions) / place,
            ],
            axis=1,
        )
        slopes = np.diag([1 / turn] * 3 + [1 / place] * 3 + [0.0])[:6]
        return [
            Row(float(residual), camera=int(camera), by_camera=slope)
            for camera, each in zip(self.cameras, off)
            for residual, slope in zip(each, slopes)
        ]
