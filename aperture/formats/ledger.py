"""The ledger of a gate chain as CSV (RFC 4180): a row a grid, every figure in full, empty where it
isn't known. Columns: docs/formats.md."""

from __future__ import annotations

import csv
import math
from typing import Any

from aperture.formats.delimited import safe_cell
from aperture.gates.chain import Chain

COLUMNS = [
    "grid",
    "step",
    "does",
    "is_plate",
    "straight",
    "width_px",
    "height_px",
    "gate_width_mm",
    "gate_height_mm",
    "diagonal_mm",
    "centre_x_mm",
    "centre_y_mm",
    "aspect_shown",
    "pixel_aspect",
    "pitch_x_um",
    "pitch_y_um",
    "focal_mm",
    "focal_x_px",
    "focal_y_px",
    "horizontal_deg",
    "vertical_deg",
    "diagonal_deg",
    "equivalent_by_width_mm",
    "equivalent_by_diagonal_mm",
]


def write(file: Any, chain: Chain) -> None:
    """The rows, to a text file."""
    writer = csv.DictWriter(file, COLUMNS)
    writer.writeheader()
    for index, stage in enumerate(chain.stages):
        f = chain.figures(index)
        row = {
            "gate_width_mm": f.gate_mm[0],
            "gate_height_mm": f.gate_mm[1],
            "diagonal_mm": f.diagonal_mm,
            "centre_x_mm": f.centre_mm[0],
            "centre_y_mm": f.centre_mm[1],
            "aspect_shown": f.aspect,
        }
        if not stage.unsized:
            row |= {
                "pixel_aspect": f.pixel_aspect,
                "pitch_x_um": f.pitch_um[0],
                "pitch_y_um": f.pitch_um[1],
            }
        if f.view is not None and chain.lens is not None and f.equivalent and f.focal_px:
            row |= {
                "focal_mm": chain.lens.focal_mm,
                "horizontal_deg": math.degrees(f.view.horizontal),
                "vertical_deg": math.degrees(f.view.vertical),
                "diagonal_deg": math.degrees(f.view.diagonal),
                "equivalent_by_width_mm": f.equivalent["width"],
                "equivalent_by_diagonal_mm": f.equivalent["diagonal"],
            }
            row |= (
                {} if stage.unsized else {"focal_x_px": f.focal_px[0], "focal_y_px": f.focal_px[1]}
            )
        size = (
            {} if stage.unsized else {"width_px": stage.grid.width, "height_px": stage.grid.height}
        )
        writer.writerow(
            {key: repr(float(value)) for key, value in row.items()}
            | size
            | {
                "grid": index + 1,
                "step": safe_cell(stage.name),
                "does": safe_cell(stage.says),
                "is_plate": int(index == chain.plate),
                "straight": int(stage.straight),
            }
        )
