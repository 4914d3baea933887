"""Meshes from OBJ, PLY, STL and glTF, by trimesh; what is wrong with them said in sentences.

None but glTF says its unit (glTF 2.0, ISO/IEC 12113:2022, clause 3.4: metres), so it has to be asked.
"""

import io
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.formats.axes import from_y_up
from aperture.units import METRES

ENDINGS = ("obj", "ply", "stl", "glb", "gltf")
MOST_TRIANGLES = 5_000_000
SECONDS_PER_MB = (
    0.25  # to read one and keep it, on two cores of a usual machine: `python -m bench.meshes`
)


@dataclass(frozen=True, eq=False)
class Mesh:
    """vertices (V, 3) in the unit box that stands on the floor; triangles (T, 3); size and base in metres; remarks: what is odd about it."""

    vertices: Array
    triangles: Array
    size: tuple[float, float, float]
    base: tuple[float, float, float]
    remarks: tuple[str, ...]


def read(data: bytes, ending: str, unit: str = "m", up_axis: str = "Y") -> Mesh:
    """A file's meshes as one. Raises Problem where there is nothing to show."""
    import trimesh

    ending = ending.lower().lstrip(".")
    if ending not in ENDINGS:
        raise Problem(
            f"“{ending}” files can't be used here. "
            f"Bring {', '.join(name.upper() for name in ENDINGS)}.",
            "file",
        )
    try:
        loaded = trimesh.load(
            io.BytesIO(data), file_type=ending, force="mesh", process=False, skip_materials=True
        )
        vertices, triangles = (
            np.asarray(loaded.vertices, float),
            np.asarray(getattr(loaded, "faces", np.zeros((0, 3))), int),
        )
    except Exception as error:  # trimesh raises whatever its parsers raise
        raise Problem(
            f"This {ending.upper()} file can't be read: it is damaged, or of another kind than its name says.",
            "file",
        ) from error
    if not len(triangles):
        raise Problem(
            "This file has no faces: a cloud of points or lines can't stand in for anything.",
            "file",
        )
    if len(triangles) > MOST_TRIANGLES:
        raise Problem(
            f"This mesh has {len(triangles):,} faces; up to {MOST_TRIANGLES:,} can be used. Thin it out first.",
            "file",
        )
    if triangles.min() < 0 or triangles.max() >= len(vertices):
        raise Problem(
            "This mesh can't be used: some of its faces name corners that the file doesn't have. Export it again.",
            "file",
        )
    remarks = []
    sound = np.isfinite(vertices[triangles]).all(axis=(1, 2))
    if not sound.all():
        triangles = triangles[sound]
        remarks.append(
            f"{int((~sound).sum()):,} faces with corners that are no numbers were left out."
        )
        if not len(triangles):
            raise Problem("This mesh has no vertex with finite coordinates.", "file")
    used, triangles = np.unique(triangles, return_inverse=True)
    vertices, triangles = vertices[used], triangles.reshape(-1, 3)
    if ending not in ("glb", "gltf"):
        vertices = vertices * METRES[unit] @ from_y_up(up_axis)
    low, high = vertices.min(axis=0), vertices.max(axis=0)
    size = np.maximum(high - low, 1e-4)
    middle = np.array([(low[0] + high[0]) / 2, low[1], (low[2] + high[2]) / 2])
    # Corners that STL and others store once a face are one corner.
    scaled = (vertices - middle) / size
    first, index = trimesh.grouping.unique_rows(scaled, digits=9)
    merged, triangles = scaled[first], index[triangles]
    triangles = triangles[
        (triangles[:, 0] != triangles[:, 1])
        & (triangles[:, 1] != triangles[:, 2])
        & (triangles[:, 2] != triangles[:, 0])
    ]
    if not len(triangles):
        raise Problem("All faces of this mesh have no area.", "file")
    edges = np.sort(triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    open_ = int(
        (np.unique(edges[:, 0] * len(merged) + edges[:, 1], return_counts=True)[1] == 1).sum()
    )
    if open_:
        remarks.append(f"It has holes: {open_:,} edges belong to one face only.")
    return Mesh(merged, triangles, tuple(size.tolist()), tuple(middle.tolist()), tuple(remarks))
