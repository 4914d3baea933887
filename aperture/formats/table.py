"""The camera as CSV (RFC 4180): a row per frame, so that a spreadsheet or a script can read it.
Columns: docs/formats.md."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import Any

import numpy as np

from aperture.camera import Camera
from aperture.lens.distortion import NAMES as COEFFICIENTS

MATRIX = [f"m{row}{column}" for row in range(4) for column in range(4)]
COLUMNS = [
    "frame",
    *MATRIX,
    "focal_mm",
    "gate_width_mm",
    "gate_height_mm",
    "squeeze",
    "width_px",
    "height_px",
    "principal_x_px",
    "principal_y_px",
    *COEFFICIENTS,
]


def write(path: Path, cameras: dict[int, Camera]) -> None:
    """One row for each frame number; world_from_camera row by row, metres, Y up; every number to
    full precision."""
    with open(path, "w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(COLUMNS)
        for frame, camera in sorted(cameras.items()):
            numbers = [
                *camera.world_from_camera.ravel(),
                camera.lens.focal_mm,
                *camera.grid.gate_mm,
                camera.lens.squeeze,
            ]
            writer.writerow(
                [
                    frame,
                    *(repr(float(v)) for v in numbers),
                    camera.grid.width,
                    camera.grid.height,
                    *(
                        repr(float(v))
                        for v in (*camera.principal_point_px, *camera.lens.coefficients)
                    ),
                ]
            )


def read(path: Path) -> dict[int, dict[str, Any]]:
    """By frame: `world_from_camera` (4, 4), and the other columns as numbers. Raises ValueError
    naming the line."""
    out = {}
    with open(path, newline="", encoding="utf-8") as file:
        reader = csv.DictReader(file)
        if reader.fieldnames is None or set(COLUMNS) - set(reader.fieldnames):
            raise ValueError(
                "line 1: columns are missing:"
                f" {', '.join(sorted(set(COLUMNS) - set(reader.fieldnames or ())))}"
            )
        for row in reader:
            try:
                values = {key: float(row[key]) for key in COLUMNS}
            except (TypeError, ValueError):
                raise ValueError(f"line {reader.line_num}: not all values are numbers") from None
            matrix = np.array([values.pop(key) for key in MATRIX]).reshape(4, 4)
            out[int(values.pop("frame"))] = {"world_from_camera": matrix, **values}
    return out
