"""Wavefront OBJ, the plain text form of a mesh: polygons, an object a stand-in."""

from aperture.formats.axes import from_y_up
from aperture.scene.stand_in import StandIn
from aperture.units import METRES


def write(path, stand_ins: dict[str, StandIn], unit: str = "m", up_axis: str = "Y") -> None:
    """Write stand-ins in `unit`. OBJ itself says neither unit nor up axis; a comment does."""
    lines, first = [f"# Accurate Aperture: lengths in {unit}, {up_axis} up, {len(stand_ins)} {'stand-in' if len(stand_ins) == 1 else 'stand-ins'}"], 1
    for label, item in stand_ins.items():
        lines.append(f"o {label.replace(' ', '_')}")
        lines += ["v {:.9g} {:.9g} {:.9g}".format(*(vertex / METRES[unit])) for vertex in item.vertices() @ from_y_up(up_axis).T]
        lines += ["f " + " ".join(str(index + first) for index in face) for face in item.solid.faces]
        first += len(item.solid.vertices)
    with open(path, "w", encoding="utf-8") as file:
        file.write("\n".join(lines) + "\n")
