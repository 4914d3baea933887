"""Angles of view, and the focal lengths that are said to be equivalent.

Rectilinear, centred: 2·atan(gate · squeeze / 2f) across, the squeeze acting on the width alone
(common practice, no source; the same as Ray, "Applied Photographic Optics", 3rd ed. 2002, ch. 12,
for squeeze 1; cited from memory).
"""

import math
from dataclasses import dataclass

FULL_FRAME_MM = (36.0, 24.0)
FULL_FRAME_DIAGONAL_MM = math.hypot(*FULL_FRAME_MM)


@dataclass(frozen=True)
class View:
    """Full angles in radians."""

    horizontal: float
    vertical: float
    diagonal: float


def view_of(gate_mm: tuple[float, float], focal_mm: float, squeeze: float = 1.0) -> View:
    """The angles that a centred gate (width, height in mm) sees through a straight lens of
    `focal_mm`."""
    width, height = gate_mm[0] * squeeze, gate_mm[1]
    return View(
        *(2 * math.atan2(side, 2 * focal_mm) for side in (width, height, math.hypot(width, height)))
    )


def focal_for(angle: float, side_mm: float) -> float:
    """Focal length in mm at which a side of `side_mm` spans `angle` radians."""
    return side_mm / (2 * math.tan(angle / 2))


def equivalent_focal(
    gate_mm: tuple[float, float], focal_mm: float, squeeze: float = 1.0
) -> dict[str, float]:
    """Focal length on 36 × 24 mm with the same angle, by `width` (36 mm) and by `diagonal` (43.27
    mm)."""
    width, height = gate_mm[0] * squeeze, gate_mm[1]
    return {
        "width": focal_mm * FULL_FRAME_MM[0] / width,
        "diagonal": focal_mm * FULL_FRAME_DIAGONAL_MM / math.hypot(width, height),
    }
