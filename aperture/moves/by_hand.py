"""A move stood by hand: dragged over the plate, so that the set follows the pointer."""

from __future__ import annotations

from typing import Literal

import numpy as np

from aperture.arrays import Array, ArrayLike
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.rotation import exponential
from aperture.moves.compare import seen_points

Way = Literal["slide", "turn", "raise"]


def dragged(camera: Camera, stands: Array, way: Way, start: ArrayLike, end: ArrayLike) -> Array:
    """Return where a move stands after a drag over the picture of one of its cameras.

    Parameters
    ----------
    camera : Camera
        Of the frame that is shown, where the move stood when the drag began.
    stands : ndarray, shape (4, 4)
        Set from move, then.
    way : {"slide", "turn", "raise"}
        "slide" keeps the point of the floor under the pointer, "raise" moves up and down, "turn"
        turns about the vertical through the point that was grabbed.
    start, end : array_like, shape (2,)
        Pixels where the drag began and where it is.

    Raises
    ------
    Problem
        If the lens forms no picture there, or the floor isn't below the pointer.
    """
    pixels = np.array([start, end], float)
    grabbed = seen_points(camera, pixels[:1])[0]
    depth = -camera.to_camera_space(grabbed[None])[0, 2]
    across, down = (pixels[1] - pixels[0]) / camera.focal_px
    change = np.eye(4)
    if way == "slide":
        floor = camera.on_plane(pixels, offset=float(grabbed[1]))
        if not np.isfinite(floor).all():
            raise Problem("The floor isn’t below the pointer there: begin on the floor.")
        change[:3, 3] = (floor[0] - floor[1]) * [1, 0, 1]
    elif way == "raise":
        change[1, 3] = depth * down
    else:
        # About the point that was grabbed: what is nearer goes one way, what is beyond the other.
        turn = exponential(np.array([0.0, -2 * across, 0.0]))
        change[:3, :3], change[:3, 3] = turn, grabbed - turn @ grabbed
    if not np.isfinite(change).all():
        raise Problem("The lens forms no picture there.")
    return change @ stands
