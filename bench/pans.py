"""Pans over real photographs: whether they are known as nodal, and whether the ± holds.

A view turns in front of a photograph that is far away (its picture is warped as one seen through a
lens), with grain, as it is and through H.264; followed and solved. The reference is the true focal
length. The errors of such tracks hang together along each, and simulated ones don't: what a path
could explain of them isn't parallax.

Then simulated ones, whose lens stands some millimetres ahead of the pivot, as no head is exact.

Photographs: Debian's opencv-doc (`aloeL.jpg`), visp-images-data (Solvay conference, 1927) and
scikit-image (`retina.jpg`).
"""

import math
import sys
from dataclasses import dataclass, field
from itertools import product
from pathlib import Path

import cv2
import numpy as np
import skimage.data

from aperture.geometry.grid import Grid
from aperture.geometry.rotation import rotation_from_angles
from aperture.lens.lens import Lens
from aperture.path.solve import solve
from bench.filmed_paths import FRAMES, as_document, followed
from bench.means import through_a_movie
from tests.moving import GATE_MM, document, scene
from tests.moving import LENS as SIMULATED

SIZE, FOCAL_MM, REPETITIONS = (960, 540), 22.5, 4
GRID, LENS = Grid.from_gate(*SIZE, *GATE_MM), Lens(FOCAL_MM)
FOCAL_PX = FOCAL_MM / GATE_MM[0] * SIZE[0]
# How many times larger than they are photographs are shown.
PHOTOGRAPHS = {
    Path("/usr/share/doc/opencv-doc/examples/data/aloeL.jpg"): 1.3,
    Path("/usr/share/visp-images-data/ViSP-images/Solvay")
    / "Solvay_conference_1927_Version2_2126x1463.jpg": 1.0,
    Path(skimage.data.__file__).parent / "retina.jpg": 1.2,
}
MOST_PAN = math.radians(15)
ARMS_MM = (0, 2.5, 5, 10, 20)
# Shares of the errors' variance that stay from frame to frame, by how much.
DRIFTS = ((0.0, 0.0), (0.9, 0.9))


def film(path: Path, larger: float, rng: np.random.Generator) -> list[np.ndarray]:
    """Frames (H, W) uint8 of a pan from one side of a photograph to the other."""
    photograph = cv2.imread(str(path), cv2.IMREAD_GRAYSCALE).astype(np.float32)
    height, width = photograph.shape
    focal = FOCAL_PX / larger

    def room(of_photograph: float, of_view: float) -> float:
        return math.atan(of_photograph / 2 / focal) - math.atan(of_view / 2 / FOCAL_PX)

    pan = min(0.9 * room(width, SIZE[0]), MOST_PAN) * rng.choice([-1, 1])
    tilt, phase = 0.3 * max(room(height, SIZE[1]), 0), rng.uniform(0, 6)
    x, y = np.meshgrid(np.arange(SIZE[0]) + 0.5, np.arange(SIZE[1]) + 0.5)
    rays = LENS.rays(GRID.to_mm(np.column_stack([x.ravel(), y.ravel()])))
    frames = []
    for s in np.linspace(-1, 1, FRAMES):
        angles = pan * s, tilt * math.sin(3 * s + phase), 0.01 * math.sin(2 * s + phase)
        seen = rays @ rotation_from_angles(*angles).T
        at = focal * seen[:, :2] / -seen[:, 2:] * [1, -1] + [width / 2 - 0.5, height / 2 - 0.5]
        across, down = at.T.reshape(2, SIZE[1], SIZE[0]).astype(np.float32)
        picture = cv2.remap(photograph, across, down, cv2.INTER_CUBIC, None, cv2.BORDER_REFLECT)
        noisy = picture + rng.normal(0, 2, picture.shape)
        frames.append(np.clip(np.round(noisy), 0, 255).astype(np.uint8))
    return frames


@dataclass
class Told:
    """Of solved pans how many are nodal, and their focal lengths' errors, over them and over their
    ±."""

    nodal: int = 0
    off: list[float] = field(default_factory=list)
    over: list[float] = field(default_factory=list)

    def add(self, name: str, data: dict, focal_mm: float) -> None:
        """One more, solved here."""
        fit = solve(data).document
        if not fit["ok"]:
            print(f"  {name}: {fit['problem']}")
            return
        self.nodal += fit["motion"] == "nodal"
        off = fit["camera"]["focal_mm"] - focal_mm
        self.off.append(off / focal_mm)
        self.over.append(off / fit["plus_minus"]["focal_mm"])

    def __str__(self) -> str:
        off, over = (np.sqrt(np.mean(np.square(own))) for own in (self.off, self.over))
        return (
            f"{self.nodal} of {len(self.off)} are nodal, focal {100 * off:.3f} %, error/±"
            f" {over:.2f} (at most 1.3)"
        )


def report(repetitions: int = REPETITIONS) -> None:
    """Print how many pans were known, and how far off their focal lengths are."""
    print(
        f"\nPans over {len(PHOTOGRAPHS)} photographs, {SIZE[0]} × {SIZE[1]}, {FRAMES} frames, the"
        " focal length unknown:"
    )
    for name, quality in (("clean", None), ("H.264, CRF 18", 18), ("H.264, CRF 26", 26)):
        told = Told()
        for number, (path, larger) in enumerate(PHOTOGRAPHS.items()):
            for seed in range(repetitions):
                frames = film(path, larger, np.random.default_rng([seed, number]))
                tracks = followed(through_a_movie(frames, quality) if quality else frames)
                told.add(f"{name}, {path.stem} {seed}", as_document(tracks, SIZE), FOCAL_MM)
        print(f"  {name}: {told}", flush=True)
    print("\nSimulated pans, σ 0.2 px, the lens ahead of the pivot:")
    for arm, drift in product(ARMS_MM, DRIFTS):
        told = Told()
        for seed in range(repetitions):
            made = scene("pivot", count=200, seed=seed, arm=arm / 1000)
            data = document(made, seed=seed, sliding=0.03, drift=drift)
            told.add(f"{arm} mm {seed}", data, SIMULATED.focal_mm)
        print(f"  {arm} mm, {drift[0]:.0%} of the variance stays: {told}", flush=True)


if __name__ == "__main__":
    report(int(sys.argv[1]) if len(sys.argv) > 1 else REPETITIONS)
