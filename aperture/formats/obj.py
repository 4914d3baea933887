"""Wavefront OBJ, the plain text form of a mesh: polygons, an object a stand-in."""

from __future__ import annotations

import io
import re
from pathlib import Path

from aperture.arrays import Array
from aperture.geometry.axes import from_y_up
from aperture.scene.stand_in import StandIn
from aperture.units import METRES


def write(path: Path, stand_ins: dict[str, StandIn], unit: str = "m", up_axis: str = "Y") -> None:
    """Write stand-ins in `unit`. OBJ itself says neither unit nor up axis; a comment does."""
    lines, first = (
        [
            f"# Accurate Aperture: lengths in {unit}, {up_axis} up, {len(stand_ins)}"
            f" {'stand-in' if len(stand_ins) == 1 else 'stand-ins'}"
        ],
        1,
    )
    for label, item in stand_ins.items():
        lines.append(f"o {one_word(label)}")
        lines += [
            "v {:.9g} {:.9g} {:.9g}".format(*(vertex / METRES[unit]))
            for vertex in item.vertices() @ from_y_up(up_axis).T
        ]
        lines += [
            "f " + " ".join(str(index + first) for index in face) for face in item.solid.faces
        ]
        first += len(item.solid.vertices)
    with open(path, "w", encoding="utf-8") as file:
        file.write("\n".join(lines) + "\n")


def one_word(name: str) -> str:
    """A name that a line of OBJ or MTL can hold: what separates words or ends a line becomes an
    underscore."""
    return re.sub(r"[\s\x00-\x1f\x7f]+", "_", name)


def textured(
    name: str,
    points: Array,
    at: Array,
    triangles: Array,
    picture: Array,
    unit: str = "m",
    up_axis: str = "Y",
) -> dict[str, bytes]:
    """One mesh that wears a picture, as the bytes of its files by ending: obj, mtl, png.

    points (V, 3) metres; at (V, 2) texture coordinates, right and up from 0 to 1; triangles (T, 3);
    picture (h, w, 4) 8-bit, whose alpha says where the mesh has no picture. `name` is that of the
    files.
    """
    from PIL import Image

    png = io.BytesIO()
    Image.fromarray(picture, "RGBA").save(png, "PNG", compress_level=4)
    lines = [
        f"# Accurate Aperture: lengths in {unit}, {up_axis} up",
        f"mtllib {one_word(name)}.mtl",
        f"o {one_word(name)}",
        "usemtl plate",
    ]
    lines += [
        "v {:.7g} {:.7g} {:.7g}".format(*point)
        for point in points @ from_y_up(up_axis).T / METRES[unit]
    ]
    lines += ["vt {:.7f} {:.7f}".format(*place) for place in at]
    lines += [
        "f " + " ".join(f"{index}/{index}" for index in triangle) for triangle in triangles + 1
    ]
    mtl = (
        f"newmtl plate\nKa 0 0 0\nKd 1 1 1\nKs 0 0 0\nillum 0\nmap_Kd {one_word(name)}.png\nmap_d"
        f" -imfchan m {one_word(name)}.png\n"
    )
    return {"obj": ("\n".join(lines) + "\n").encode(), "mtl": mtl.encode(), "png": png.getvalue()}
