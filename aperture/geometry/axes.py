"""Between the core's Y-up world and files whose up is Z."""

from __future__ import annotations

import numpy as np

from aperture.arrays import Array

# Z-up (x, y, z) of Y-up (x, y, z): across stays, along becomes −y, up becomes z.
Z_UP_FROM_Y_UP = np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]])


def from_y_up(up_axis: str) -> Array:
    """(3, 3) file-from-world rotation for `up_axis` "Y" or "Z"."""
    return Z_UP_FROM_Y_UP if up_axis == "Z" else np.eye(3)


def pose_in(up_axis: str, world_from_camera: Array, metres: float = 1.0) -> Array:
    """(4, 4) pose in the file's world, whose unit of length has so many metres."""
    turn = np.eye(4)
    turn[:3, :3] = from_y_up(up_axis)
    pose = turn @ np.asarray(world_from_camera, float)
    pose[:3, 3] /= metres
    return pose
