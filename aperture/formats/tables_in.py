"""A camera per frame of plain text tables: columns named in the first line, or as a recipe has
them.

The conventions that no table says (order of rotations, handedness, unit, up axis, what is added to
the frames) are those of the recipe. Delimiters are found: tabs, semicolons, commas or spaces.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from scipy.spatial.transform import Rotation

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.formats import delimited, table
from aperture.formats.recipe import AIMED, COLUMNS, POSE, Recipe
from aperture.moves.hierarchy import look_at
from aperture.moves.keys import between, rate_of
from aperture.moves.move import MOST_FRAMES, NO_DISTORTION
from aperture.moves.source import Seen
from aperture.units import METRES

KNOWN = (*COLUMNS, *AIMED, *table.COLUMNS)
PLACE, TURNS, AIM = POSE[:3], POSE[3:], ("aim_x", "aim_y", "aim_z")
BENT = ("k1", "k2", "k3", "p1", "p2")


class TableSource:
    """A table as a `Source`: one camera, and, where it has target columns, what it looks at.

    Parameters
    ----------
    data : bytes
        UTF-8.
    recipe : Recipe
        The conventions of who wrote it.
    """

    declares: frozenset[str] = frozenset()
    notes: tuple[str, ...] = ()

    def __init__(self, data: bytes, recipe: Recipe) -> None:
        self.names, self.cameras = ["camera"], [0]
        self.parents: list[int | None] = [None]
        columns, rows = _rows(data, recipe)
        values = dict(zip(columns, rows.T))
        ours = set(table.MATRIX) <= set(
            columns
        )  # the table that this program writes has one convention
        recipe = Recipe(frame_offset=recipe.frame_offset) if ours else recipe
        self.metres, self.up_axis = METRES[recipe.unit] / recipe.scale, recipe.up_axis
        self._values = values
        self._poses = _matrices(values) if ours else _poses(values, recipe)
        self._count_frames(values, recipe)

    def _count_frames(self, values: dict[str, Array], recipe: Recipe) -> None:
        times, frames = values.get("time"), values.get("frame")
        self.rate = rate_of(times) if times is not None else None
        if times is not None and (np.diff(times) <= 0).any():
            raise Problem("The times in this table don't increase.")
        self.first: int | None = None
        if frames is None:
            if times is None:
                raise Problem("This table has neither frames nor times: name a column “frame”.")
            self._keys = times
        else:
            whole = np.round(frames)
            if np.abs(frames - whole).max() > 1e-6:
                raise Problem("A frame in this table isn't a whole number.")
            steps = np.diff(whole)
            if (steps <= 0).any():
                row = int(np.argmax(steps <= 0)) + 1
                twice = "comes twice" if steps[row - 1] == 0 else "comes after a later one"
                raise Problem(f"Frame {whole[row]:.0f} {twice} in this table.")
            self.first = int(whole[0]) - recipe.frame_offset
            missing = int((steps - 1).sum())
            if missing:
                self.notes = (f"{missing} frames that the table leaves out were interpolated.",)
            if self.rate is not None:
                self.declares = frozenset({"rate"})
            # Without times a frame is a second of the file's clock: nothing says how long it takes.
            self._keys = (whole - whole[0]) / float(self.rate or 1)
        self.span = (float(self._keys[0]), float(self._keys[-1]))

    def local(self, node: int, seconds: Array) -> Array:
        """(T, 4, 4) of the rows, those between them interpolated."""
        return between(self._keys, self._poses, seconds)

    def seen(self, node: int, seconds: Array) -> Seen:
        """From focal length and gate, or from the angles of view; else unknown."""
        values = self._values

        def column(name: str) -> Array | None:
            if name not in values:
                return None
            return np.interp(seconds, self._keys, values[name])

        focal = column("focal_mm")
        size = [
            one for name in ("gate_width_mm", "gate_height_mm") if (one := column(name)) is not None
        ]
        view = [one for name in ("view_h_deg", "view_v_deg") if (one := column(name)) is not None]
        shift, bent = np.zeros(2), NO_DISTORTION
        if all(name in values for name in BENT):
            bent = tuple(float(values[name][0]) for name in BENT)
        if focal is not None and len(size) == 2:
            squeeze = values.get("squeeze", np.ones(1))[0]
            half = np.stack([size[0] * squeeze, size[1]], axis=1) / 2 / focal[:, None]
            shift = self._shift(size)
        elif len(view) == 2 and not any(bent):
            half = np.tan(np.radians(np.stack(view, axis=1)) / 2)
        else:
            half = np.full((len(seconds), 2), np.nan)
        unknown = np.full(len(seconds), np.nan)
        if not (half[np.isfinite(half)] > 0).all():
            raise Problem("A focal length, gate or angle of view in this table is none.")
        return Seen(half, unknown if focal is None else focal, shift, bent)

    def _shift(self, size: list[Array]) -> Array:
        values = self._values
        if "centre_x_mm" in values and "centre_y_mm" in values:
            return np.array(
                [
                    -2 * values["centre_x_mm"][0] / size[0][0],
                    -2 * values["centre_y_mm"][0] / size[1][0],
                ]
            )
        if all(name in values for name in ("principal_x_px", "width_px", "height_px")):
            x, y = values["principal_x_px"][0], values["principal_y_px"][0]
            return np.array([1 - 2 * x / values["width_px"][0], 2 * y / values["height_px"][0] - 1])
        return np.zeros(2)


def _matrices(values: dict[str, Array]) -> Array:
    """(K, 4, 4) of the columns m00 to m33."""
    poses = np.stack([values[name] for name in table.MATRIX], axis=1).reshape(-1, 4, 4)
    turns = poses[:, :3, :3]
    if np.abs(turns @ turns.transpose(0, 2, 1) - np.eye(3)).max() > 1e-6:
        raise Problem("A matrix in this table isn't that of a place and a turn.")
    return poses


def _poses(values: dict[str, Array], recipe: Recipe) -> Array:
    """(K, 4, 4) in the table's own world, unit and up axis, made right-handed."""
    names = set(values)
    if set(PLACE) - names or (set(TURNS) - names and set(AIM) - names):
        raise Problem(
            "This table has no camera: it needs tx, ty, tz, and rx, ry, rz or aim_x, aim_y, "
            "aim_z. Name the columns "
            "in its first line, or choose a recipe that does."
        )
    places = np.stack([values[name] for name in PLACE], axis=1)
    mirror = np.eye(3)
    if recipe.handedness == "left":
        mirror = np.diag([1.0, -1, 1]) if recipe.up_axis == "Z" else np.diag([1.0, 1, -1])
    poses = np.tile(np.eye(4), (len(places), 1, 1))
    poses[:, :3, 3] = places @ mirror
    if set(TURNS) <= names:
        order = recipe.rotation_order
        turns = np.stack([values["r" + axis.lower()] for axis in order], axis=1)
        rotations = Rotation.from_euler(order, turns, degrees=True).as_matrix()
        if recipe.handedness == "left":
            rotations = mirror @ rotations @ np.diag([1.0, 1, -1])
    else:
        turn = replace(recipe, handedness="right").turn  # of its up axis only
        aims = np.stack([values[name] for name in AIM], axis=1) @ mirror
        roll = np.radians(values.get("roll", np.zeros(len(aims))))
        rotations = turn @ look_at(poses[:, :3, 3] @ turn, aims @ turn, roll)
    poses[:, :3, :3] = rotations
    return poses


def _rows(data: bytes, recipe: Recipe) -> tuple[tuple[str, ...], Array]:
    """The columns, and their numbers (R, C). Raises Problem, naming the line."""
    columns, rows = None, []
    for number, line in enumerate(delimited.lines(_text(data)), 1):
        cells = delimited.cells(line)
        if not cells:
            continue
        if columns is None:
            columns = recipe.columns
            if any(_number(cell) is None for cell in cells):
                columns = _named(cells)
                continue
        values = [_number(cell) for cell in cells]
        if len(values) != len(columns) or None in values:
            raise Problem(
                f"Line {number} hasn't a number in each of its {len(columns)} columns: "
                f"{', '.join(columns)}."
            )
        rows.append(values)
        if len(rows) > MOST_FRAMES:
            raise Problem(f"This table has more than {MOST_FRAMES:,} lines.")
    if not rows or columns is None:
        raise Problem("This table has no frames.")
    return columns, np.array(rows, float)


def _named(cells: list[str]) -> tuple[str, ...]:
    names = tuple(cell.strip().lower() for cell in cells)
    unknown = [name for name in names if name not in KNOWN]
    if unknown:
        raise Problem(
            f"The first line has a column “{unknown[0][:30]}”. The names are: "
            f"{', '.join((*COLUMNS, *AIMED))}."
        )
    if len(set(names)) < len(names):
        raise Problem("A column's name comes twice in the first line.")
    return names


def preview(data: bytes, most: int = 6) -> tuple[list[list[str]], list[str]]:
    """Return the first lines of a table, and what its columns seem to be.

    Parameters
    ----------
    data : bytes
        UTF-8.
    most : int
        Lines.

    Returns
    -------
    lines : list of list of str
    columns : list of str
        Of each cell of the widest line a name of KNOWN, or empty where nothing tells it.

    Raises
    ------
    Problem
        If it isn't text, or has no lines.
    """
    lines: list[list[str]] = []
    for line in delimited.lines(_text(data)):
        if cells := delimited.cells(line):
            lines.append([cell[:40] for cell in cells])
        if len(lines) == most:
            break
    if not lines:
        raise Problem("This table has no frames.")
    named = all(_number(cell) is None for cell in lines[0])
    columns = [_guessed(cell) if named else "" for cell in lines[0]]
    columns += [""] * (max(map(len, lines)) - len(columns))
    # Each name once: of two that seem alike the artist says which it is.
    return lines, [name if columns.index(name) == i else "" for i, name in enumerate(columns)]


def assigned(data: bytes, columns: Sequence[str]) -> bytes:
    """Return a table with named columns, those without a name left out.

    Parameters
    ----------
    data : bytes
        A table whose first line may hold other names.
    columns : sequence of str
        Names of KNOWN, or empty.

    Raises
    ------
    Problem
        If none is named, a name comes twice, or a line is shorter.
    """
    kept = [(index, name) for index, name in enumerate(columns) if name]
    names = [name for _, name in kept]
    if not names or set(names) - set(KNOWN):
        raise Problem("Say of each column what it is; at least frame or time, and the position.")
    if len(set(names)) < len(names):
        twice = next(name for name in names if names.count(name) > 1)
        raise Problem(f"Two columns are called “{twice}”: each stands in a table once.")
    out, first = [",".join(names)], True
    for number, line in enumerate(delimited.lines(_text(data)), 1):
        cells = delimited.cells(line)
        if not cells:
            continue
        is_header = first and any(_number(cell) is None for cell in cells)
        first = False
        if is_header:
            continue
        if len(cells) < len(columns):
            raise Problem(f"Line {number} has {len(cells)} cells, and not {len(columns)}.")
        out.append(",".join(cells[index].replace(",", ".") for index, _ in kept))
    return ("\n".join(out) + "\n").encode()


# Names that others give to the columns, without their marks; common practice, no source.
_ALIKE = {
    "f": "frame",
    "frames": "frame",
    "t": "time",
    "seconds": "time",
    "x": "tx",
    "y": "ty",
    "z": "tz",
    "posx": "tx",
    "posy": "ty",
    "posz": "tz",
    "translatex": "tx",
    "translatey": "ty",
    "translatez": "tz",
    "rotx": "rx",
    "roty": "ry",
    "rotz": "rz",
    "rotatex": "rx",
    "rotatey": "ry",
    "rotatez": "rz",
    "targetx": "aim_x",
    "targety": "aim_y",
    "targetz": "aim_z",
    "focal": "focal_mm",
    "focallength": "focal_mm",
    "hfov": "view_h_deg",
    "vfov": "view_v_deg",
}


def _guessed(cell: str) -> str:
    name = cell.strip().lower()
    plain = "".join(letter for letter in name if letter.isalnum())
    return name if name in KNOWN else _ALIKE.get(plain, "")


def _text(data: bytes) -> str:
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise Problem("This table isn't text in UTF-8: save it as CSV once more.") from None


def _number(cell: str) -> float | None:
    try:
        value = float(cell.replace(",", "."))
    except ValueError:
        return None
    return value if math.isfinite(value) and abs(value) < 1e15 else None
