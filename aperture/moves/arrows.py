"""How a camera moves over a shot, as arrows of a storyboard: each says what the camera does, where
it begins and where it points.

Words are the trade's: a camera travels, rises and falls, pans, tilts and zooms. Of a move the
difference between its first and its last frame is drawn, as storyboards do.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from aperture.camera import CameraPath
from aperture.geometry.rotation import angles_from_rotation

LEAST_M, LEAST_DEG, LEAST_ZOOM = 0.1, 2.0, 0.03
# Where arrows stand, as shares of the picture's width and height from its upper left corner.
MIDDLE, FOOT, SIDE, HEAD, REACH = 0.5, 0.86, 0.08, 0.12, 0.22


@dataclass(frozen=True)
class Arrow:
    """`says` what the camera does; begin and end as shares of the picture."""

    says: str
    begin: tuple[float, float]
    end: tuple[float, float]


def arrows(path: CameraPath) -> list[Arrow]:
    """The arrows of a path; none of a camera that stays as it is."""
    if len(path.frames) < 2:
        return []
    first, last = path.rotations[0], path.rotations[-1]
    right, up, back = first.T @ (path.positions[-1] - path.positions[0])
    out = []
    if abs(back) > LEAST_M and abs(back) > 0.3 * max(abs(right), abs(up)):
        # Toward what is seen in the middle, or away from it.
        near, far = (MIDDLE - 0.2, FOOT), (MIDDLE - 0.06, MIDDLE + 0.12)
        says = f"{abs(back):.1f} m {'forward' if back < 0 else 'back'}"
        out.append(Arrow(says, *((near, far) if back < 0 else (far, near))))
    if abs(right) > LEAST_M and abs(right) > 0.3 * abs(back):
        way = math.copysign(REACH, right)
        says = f"{abs(right):.1f} m to the {'right' if right > 0 else 'left'}"
        out.append(Arrow(says, (MIDDLE, FOOT), (MIDDLE + way, FOOT)))
    if abs(up) > LEAST_M:
        way = math.copysign(REACH, up)
        says = f"{abs(up):.1f} m {'up' if up > 0 else 'down'}"
        out.append(Arrow(says, (SIDE, MIDDLE + way / 2), (SIDE, MIDDLE - way / 2)))
    (pan, tilt, _), (pan_end, tilt_end, _) = (angles_from_rotation(one) for one in (first, last))
    pans = math.degrees(_nearest(pan_end - pan))
    if abs(pans) > LEAST_DEG:  # a pan to the left is above zero
        way = -math.copysign(REACH, pans)
        says = f"pans {abs(pans):.0f}° to the {'left' if pans > 0 else 'right'}"
        out.append(Arrow(says, (MIDDLE, HEAD), (MIDDLE + way, HEAD)))
    tilts = math.degrees(tilt_end - tilt)
    if abs(tilts) > LEAST_DEG:
        way = math.copysign(REACH, tilts)
        says = f"tilts {abs(tilts):.0f}° {'up' if tilts > 0 else 'down'}"
        out.append(Arrow(says, (1 - SIDE, MIDDLE + way / 2), (1 - SIDE, MIDDLE - way / 2)))
    zoom = float(np.log(path.focal_mm[-1] / path.focal_mm[0]))
    if abs(zoom) > LEAST_ZOOM:
        says = f"{path.focal_mm[0]:.0f} → {path.focal_mm[-1]:.0f} mm"
        near, far = (0.78, 0.78), (0.62, 0.62)
        out.append(Arrow(says, *((near, far) if zoom > 0 else (far, near))))
    return out


def _nearest(turn: float) -> float:
    return (turn + math.pi) % math.tau - math.pi
