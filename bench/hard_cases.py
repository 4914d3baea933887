"""Simulated photographs of the kinds that once gave a wrong camera with a small ±.

Each kind draws its cases from its own generator, so that a kind can be repeated alone. A case is
counted as wrong where a quantity of the camera lies more than 4 of its own ± from the truth: with
true ± that happens to one quantity in 16,000.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from aperture.camera import Camera
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.document import AXES, FORMAT
from aperture.match.solve import solve

SIZE = (1920, 1280)
GATE_MM = (36.0, 24.0)
SIGMA_PX = 0.5
BLUNDER_PX = 15.0
WRONG = 4.0  # of its own ±


@dataclass(frozen=True)
class Case:
    """A match document and the camera that it is of."""

    document: dict
    camera: Camera


class Scene:
    """A camera that looks at the origin, and evidence about it with Gaussian errors.

    Parameters
    ----------
    rng : numpy.random.Generator
    focal_mm : tuple of float
        Shortest and longest focal length.
    projection : str
    noise : float
        How many times as far the marks scatter as their σ says.
    """

    def __init__(self, rng, focal_mm=(18.0, 60.0), projection="rectilinear", noise=1.0):
        self.rng, self.noise = rng, noise
        self.marks, self.facts = [], []
        lens = Lens(float(np.exp(rng.uniform(*np.log(focal_mm)))), projection=projection)
        grid = Grid.from_gate(*SIZE, *GATE_MM)
        pan = rng.uniform(20, 70) * rng.choice([-1, 1])
        tilt = -rng.uniform(5, 25)
        angles = np.radians([pan, tilt, rng.uniform(-3, 3)])
        aim = Camera.at(grid, lens, [0, 0, 0], *angles).rays([rng.uniform(0.4, 0.6, 2) * SIZE])[0]
        self.camera = Camera.at(grid, lens, -aim * rng.uniform(5, 9), *angles)

    def drawn(self, points) -> list:
        """Where points of space (N, 3) were marked, px."""
        at = self.camera.project(points)
        return (at + self.rng.normal(size=at.shape) * SIGMA_PX * self.noise).tolist()

    def seen(self) -> np.ndarray:
        """A point of space (3,) within the picture."""
        reach = np.linalg.norm(self.camera.position)
        ray = self.camera.rays([self.rng.uniform(0.08, 0.92, 2) * SIZE])[0]
        return self.camera.position + ray * reach * self.rng.uniform(0.6, 1.4)

    def edges(self, count: int) -> None:
        """Edges of two points, turn by turn across, up and along."""
        while (index := len(self.marks)) < count:
            middle, axis = self.seen(), index % 3
            reach = self.rng.uniform(0.5, 1.5) * np.eye(3)[axis]
            at = self.camera.project([middle - reach, middle + reach])
            inside = np.isfinite(at).all() and (at > 0).all() and (at < SIZE).all()
            if inside and np.linalg.norm(at[1] - at[0]) > 0.15 * SIZE[0]:
                points = self.drawn([middle - reach, middle + reach])
                self.mark(f"e{index}", "edge", axis=AXES[axis], points=points)

    def mark(self, name: str, kind: str, **values) -> None:
        """Add a mark."""
        self.marks.append({"id": name, "kind": kind, "sigma_px": SIGMA_PX, **values})

    def spot(self, name: str, point, **values) -> None:
        """Add a spot where a point of space (3,) is seen."""
        self.mark(name, "spot", at=self.drawn([point])[0], **values)

    def length(self, start: str, end: str, metres: float, **values) -> None:
        """Add a length measured to 5 mm."""
        measured = float(metres + self.rng.normal() * 0.005)
        name = f"{start}-{end}"
        ends = {"from": start, "to": end}
        fact = {"id": name, "kind": "length", "metres": measured, "plus_minus": 0.005}
        self.facts.append(fact | ends | values)

    def case(self) -> Case:
        """The document of all that was added."""
        document = {
            "format": FORMAT,
            "version": 1,
            "image": dict(zip(("width", "height"), SIZE)),
            "gate": dict(zip(("width_mm", "height_mm"), GATE_MM)),
            "lens": {"projection": self.camera.lens.projection.name},
            "marks": self.marks,
            "facts": self.facts,
        }
        return Case(document, self.camera)


def chain(rng, links: int = 4) -> Case:
    """14 edges, two exactly known spots, and free spots tied to them by a chain of lengths."""
    scene = Scene(rng)
    scene.edges(14)
    known = scene.seen().round(3)
    scene.spot("s0", np.zeros(3), world=[0.0, 0.0, 0.0])
    scene.spot("s1", known, world=known.tolist())
    before = known
    for index in range(2, 2 + links):
        point = scene.seen()
        scene.spot(f"s{index}", point)
        scene.length(f"s{index - 1}", f"s{index}", np.linalg.norm(point - before))
        before = point
    return scene.case()


def plumb(rng) -> Case:
    """An exact origin, spots surveyed to 5 mm, and a plumb length from the origin to one of
    them."""
    scene = Scene(rng)
    scene.spot("origin", np.zeros(3), world=[0.0, 0.0, 0.0])
    top = np.array([0.0, 1.0, 0.0])
    for index, point in enumerate([top, *(scene.seen() for _ in range(6))]):
        measured = (point + rng.normal(size=3) * 0.005).tolist()
        scene.spot(f"s{index}", point, world=measured, world_plus_minus=0.005)
    scene.length("origin", "s0", 1.0, along="up")
    return scene.case()


def fisheye(rng) -> Case:
    """Known spots seen by a fisheye, one of them more than 90° from the axis."""
    while True:
        scene = Scene(rng, (9.0, 12.0), projection="equidistant")
        camera = scene.camera
        for index in range(int(rng.integers(5, 9))):
            point = scene.seen()
            scene.spot(f"s{index}", point, world=point.tolist())
        corner = camera.position + 6.0 * camera.rays([np.array([0.03, 0.04]) * SIZE])[0]
        if np.isfinite(corner).all() and camera.to_camera_space([corner])[0, 2] > 0:
            scene.spot("behind", corner, world=corner.tolist())
            return scene.case()


def room(rng, noise: float = 1.0) -> Case:
    """20 edges and 12 exactly known spots."""
    scene = Scene(rng, noise=noise)
    scene.edges(20)
    for index in range(12):
        point = scene.seen()
        scene.spot(f"s{index}", point, world=point.tolist())
    return scene.case()


def noisy(rng) -> Case:
    """`room` with twice the scatter that the marks' σ says."""
    return room(rng, noise=2.0)


def blundered(rng, robust: bool = False) -> Case:
    """`room` with a tenth of its marks 15 px off; `robust`: with the document asking to
    mistrust."""
    case = room(rng)
    marks = case.document["marks"]
    for index in rng.choice(len(marks), round(0.1 * len(marks)), replace=False):
        angle = rng.uniform(0, 2 * np.pi)
        way = BLUNDER_PX * np.array([np.cos(angle), np.sin(angle)])
        mark = marks[index]
        if mark["kind"] == "spot":
            mark["at"] = (np.array(mark["at"]) + way).tolist()
        else:
            end = int(rng.integers(2))
            mark["points"][end] = (np.array(mark["points"][end]) + way).tolist()
    return Case(case.document | ({"robust": True} if robust else {}), case.camera)


def scores(fit: dict, camera: Camera) -> np.ndarray:
    """(7,) errors of focal length, position, pan, tilt and roll, each over its own ±."""
    found, own = fit["camera"], fit["plus_minus"]
    focal = (found["focal_mm"] - camera.lens.focal_mm) / own["focal_mm"]
    place = (np.array(found["position_m"]) - camera.position) / own["position_m"]
    angles = zip(("pan", "tilt", "roll"), np.degrees(camera.angles))
    turned = [(found[f"{name}_deg"] - true) / own[f"{name}_deg"] for name, true in angles]
    return np.array([focal, *place, *turned])


def study(make: Callable, count: int, seed: int) -> np.ndarray:
    """(count, 7) `scores` of so many cases; NaN where no camera was found."""
    rng, out = np.random.default_rng(seed), np.full((count, 7), np.nan)
    for row in out:
        case = make(rng)
        fit = solve(case.document, explain=False).document
        if fit["ok"] and fit["determined"]["position"] == "solved":
            row[:] = scores(fit, case.camera)
    return out


def wrong(errors: np.ndarray) -> int:
    """How many cases have no camera, or one that is wrong by the module's measure."""
    return int((~(np.abs(errors) < WRONG).all(axis=1)).sum())


KINDS: dict[str, tuple[Callable, int, int]] = {
    "lengths to free spots, 2 in a chain": (lambda rng: chain(rng, 2), 80, 1),
    "lengths to free spots, 4 in a chain": (lambda rng: chain(rng, 4), 120, 2),
    "lengths to free spots, 30 in a chain": (lambda rng: chain(rng, 30), 20, 3),
    "exact origin, surveyed spots, a plumb length": (plumb, 100, 4),
    "fisheye with a spot beyond 90°": (fisheye, 60, 5),
    "honest marks": (room, 150, 6),
    "marks that scatter twice as far as they say": (noisy, 150, 7),
    "a tenth of the marks 15 px off": (blundered, 150, 8),
    "the same, mistrusting": (lambda rng: blundered(rng, robust=True), 150, 8),
}


def report() -> None:
    """Print the studies."""
    print("\nHard cases; reference: the true camera of the simulation")
    for name, (make, count, seed) in KINDS.items():
        errors = study(make, count, seed)
        inside = np.mean(np.abs(errors[np.isfinite(errors).all(axis=1)]) < 1.96)
        spread = np.nanstd(errors)
        print(
            f"  {name:45} {count:4} cases: {wrong(errors):3} wrong, "
            f"{inside:6.1%} within 95 %, errors {spread:5.2f} of their ±"
        )


if __name__ == "__main__":
    report()
