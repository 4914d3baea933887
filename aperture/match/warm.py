"""Compile what a match of one picture needs, at installation (`python -m aperture warm`)."""

from __future__ import annotations

import numpy as np

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.document import AXES, FORMAT
from aperture.match.solve import solve

SIZE, GATE_MM = (1920, 1080), (36.0, 20.25)


def compile_all() -> None:
    """Solve a small match of every kind of mark, through a lens that bends."""
    lens = Lens(30.0, coefficients=(-0.05, 0.0, 0.0, 0.0, 0.0))
    camera = Camera.at(Grid.from_gate(*SIZE, *GATE_MM), lens, (4, 2, 6), 0.6, -0.2)
    marks = []
    for axis in range(3):
        for number in range(3):
            ends = np.full((3, 3), number - 1.0)
            ends[:, axis] = (-1, 0, 1)
            drawn = {"id": f"e{axis}{number}", "points": camera.project(ends).tolist()}
            kind = {"kind": "bow"} if number == 2 else {"kind": "edge", "axis": AXES[axis]}
            marks.append(drawn | kind)
    at = camera.project([[0, 0, 0]])[0].tolist()
    marks.append({"id": "s", "kind": "spot", "at": at, "world": [0, 0, 0]})
    solve(
        {
            "format": FORMAT,
            "version": 1,
            "image": dict(zip(("width", "height"), SIZE)),
            "gate": dict(zip(("width_mm", "height_mm"), GATE_MM)),
            "lens": {"distortion": {"free": ["k1"]}},
            "marks": marks,
        }
    )
