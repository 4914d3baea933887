"""PLY: points as a cloud."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from aperture.geometry.axes import from_y_up
from aperture.units import METRES


def write(
    path: Path, points: Sequence[Sequence[float]], unit: str = "m", up_axis: str = "Y"
) -> None:
    """Write world points (metres, Y up) as a binary little-endian PLY in `unit`. PLY itself says
    neither unit nor up axis; a comment does."""
    values = np.asarray(points, float) @ from_y_up(up_axis).T / METRES[unit]
    head = (
        "ply\nformat binary_little_endian 1.0\n"
        f"comment Accurate Aperture: lengths in {unit}, {up_axis} up\n"
        f"element vertex {len(values)}\n"
        "property double x\nproperty double y\nproperty double z\nend_header\n"
    )
    path.write_bytes(head.encode() + values.astype("<f8").tobytes())
