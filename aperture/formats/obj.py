"""Wavefront OBJ, the plain text form of a mesh: quads, a group a box."""

from aperture.formats.axes import from_y_up
from aperture.scene.box import FACES, Box
from aperture.units import METRES


def write(path, boxes: dict[str, Box], unit: str = "m", up_axis: str = "Y") -> None:
    """Write boxes in `unit`. OBJ itself says neither unit nor up axis; a comment does."""
    lines = [f"# Accurate Aperture: lengths in {unit}, {up_axis} up, {len(boxes)} {'box' if len(boxes) == 1 else 'boxes'}"]
    for index, (label, box) in enumerate(boxes.items()):
        lines.append(f"o {label.replace(' ', '_')}")
        lines += ["v {:.9g} {:.9g} {:.9g}".format(*(corner / METRES[unit])) for corner in box.corners() @ from_y_up(up_axis).T]
        lines += ["f " + " ".join(str(int(corner) + 1 + 8 * index) for corner in face) for face in FACES]
    with open(path, "w", encoding="utf-8") as file:
        file.write("\n".join(lines) + "\n")
