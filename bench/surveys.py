"""Surveyed spots given to OpenCV as well: pose by solvePnP, pose and focal length by
calibrateCamera; differences in our own ±."""

import cv2
import numpy as np

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.document import empty
from aperture.match.solve import solve

SIZE, SIGMA_PX = (1920, 1080), 0.4
FLAGS = (
    cv2.CALIB_USE_INTRINSIC_GUESS
    | cv2.CALIB_FIX_PRINCIPAL_POINT
    | cv2.CALIB_FIX_ASPECT_RATIO
    | cv2.CALIB_ZERO_TANGENT_DIST
    | cv2.CALIB_FIX_K1
    | cv2.CALIB_FIX_K2
    | cv2.CALIB_FIX_K3
)


def case(rng):
    """(document, camera, world (N, 3), at (N, 2)): 8 to 40 points in the picture."""
    grid, lens = (
        Grid.from_gate(*SIZE, 36, 20.25),
        Lens(float(np.exp(rng.uniform(np.log(16), np.log(85))))),
    )
    camera = Camera.at(
        grid, lens, rng.uniform(-3, 3, 3), *np.radians(rng.uniform([-60, -20, -5], [60, 20, 5]))
    )
    count = int(rng.integers(8, 41))
    pixels = rng.uniform([40, 40], [SIZE[0] - 40, SIZE[1] - 40], (count, 2))
    world = camera.position + camera.rays(pixels) * rng.uniform(3, 10, (count, 1))
    at = camera.project(world) + rng.normal(size=(count, 2)) * SIGMA_PX
    data = empty(*SIZE) | {"gate": {"width_mm": 36, "height_mm": 20.25}}
    data["marks"] = [
        {"id": f"s{i}", "kind": "spot", "at": p.tolist(), "world": w.tolist(), "sigma_px": SIGMA_PX}
        for i, (p, w) in enumerate(zip(at, world))
    ]
    return data, camera, world, at


def study(count=60, seed=20261127):
    """Largest differences over our ±: (count, 3) position by solvePnP, position and focal length by
    calibrateCamera."""
    rng, out = np.random.default_rng(seed), []
    for _ in range(count):
        data, camera, world, at = case(rng)
        data["lens"]["focal_mm"] = {"value": camera.lens.focal_mm, "plus_minus": 0}
        fit = solve(data).document
        _, turn, shift = cv2.solvePnP(
            world, at, camera.intrinsic_matrix(), None, flags=cv2.SOLVEPNP_SQPNP
        )
        turn, shift = cv2.solvePnPRefineLM(
            world, at, camera.intrinsic_matrix(), None, turn, shift, (3, 300, 1e-14)
        )
        posed = (
            np.abs((-cv2.Rodrigues(turn)[0].T @ shift).ravel() - fit["camera"]["position_m"])
            / fit["plus_minus"]["position_m"]
        )
        data["lens"]["focal_mm"] = None
        fit = solve(data).document
        centre = world.mean(axis=0)  # OpenCV takes the points in single precision
        _, matrix, _, turns, shifts = cv2.calibrateCamera(
            [(world - centre).astype(np.float32)],
            [at.astype(np.float32)[:, None]],
            SIZE,
            camera.intrinsic_matrix(),
            None,
            flags=FLAGS,
            criteria=(3, 2000, 1e-14),
        )
        theirs = (-cv2.Rodrigues(turns[0])[0].T @ shifts[0]).ravel() + centre
        calibrated = np.abs(theirs - fit["camera"]["position_m"]) / fit["plus_minus"]["position_m"]
        out.append(
            [
                posed.max(),
                calibrated.max(),
                abs(matrix[1, 1] - fit["camera"]["focal_px"][1]) / fit["plus_minus"]["focal_px"][1],
            ]
        )
    return np.array(out)


def report() -> None:
    """Print it."""
    found = study()
    print(
        f"\nSurveyed spots, {len(found)} cases of 8–40 points; reference: OpenCV on the same"
        " points; differences in our ± (wanted 0.1)"
    )
    for name, column in zip(
        ("position, solvePnP", "position, calibrateCamera", "focal length, calibrateCamera"),
        found.T,
    ):
        print(f"  {name:30} median {np.median(column):.4f}, at most {column.max():.4f}")


if __name__ == "__main__":
    report()
