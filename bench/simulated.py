"""Simulated photographs of edges, an origin and a length, with a known camera. For the benchmark of
accuracy, and its small form in the tests."""

import numpy as np

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.document import AXES, FORMAT
from aperture.match.solve import solve

SIZE, GATE_MM, SIGMA_PX = (3000, 2000), (36.0, 24.0), 0.5


def case(rng) -> tuple[dict, Camera]:
    """A match document and the camera that it is of: 14–100 mm on 36 × 24, turned and tilted, 6–12
    edges of 0.5 px, an origin, one length."""
    grid, focal = (
        Grid.from_gate(*SIZE, *GATE_MM),
        float(np.exp(rng.uniform(np.log(14), np.log(100)))),
    )
    turn = np.radians(
        [
            rng.uniform(20, 70) * rng.choice([-1, 1]),
            rng.uniform(5, 25) * rng.choice([-1, 1]),
            rng.uniform(-5, 5),
        ]
    )
    size, distance = np.array(SIZE), rng.uniform(4, 10)
    aim = Camera.at(grid, Lens(focal), [0, 0, 0], *turn).rays(
        [rng.uniform(0.3 * size, 0.7 * size)]
    )[0]
    camera = Camera.at(grid, Lens(focal), -aim * distance, *turn)

    def drawn(points):
        at = camera.project(points)
        return (at + rng.normal(size=at.shape) * SIGMA_PX).tolist()

    marks = [
        {
            "id": f"e{i}",
            "kind": "edge",
            "axis": AXES[i % 3],
            "points": drawn(_edge(rng, camera, i % 3, distance)),
            "sigma_px": SIGMA_PX,
        }
        for i in range(rng.integers(6, 13))
    ]
    length = distance * 3.6 / focal
    marks += [
        {
            "id": "origin",
            "kind": "spot",
            "at": drawn([[0, 0, 0]])[0],
            "sigma_px": SIGMA_PX,
            "world": [0, 0, 0],
        },
        {"id": "top", "kind": "spot", "at": drawn([[0, length, 0]])[0], "sigma_px": SIGMA_PX},
    ]
    facts = [
        {
            "id": "l1",
            "kind": "length",
            "from": "origin",
            "to": "top",
            "along": "up",
            "metres": length * (1 + 0.005 * rng.normal()),
            "plus_minus": 0.005 * length,
        }
    ]
    return {
        "format": FORMAT,
        "version": 1,
        "image": {"width": SIZE[0], "height": SIZE[1]},
        "gate": {"width_mm": GATE_MM[0], "height_mm": GATE_MM[1]},
        "marks": marks,
        "facts": facts,
    }, camera


def _edge(rng, camera, axis, distance):
    size = np.array(SIZE)
    while True:
        middle = (
            camera.position
            + camera.rays([rng.uniform([0, 0], size)])[0] * rng.uniform(0.6, 1.4) * distance
        )
        reach = rng.uniform(0.3, 1, 2) * distance * 18 / camera.lens.focal_mm
        ends = np.array([middle - reach[0] * np.eye(3)[axis], middle + reach[1] * np.eye(3)[axis]])
        at = camera.project(ends)
        if (
            np.isfinite(at).all()
            and (at > 0).all()
            and (at < size).all()
            and np.linalg.norm(at[1] - at[0]) > 0.2 * SIZE[0]
        ):
            return ends


NAMES = ("focal length", "position across", "position up", "position along", "pan", "tilt", "roll")


def scores(count: int, seed: int) -> np.ndarray:
    """(count, 7) errors of NAMES, each divided by its own ±; NaN rows where no camera was found."""
    rng, out = np.random.default_rng(seed), np.full((count, len(NAMES)), np.nan)
    for row in out:
        document, truth = case(rng)
        fit = solve(document).document
        if fit["ok"]:
            found, pm, angles = fit["camera"], fit["plus_minus"], np.degrees(truth.angles)
            row[0] = (found["focal_mm"] - truth.lens.focal_mm) / pm["focal_mm"]
            row[1:4] = (np.array(found["position_m"]) - truth.position) / pm["position_m"]
            row[4:] = [
                (found[f"{name}_deg"] - true) / pm[f"{name}_deg"]
                for name, true in zip(("pan", "tilt", "roll"), angles)
            ]
    return out
