"""The boathouse: a room of planks by the harbour, as triangles with materials. Metres; across X, up
Y, along Z to the viewer.

The origin is the foot of the doorway's left jamb, in the back wall (z = 0). The slipway's big
opening is in the right wall.
"""

from dataclasses import dataclass

import numpy as np
import trimesh

ROOM = {"left": -2.6, "right": 5.6, "back": 0.0, "front": 9.5, "height": 3.25}
DOOR = (0.0, 0.92, 0.0, 2.03)  # left, right, bottom, top
WINDOW = (2.15, 4.05, 1.15, 2.05)
SLIPWAY = (
    1.2,
    8.2,
    0.0,
    2.75,
)  # nearest the back, nearest the front, bottom, top, in the right wall
BENCH = {"left": 2.0, "right": 4.85, "front": 0.78, "height": 0.92}


@dataclass(frozen=True, eq=False)
class Place:
    """What is photographed: triangles with a material each, the inside of the room, and the
    openings through which daylight falls in.

    openings: (low corner, high corner, outward normal, strength). lamp: where the middle of what is
    made of "glass" is, which glows while it is lit; None where there is none."""

    mesh: trimesh.Trimesh
    materials: np.ndarray
    room: dict
    openings: tuple
    lamp: tuple[float, float, float] | None = None


def opening(axis, at, span, strength=1.0, outward=1):
    """An opening in a wall perpendicular to `axis` at `at`; span: (low, high, bottom, top)."""
    low, high, out = np.zeros(3), np.zeros(3), np.zeros(3)
    low[axis] = high[axis] = at
    low[2 - axis], high[2 - axis], low[1], high[1] = span
    out[axis] = outward
    return low, high, out, strength


@dataclass(frozen=True)
class Material:
    """colour: linear reflectance. Planks of `width` run along `run` and are laid side by side along
    `lay` (axis indices); 0: no planks."""

    colour: tuple[float, float, float]
    run: int = 0
    lay: int = 1
    width: float = 0.0
    contrast: float = 0.22


MATERIALS = {
    "floor": Material((0.150, 0.108, 0.074), 2, 0, 0.235, 0.34),
    "back wall": Material((0.165, 0.205, 0.222), 0, 1, 0.205, 0.20),
    "side wall": Material((0.300, 0.300, 0.275), 2, 1, 0.205, 0.18),
    "roof": Material((0.110, 0.082, 0.060), 0, 2, 0.26, 0.25),
    "beam": Material((0.085, 0.062, 0.045), 0, 1, 0.5, 0.30),
    "post": Material((0.085, 0.062, 0.045), 1, 0, 0.5, 0.30),
    "frame": Material((0.060, 0.045, 0.035), 1, 0, 0.5, 0.2),
    "bench": Material((0.205, 0.132, 0.078), 0, 1, 0.155, 0.32),
    "bench top": Material((0.260, 0.180, 0.112), 0, 2, 0.195, 0.30),
    "crate": Material((0.330, 0.232, 0.135), 0, 1, 0.14, 0.26),
    "crate side": Material((0.300, 0.210, 0.120), 2, 1, 0.14, 0.26),
    "iron": Material((0.045, 0.048, 0.050)),
    "buoy": Material((0.420, 0.090, 0.045), 0, 1, 0.0, 0.1),
    "rope": Material((0.330, 0.270, 0.180), 0, 1, 0.0, 0.1),
    "cloth": Material((0.110, 0.190, 0.210), 0, 1, 0.0, 0.1),
    "stone": Material((0.245, 0.235, 0.215), 0, 1, 0.34, 0.16),
    "stone side": Material((0.235, 0.225, 0.205), 2, 1, 0.34, 0.16),
    "flags": Material((0.150, 0.145, 0.140), 2, 0, 0.52, 0.22),
    "lime": Material((0.420, 0.405, 0.370), 0, 1, 0.0, 0.05),
    "glass": Material((0.200, 0.235, 0.215)),
}
NAMES = list(MATERIALS)


class Builder:
    """Collects meshes with their materials."""

    def __init__(self):
        self.meshes, self.materials = [], []

    def add(self, mesh, material):
        """Any trimesh in one material."""
        self.meshes.append(mesh)
        self.materials.append(np.full(len(mesh.faces), NAMES.index(material)))

    def block(self, low, high, material, end_material=None):
        """An axis-aligned box from corner to corner; faces across X may have a material of their
        own."""
        low, high = np.array(low, float), np.array(high, float)
        mesh = trimesh.creation.box(extents=high - low)
        mesh.apply_translation((low + high) / 2)
        ids = np.full(12, NAMES.index(material))
        if end_material:
            ids[np.abs(mesh.face_normals[:, 0]) > 0.5] = NAMES.index(end_material)
        self.meshes.append(mesh)
        self.materials.append(ids)

    def wall_with_holes(self, axis, at, thick, span, holes, material):
        """A wall perpendicular to `axis` from `at` to `at + thick`; span and holes are (low, high,
        bottom, top)."""
        lows = sorted(
            {span[0], span[1], *(hole[0] for hole in holes), *(hole[1] for hole in holes)}
        )
        ups = sorted({span[2], span[3], *(hole[2] for hole in holes), *(hole[3] for hole in holes)})
        for a, b in zip(lows, lows[1:]):
            for c, d in zip(ups, ups[1:]):
                if any(h[0] <= a and b <= h[1] and h[2] <= c and d <= h[3] for h in holes):
                    continue
                low, high = [0.0, c, 0.0], [0.0, d, 0.0]
                low[axis], high[axis] = sorted((at, at + thick))
                low[2 - axis], high[2 - axis] = a, b
                self.block(low, high, material)

    def finish(self):
        """The whole as one trimesh, and (T,) material indices."""
        return trimesh.util.concatenate(self.meshes), np.concatenate(self.materials)


OPENINGS = (
    opening(2, -0.141, DOOR, outward=-1),
    opening(2, -0.141, WINDOW, outward=-1),
    opening(0, ROOM["right"] + 0.141, SLIPWAY, 0.42),
)


def build() -> Place:
    """The boathouse."""
    b = Builder()
    furnish(b)
    return Place(*b.finish(), ROOM, OPENINGS)


def furnish(b: Builder) -> None:
    """The room and what stands in it."""
    room = ROOM
    left, right, front, height = room["left"], room["right"], room["front"], room["height"]
    b.block([left, -0.1, -0.2], [right, 0, front], "floor")
    b.wall_with_holes(2, 0.0, -0.14, (left, right, 0, height), [DOOR, WINDOW], "back wall")
    b.block([left - 0.14, 0, -0.14], [left, height, front], "side wall")
    b.wall_with_holes(0, right, 0.14, (-0.14, front, 0, height), [SLIPWAY], "side wall")
    b.block([left, height, -0.14], [right, height + 0.1, front], "roof")
    b.block([left, 0, front], [right, height, front + 0.14], "back wall")
    for z in np.arange(0.55, front, 1.45):
        b.block([left, 2.88, z], [right, 3.13, z + 0.19], "beam")
    for z in np.arange(0.55, front, 2.9):
        b.block([left, 0, z], [left + 0.16, 2.88, z + 0.19], "post")
    _frame(b, DOOR, 0.085, sill=False)
    _frame(b, WINDOW, 0.075, sill=True)
    b.block(
        [(WINDOW[0] + WINDOW[1]) / 2 - 0.02, WINDOW[2], -0.09],
        [(WINDOW[0] + WINDOW[1]) / 2 + 0.02, WINDOW[3], -0.05],
        "frame",
    )
    bench = BENCH
    b.block(
        [bench["left"], bench["height"] - 0.07, 0.0],
        [bench["right"], bench["height"], bench["front"]],
        "bench top",
    )
    b.block(
        [bench["left"] + 0.06, 0.06, 0.06],
        [bench["right"] - 0.06, bench["height"] - 0.07, bench["front"] - 0.06],
        "bench",
    )
    b.block([-1.75, 0, 0.55], [-0.95, 0.55, 1.20], "crate", "crate side")
    b.block([-1.62, 0.55, 0.62], [-1.08, 0.98, 1.10], "crate", "crate side")
    b.block([-2.30, 0, 3.4], [-1.60, 0.42, 4.3], "crate", "crate side")
    barrel = trimesh.creation.cylinder(radius=0.29, height=0.86, sections=64)
    barrel.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
    barrel.apply_translation([1.45, 0.43, 0.42])
    b.add(barrel, "iron")
    for x, y, z, radius, material in (
        (2.45, 1.08, 0.42, 0.16, "buoy"),
        (-1.9, 0.60, 3.8, 0.18, "buoy"),
    ):
        ball = trimesh.creation.icosphere(subdivisions=4, radius=radius)
        ball.apply_translation([x, y, z])
        b.add(ball, material)
    coil = trimesh.creation.torus(0.19, 0.035, major_sections=48, minor_sections=16)
    coil.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
    for index in range(3):
        ring = coil.copy()
        ring.apply_translation([3.35 + 0.02 * index, bench["height"] + 0.035 + 0.062 * index, 0.40])
        b.add(ring, "rope")
    b.block(
        [4.05, bench["height"], 0.20], [4.55, bench["height"] + 0.30, 0.52], "crate", "crate side"
    )
    # Oars leaning on the left wall, and a lantern on a hook.
    for z in (2.0, 2.22):
        oar = trimesh.creation.cylinder(
            radius=0.024, segment=[[left + 0.75, 0.0, z], [left + 0.05, 2.5, z]], sections=24
        )
        b.add(oar, "crate")
    lantern = trimesh.creation.cylinder(radius=0.085, height=0.24, sections=40)
    lantern.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
    lantern.apply_translation([1.52, 2.22, 2.1])
    b.add(lantern, "iron")
    b.add(
        trimesh.creation.cylinder(
            radius=0.006, segment=[[1.52, 2.34, 2.1], [1.52, 2.88, 2.1]], sections=12
        ),
        "iron",
    )


def _frame(b, hole, wide, sill):
    left, right, bottom, top = hole
    b.block(
        [left - wide, bottom if not sill else bottom - wide, -0.02], [left, top, 0.035], "frame"
    )
    b.block(
        [right, bottom if not sill else bottom - wide, -0.02], [right + wide, top, 0.035], "frame"
    )
    b.block([left - wide, top, -0.02], [right + wide, top + wide, 0.035], "frame")
    if sill:
        b.block([left, bottom - wide, -0.02], [right, bottom, 0.06], "frame")
