"""Meshes from OBJ, PLY, STL and glTF, by trimesh; what is wrong with them said in sentences.

None but glTF says its unit (glTF 2.0, ISO/IEC 12113:2022, clause 3.4: metres), so it has to be
asked.
"""

import io
import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from aperture import strict_json
from aperture.arrays import Array
from aperture.errors import Problem
from aperture.geometry.axes import from_y_up
from aperture.units import METRES

ENDINGS = ("obj", "ply", "stl", "glb", "gltf")
MOST_TRIANGLES = 2_000_000  # what reading them takes must stay below `fence`'s limit
MOST_BYTES = 500_000_000
SECONDS_PER_MB = (
    0.25  # to read one and keep it, on two cores of a usual machine: `python -m bench.meshes`
)


@dataclass(frozen=True, eq=False)
class Mesh:
    """vertices (V, 3) in the unit box that stands on the floor; triangles (T, 3); size and base in
    metres; remarks: what is odd about it."""

    vertices: Array
    triangles: Array
    size: tuple[float, float, float]
    base: tuple[float, float, float]
    remarks: tuple[str, ...]


def read_file(path: Path, ending: str, unit: str = "m", up_axis: str = "Y") -> Mesh:
    """As `read`, of a file that isn't too large to be looked at."""
    if path.stat().st_size > MOST_BYTES:
        raise Problem(
            f"This file has {path.stat().st_size / 1e6:.0f} MB; up to {MOST_BYTES / 1e6:.0f} MB can"
            " be read. Thin the mesh out first.",
            "file",
        )
    return read(path.read_bytes(), ending, unit, up_axis)


def _require_few(count: int) -> None:
    if count > MOST_TRIANGLES:
        raise Problem(
            f"This mesh has {count:,} faces; up to {MOST_TRIANGLES:,} can be used. Thin it out"
            " first.",
            "file",
        )


def _require_few_declared(data: bytes, ending: str) -> None:
    """Refuse a file by what it says of its own size, before it is decoded."""
    if ending == "obj":
        _require_few(data.count(b"\nf "))
    elif ending == "stl":
        # Binary STL: 80 bytes, a count, 50 bytes for each face; text otherwise.
        faces = int.from_bytes(data[80:84], "little")
        binary = len(data) == 84 + 50 * faces
        _require_few(faces if binary else data.count(b"endfacet"))
    elif ending == "ply":
        found = re.search(rb"element\s+face\s+(\d{1,18})", data[:100_000])
        _require_few(int(found[1]) if found else 0)
    else:
        _require_sound_gltf(data)


def _require_sound_gltf(data: bytes) -> None:
    """No accessor may hold more elements than all buffers have bytes, or than a mesh may have
    corners.

    glTF 2.0, clause 3.6.2.1: an accessor without a buffer view is filled with zeros, whatever count
    it says.
    """
    text = data
    if data[:4] == b"glTF":
        text = data[20 : 20 + int.from_bytes(data[12:16], "little")]
    try:
        document = strict_json.loads(text)
    except Problem as problem:
        raise Problem(f"This glTF can't be read: {problem.sentence}", "file") from None
    accessors = document.get("accessors", []) if isinstance(document, dict) else []
    for accessor in accessors if isinstance(accessors, list) else []:
        count = accessor.get("count", 0) if isinstance(accessor, dict) else 0
        if not isinstance(count, int) or count < 0:
            raise Problem("This glTF can't be used: an accessor has no count.", "file")
        _require_few(count // 3)


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
    _require_few_declared(data, ending)
    vertices, triangles = _loaded(data, ending)
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


def _loaded(data: bytes, ending: str) -> tuple[Array, Array]:
    """Vertices (V, 3) and triangles (T, 3) as the file has them; every triangle names vertices that
    are there."""
    import trimesh

    try:
        loaded = trimesh.load(
            io.BytesIO(data), file_type=ending, force="mesh", process=False, skip_materials=True
        )
        vertices = np.asarray(loaded.vertices, float)
        triangles = np.asarray(getattr(loaded, "faces", np.zeros((0, 3))), int)
        if vertices.shape[1:] != (3,) or (len(triangles) and triangles.shape[1:] != (3,)):
            raise ValueError("corners or faces of another number of values")
    except MemoryError:
        raise
    except Exception as error:  # trimesh raises whatever its parsers raise
        raise Problem(
            f"This {ending.upper()} file can't be read: it is damaged, or of another kind than its"
            " name says.",
            "file",
        ) from error
    if not len(triangles):
        raise Problem(
            "This file has no faces: a cloud of points or lines can't stand in for anything.",
            "file",
        )
    _require_few(len(triangles))
    if triangles.min() < 0 or triangles.max() >= len(vertices):
        raise Problem(
            "This mesh can't be used: some of its faces name corners that the file doesn't have."
            " Export it again.",
            "file",
        )
    return vertices, triangles
