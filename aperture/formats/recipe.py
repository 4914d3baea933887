"""A receiver's conventions, kept under a name, and the plain text table of a camera per frame that
is written by them.

The world of a recipe is this project's, turned so that its up axis is up, mirrored where the
receiver is left-handed, and in the receiver's unit and scale. A left-handed world has the axis
*along* mirrored (Z where Y is up, Y where Z is), and its camera looks along its own +Z; a
right-handed one looks along −Z. Angles are those of the camera's rotation in that world, in
degrees, of the matrix product that the rotation order names: `XYZ` is Rx · Ry · Rz, acting on
columns.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from dataclasses import asdict, dataclass, fields
from fractions import Fraction
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.axes import from_y_up
from aperture.moves.hierarchy import look_at
from aperture.units import METRES

ORDERS = ("XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX")
FITS = {
    "both": "both sides, as they are",
    "width": "its width; the height by the picture’s aspect",
    "height": "its height; the width by the picture’s aspect",
}
CARRIED = ("carried", "baked")
SEPARATORS = {"comma": ",", "tab": "\t", "space": " ", "semicolon": ";"}
COLUMNS = {
    "frame": "frame number",
    "time": "seconds from the first frame",
    "tx": "position x",
    "ty": "position y",
    "tz": "position z",
    "rx": "turn about x, degrees",
    "ry": "turn about y, degrees",
    "rz": "turn about z, degrees",
    "focal_mm": "focal length, mm",
    "gate_width_mm": "gate's width, mm",
    "gate_height_mm": "gate's height, mm",
    "view_h_deg": "horizontal angle of view, degrees",
    "view_v_deg": "vertical angle of view, degrees",
    "centre_x_mm": "lens's centre right of the picture's, mm",
    "centre_y_mm": "lens's centre above the picture's, mm",
    "k1": "distortion k1",
    "k2": "distortion k2",
    "k3": "distortion k3",
    "p1": "distortion p1",
    "p2": "distortion p2",
}
# A camera may be told by what it looks at instead.
AIMED = {
    "aim_x": "position x of what it looks at",
    "aim_y": "position y of what it looks at",
    "aim_z": "position z of what it looks at",
    "roll": "turn about the lens's axis, degrees, beside a target",
}
AHEAD_M = 5.0  # how far away such a point is written
POSE = ("tx", "ty", "tz", "rx", "ry", "rz")
VIEW = ("view_h_deg", "view_v_deg")
USUAL = ("frame", *POSE, "focal_mm")
MOST_OFFSET, MOST_DIGITS, MOST_SCALE = 10_000_000, 15, 1e6


@dataclass(frozen=True)
class Recipe:
    """up_axis: Y or Z; handedness: right or left; frame_offset: what is added to the shot's frame
    numbers; scale: of all lengths. Of scene files too: fit: to which side of the gate the receiver
    fits the picture; offsets, distortion: of the lens, whether they are carried or baked
    (`prepared`).
    """

    up_axis: str = "Y"
    unit: str = "m"
    handedness: str = "right"
    rotation_order: str = "ZXY"
    frame_offset: int = 0
    scale: float = 1.0
    separator: str = "comma"
    header: bool = True
    digits: int = 6
    columns: tuple[str, ...] = USUAL
    fit: str = "both"
    offsets: str = "carried"
    distortion: str = "carried"

    def __post_init__(self) -> None:
        for name, value, allowed in (
            ("up_axis", self.up_axis, ("Y", "Z")),
            ("unit", self.unit, tuple(METRES)),
            ("handedness", self.handedness, ("right", "left")),
            ("rotation_order", self.rotation_order, ORDERS),
            ("separator", self.separator, tuple(SEPARATORS)),
            ("fit", self.fit, tuple(FITS)),
            ("offsets", self.offsets, CARRIED),
            ("distortion", self.distortion, CARRIED),
        ):
            if value not in allowed:
                raise Problem(f"“{value}” is not one of {', '.join(allowed)}.", name)
        if not self.columns or set(self.columns) - set(COLUMNS) - set(AIMED):
            names = ", ".join((*COLUMNS, *AIMED))
            raise Problem(f"A table has one column or more of these: {names}.", "columns")
        if len(set(self.columns)) < len(self.columns):
            raise Problem("A column stands in a table once.", "columns")
        if not 0 < self.digits <= MOST_DIGITS:
            raise Problem(f"Numbers have 1 to {MOST_DIGITS} digits after the point.", "digits")
        if abs(self.frame_offset) > MOST_OFFSET:
            raise Problem("The frame offset is too large.", "frame_offset")
        if not 1 / MOST_SCALE <= self.scale <= MOST_SCALE:
            raise Problem("The scale lies between a millionth and a million.", "scale")

    def to_json(self) -> dict[str, Any]:
        """As plain values."""
        return asdict(self) | {"columns": list(self.columns)}

    @classmethod
    def from_json(cls, data: Any) -> Recipe:
        """From what `to_json` gave; what is missing is as usual. Raises Problem."""
        if not isinstance(data, dict):
            raise Problem("A recipe is an object with named values.")
        kinds = {field.name: type(field.default) for field in fields(cls)}
        kept: dict[str, Any] = {}
        for name, value in data.items():
            if name not in kinds:
                continue
            if name == "columns":
                if not isinstance(value, list) or not all(isinstance(one, str) for one in value):
                    raise Problem("A recipe's columns are a list of names.", name)
                value = tuple(value)
            elif kinds[name] is float and isinstance(value, int) and not isinstance(value, bool):
                value = float(value)
            elif type(value) is not kinds[name]:
                raise Problem(f"A recipe's “{name}” is of another kind.", name)
            kept[name] = value
        return cls(**kept)

    @property
    def turn(self) -> Array:
        """(3, 3) the receiver's world from this project's, a mirror included."""
        mirror = np.eye(3)
        if self.handedness == "left":
            along = 1 if self.up_axis == "Z" else 2
            mirror[along, along] = -1
        return mirror @ from_y_up(self.up_axis)

    def pose(self, camera: Camera) -> tuple[Array, Array]:
        """(3,) position in the receiver's unit, (3, 3) rotation in its world."""
        rotation = self.turn @ camera.rotation
        if self.handedness == "left":
            rotation = rotation @ np.diag([1.0, 1, -1])
        return self.turn @ camera.position * self.per_metre, rotation

    @property
    def per_metre(self) -> float:
        """How much of the receiver's lengths a metre is."""
        return self.scale / METRES[self.unit]


def rows(cameras: Mapping[int, Camera], recipe: Recipe, rate: Fraction) -> list[list[str]]:
    """The lines of the table, without its header."""
    first = min(cameras)
    wanted = set(recipe.columns) - {"frame"}
    frames = sorted(cameras)
    positions, rotations = zip(*(recipe.pose(cameras[frame]) for frame in frames))
    angles = _steady(_angles(np.array(rotations), recipe.rotation_order))
    out = []
    for frame, position, turns in zip(frames, positions, angles):
        camera = cameras[frame]
        values: dict[str, float] = dict(zip(POSE, (*position, *turns)))
        values["time"] = float((frame - first) / rate)
        if wanted - values.keys():
            values |= _of_lens(camera)
        if wanted & set(VIEW):
            view = camera.view
            values |= zip(VIEW, np.degrees([view.horizontal, view.vertical]).tolist())
        if wanted & set(AIMED):
            values |= zip(AIMED, _aimed(camera, recipe))
        out.append(
            [
                str(frame + recipe.frame_offset)
                if name == "frame"
                else f"{values[name] + 0:.{recipe.digits}f}"
                for name in recipe.columns
            ]
        )
    return out


def write(cameras: Mapping[int, Camera], recipe: Recipe, rate: Fraction) -> str:
    """The table as text."""
    out = io.StringIO()
    writer = csv.writer(out, delimiter=SEPARATORS[recipe.separator], lineterminator="\n")
    if recipe.header:
        writer.writerow(recipe.columns)
    writer.writerows(rows(cameras, recipe, rate))
    return out.getvalue()


def _of_lens(camera: Camera) -> dict[str, float]:
    """Focal length, gate, centre and distortion, mm."""
    grid, lens = camera.grid, camera.lens
    x, y = camera.principal_point_px
    pitch = np.array(grid.gate_mm) / (grid.width, grid.height)
    values = {
        "focal_mm": lens.focal_mm,
        "gate_width_mm": grid.gate_mm[0],
        "gate_height_mm": grid.gate_mm[1],
        "centre_x_mm": (x - grid.width / 2) * pitch[0],
        "centre_y_mm": (grid.height / 2 - y) * pitch[1],
    }
    return values | dict(zip(("k1", "k2", "k3", "p1", "p2"), lens.coefficients))


def _aimed(camera: Camera, recipe: Recipe) -> list[float]:
    """A point ahead on the lens axis, in the receiver's world, and the roll beside it, degrees."""
    ahead = camera.position - AHEAD_M * camera.rotation[:, 2]
    try:
        level = look_at(camera.position[None], ahead[None])[0]
    except Problem:  # straight up or down: whatever the roll is, no target tells it
        level = camera.rotation
    x, y = (level.T @ camera.rotation)[:2, 0]
    return [*(recipe.turn @ ahead * recipe.per_metre), float(np.degrees(np.arctan2(y, x)))]


def _angles(rotations: Array, order: str) -> Array:
    """(F, 3) degrees about x, y and z of rotations (F, 3, 3)."""
    import warnings

    with warnings.catch_warnings():
        warnings.simplefilter("ignore", UserWarning)  # straight up or down one of them is free
        found = Rotation.from_matrix(rotations).as_euler(order, degrees=True)
    return found[:, [order.index(axis) for axis in "XYZ"]]


def _steady(turns: Array) -> Array:
    """The same angles (F, 3) without jumps by whole turns, as curves are edited."""
    return np.unwrap(turns, axis=0, period=360)
