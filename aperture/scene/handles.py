"""What dragging a box's handle on the plate does to the box: the camera's ray says where the pointer is in the world."""

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.scene.box import Box

HANDLES = ("move", "corner", "top", "turn")
LEAST_M = 1e-3


def places(box: Box) -> dict[str, np.ndarray]:
    """World positions (3,) of a box's handles: its foot, a floor corner, the middle of its top, and a point before its front."""
    width, height, depth = box.size
    front = np.array([np.sin(box.turn), 0.0, np.cos(box.turn)])
    base = np.array(box.base)
    return {"move": base, "corner": box.corners()[1], "top": base + [0, height, 0], "turn": base + front * (depth / 2 + 0.35 * max(width, depth))}


def on_floor(camera: Camera, at, height: float = 0.0) -> np.ndarray:
    """(3,) metres where the ray of pixel `at` (2,) meets the level plane y = height. Raises Problem above the horizon."""
    point = camera.on_plane([at], offset=height)[0]
    if not np.isfinite(point).all() or np.linalg.norm(point - camera.position) > 1e4:
        raise Problem("That lies above the horizon, where there is no floor. Click lower on the plate.")
    return point


def drag(camera: Camera, box: Box, handle: str, at) -> Box:
    """The box after its `handle` was dragged to the pixel `at` (2,). Raises Problem where the pointer meets no floor."""
    base = np.array(box.base)
    if handle == "top":
        ray = camera.rays([at])[0]
        up, between = np.array([0.0, 1.0, 0.0]), base - camera.position
        # The point of the vertical line nearest the ray.
        along = ray @ up
        height = (along * (ray @ between) - up @ between) / max(1 - along**2, 1e-9)
        if not np.isfinite(height):
            raise Problem("The lens forms no picture there.")
        return Box((box.size[0], max(float(height), LEAST_M), box.size[2]), box.base, box.turn)
    point = on_floor(camera, at, box.base[1])
    if handle == "move":
        return Box(box.size, tuple(point.tolist()), box.turn)
    if handle == "turn":
        return Box(box.size, box.base, float(np.arctan2(point[0] - base[0], point[2] - base[2])))
    if handle != "corner":
        raise Problem(f"A box has no handle “{handle}”.")
    opposite = box.corners()[3]
    c, s = np.cos(box.turn), np.sin(box.turn)
    apart = point - opposite
    width, depth = abs(c * apart[0] - s * apart[2]), abs(s * apart[0] + c * apart[2])
    middle = (point + opposite) / 2
    return Box((max(float(width), LEAST_M), box.size[1], max(float(depth), LEAST_M)), (float(middle[0]), box.base[1], float(middle[2])), box.turn)
