"""How long a large match takes: 40 edges, 40 spots, 10 facts, distortion free; and a small one,
against SciPy on the same residuals."""

import copy
import time

import numpy as np

from aperture.match.document import read
from aperture.match.facts import AXES
from aperture.match.search import warm_start
from aperture.match.solve import solve
from aperture.match.system import System
from bench.mixed import Scene, case


def large(seed=5) -> dict:
    """A document of 40 edges, 40 spots (half surveyed, half free but for a plane or a length) and
    10 facts, k1 and k2 free."""
    rng = np.random.default_rng(seed)
    while True:
        one = case(rng)
        if (
            one.document["lens"]["distortion"] != "none"
            and one.document["lens"]["projection"] == "rectilinear"
        ):
            break
    scene = Scene(rng, one.camera, float(np.linalg.norm(one.camera.position)), "bent more")
    for index in range(40):
        scene.marks.append(
            {
                "id": f"e{index}",
                "kind": "edge",
                "axis": AXES[index % 3],
                "points": scene.drawn(scene.line(index % 3, 3), 0.5),
                "sigma_px": 0.5,
            }
        )
    scene.spot("origin", [0, 0, 0], world=[0, 0, 0])
    for index in range(20):
        point = scene.seen()
        scene.spot(
            f"v{index}",
            point,
            world=(point + rng.normal(size=3) * 0.01).tolist(),
            world_plus_minus=0.01,
        )
    height = scene.seen()[1]
    for index in range(19):
        point = scene.seen()
        scene.spot(
            f"t{index}",
            [point[0], height, point[2]],
            on="p1",
            world=[None if index else float(point[0]), None, None],
        )
    for index in range(8):
        a, b = scene.points[f"v{index}"], scene.points[f"v{index + 8}"]
        scene.fact(
            "length", np.linalg.norm(b - a), 0.01, **{"from": f"v{index}", "to": f"v{index + 8}"}
        )
    scene.fact("camera_height", one.camera.position[1], 0.01)
    scene.fact("camera_angle", np.degrees(one.camera.angles[2]), 0.3, "degrees", of="roll")
    return one.document | {
        "marks": scene.marks,
        "facts": scene.facts,
        "planes": [{"id": "p1", "axis": "up", "metres": None}],
        "lens": {"projection": "rectilinear", "distortion": {"free": ["k1", "k2"]}},
    }


def report(rounds=40) -> None:
    """Print warm and cold times, and SciPy's with the analytic Jacobian given to it."""
    from scipy.optimize import least_squares

    document = large()
    fit = solve(document).document
    assert fit["ok"], fit.get("problem")
    warm, cold, theirs = [], [], []
    for index in range(rounds):
        moved = copy.deepcopy(document)
        moved["marks"][0]["points"][0][0] += 0.3 * (-1) ** index
        began = time.perf_counter()
        solve(moved, warm=fit, checked=True, explain=False)
        warm.append(time.perf_counter() - began)
        if index % 4:
            continue
        began = time.perf_counter()
        solve(moved, checked=True, explain=False)
        cold.append(time.perf_counter() - began)
        system = System(read(moved, checked=True))
        start = warm_start(system, fit).state
        began = time.perf_counter()
        least_squares(
            lambda step, s=system, at=start: s.evaluate(s.moved(at, step))[0],
            np.zeros(system.size),
            x_scale="jac",
            jac=lambda step, s=system, at=start: s.evaluate(s.moved(at, step))[1],
        )
        theirs.append(time.perf_counter() - began)
    print(
        f"\nA large match: 40 edges, 40 spots, 10 facts, k1 and k2 free ({system.size} unknowns,"
        f" {system.row_count} residuals)"
    )
    print(
        f"  warm {np.median(warm) * 1e3:.0f} ms median (wanted 25), cold"
        f" {np.median(cold) * 1e3:.0f} ms (wanted 150), report included"
    )
    print(
        "  scipy.optimize.least_squares with our Jacobian, already at the optimum, residuals only:"
        f" {np.median(theirs) * 1e3:.0f} ms; our warm solve takes"
        f" {np.median(warm) / np.median(theirs):.2f} of it"
    )


if __name__ == "__main__":
    report()
