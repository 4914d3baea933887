"""A box that stands on the floor: the first stand-in."""

from dataclasses import dataclass

import numpy as np

from aperture.errors import Problem

# Corner signs: the floor's four, anticlockwise seen from above, then the four above them.
_CORNERS = np.array([[-1, 0, 1], [1, 0, 1], [1, 0, -1], [-1, 0, -1], [-1, 1, 1], [1, 1, 1], [1, 1, -1], [-1, 1, -1]], float)
FACES = np.array([[3, 2, 1, 0], [4, 5, 6, 7], [0, 1, 5, 4], [1, 2, 6, 5], [2, 3, 7, 6], [3, 0, 4, 7]])
EDGES = np.array([[0, 1], [1, 2], [2, 3], [3, 0], [4, 5], [5, 6], [6, 7], [7, 4], [0, 4], [1, 5], [2, 6], [3, 7]])
LARGEST_M = 1e5


@dataclass(frozen=True)
class Box:
    """size: across, up, along in metres; base: (3,) metres, the middle of its underside; turn: radians about up, anticlockwise from above."""

    size: tuple[float, float, float]
    base: tuple[float, float, float] = (0.0, 0.0, 0.0)
    turn: float = 0.0

    def __post_init__(self):
        if not all(np.isfinite(v) and 1e-4 <= v <= LARGEST_M for v in self.size):
            raise Problem("A box needs a width, a height and a depth above 0.1 mm.", "size")
        if not all(np.isfinite(v) and abs(v) <= LARGEST_M for v in self.base) or not np.isfinite(self.turn):
            raise Problem("The box's place must be finite, and within 100 km.", "base")

    def corners(self) -> np.ndarray:
        """(8, 3) metres: the underside's four, then the four above them."""
        local = _CORNERS * (np.array(self.size) * [0.5, 1, 0.5])
        c, s = np.cos(self.turn), np.sin(self.turn)
        return local @ np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]]).T + self.base

    def triangles(self) -> np.ndarray:
        """(12, 3) corner indices, anticlockwise seen from outside."""
        return np.concatenate([FACES[:, [0, 1, 2]], FACES[:, [0, 2, 3]]])


def mesh_of(boxes):
    """One trimesh of all boxes; `mesh.metadata["owner"]` is (T,), the box that each triangle belongs to."""
    import trimesh

    vertices = np.concatenate([box.corners() for box in boxes])
    faces = np.concatenate([box.triangles() + 8 * index for index, box in enumerate(boxes)])
    mesh = trimesh.Trimesh(vertices, faces, process=False)
    mesh.metadata["owner"] = np.repeat(np.arange(len(boxes)), 12)
    return mesh
