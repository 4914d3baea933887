"""How the two cameras of a stereo plate stand to each other, once both are matched."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from aperture.camera import Camera
from aperture.geometry.rotation import angles_from_rotation


@dataclass(frozen=True)
class Solved:
    """Two cameras against each other.

    apart_m : between both entrance pupils.
    toe_in_deg : by how much the axes turn to each other, above zero where they meet ahead.
    tilt_deg, roll_deg : of the right eye against the left one.
    higher_m, ahead_m : how much higher, and farther forward, the right eye stands.
    converges_m : along the left axis, where both axes come nearest to each other in the plane of
    both eyes;
        None where they don't meet ahead.
    """

    apart_m: float
    toe_in_deg: float
    tilt_deg: float
    roll_deg: float
    higher_m: float
    ahead_m: float
    converges_m: float | None

    @classmethod
    def of(cls, left: Camera, right: Camera) -> Solved:
        """Return how two cameras stand to each other."""
        between = left.rotation.T @ (right.position - left.position)
        pan, tilt, roll = angles_from_rotation(left.rotation.T @ right.rotation)
        # In the left camera's level plane: its axis is (0, −1), the right one's turned by the pan.
        away = None
        if abs(math.sin(pan)) > 1e-6:
            right_axis = np.array([-math.sin(pan), -math.cos(pan)])
            meets = np.linalg.solve(
                np.column_stack([[0.0, -1.0], -right_axis]), [between[0], between[2]]
            )
            away = float(meets[0]) if meets[0] > 0 else None
        return cls(
            float(np.linalg.norm(between)),
            math.degrees(pan),
            math.degrees(tilt),
            math.degrees(roll),
            float(between[1]),
            float(-between[2]),
            away,
        )
