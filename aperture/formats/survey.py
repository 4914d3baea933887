"""Surveyed points: CSV (name, x, y, z, ±), and the vertices of OBJ (Wavefront's published format)
and PLY (ASCII or binary) files.

Every reader gives [(name, (3,) metres, ± in metres or None)]; units and axes are asked for, no file
of these kinds says them.
"""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Sized
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.formats import delimited
from aperture.geometry.axes import from_y_up
from aperture.units import METRES, parse_length, parse_number

MOST_POINTS = 20_000
NAMES = ("name", "point", "id", "station")
SPREADS = ("±", "pm", "plus_minus", "sigma", "sd", "accuracy", "std")


def read(
    data: bytes, name: str, unit: str, up_axis: str, plus_minus_m: float | None = None
) -> list[dict[str, Any]]:
    """Points from a file's bytes or pasted text: [{"name", "world": [x, y, z] m, Y up,
    "plus_minus": m}].

    `unit`: of bare numbers, in METRES; `up_axis`: "Y" or "Z", of the file. `plus_minus_m`: for
    points that carry none; 0 where None. Raises Problem with the line that is wrong.
    """
    lower = name.lower()
    points: list[Any]
    if data[:3] == b"ply":
        points = _ply(data)
    elif lower.endswith(".obj") or data.lstrip()[:2] in (b"v ", b"v\t") or b"\nv " in data[:20000]:
        points = _obj(data)
    else:
        points = _table(data, unit)
    if not points:
        raise Problem(
            "This table has no points. Each line holds a name, x, y, z and, where known, its ±."
        )
    _require_few(points)
    scale = 1.0 if points[0][3] else METRES[unit]
    turn = from_y_up(up_axis).T
    out: list[Any] = []
    taken: set[str] = set()
    alike: Counter[str] = Counter()
    for index, (label, xyz, spread, _) in enumerate(points, 1):
        world = turn @ (np.array(xyz, float) * scale)
        if not np.isfinite(world).all() or np.abs(world).max() > 1e7:
            raise Problem(
                f"Point {index}, “{label}”: its coordinates must be finite, and within 10,000 km."
            )
        label = label[:50]  # leaves room for a number within the 60 that a name may have
        unique = label or f"P{index}"
        while unique in taken:
            alike[label] += 1
            unique = f"{label or 'P'}-{alike[label] + 1}"
        taken.add(unique)
        own = spread * scale if spread is not None else plus_minus_m or 0.0
        out.append(
            {
                "name": unique,
                "world": [round(float(v), 6) + 0.0 for v in world],
                "plus_minus": round(float(own), 6),
            }
        )
    return out


def _text(data: bytes) -> str:
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise Problem("This is not text in UTF-8, nor a binary PLY.") from None


def _require_few(points: Sized) -> None:
    if len(points) > MOST_POINTS:
        raise Problem(
            f"These are more than {MOST_POINTS} points; no more can be taken. Leave out what can't"
            " be seen."
        )


def _table(data: bytes, unit: str) -> list[tuple[str, list[float], float | None, bool]]:
    text = delimited.lines(_text(data).strip())
    first = text.readline()
    text.seek(0)
    delimiter = max(";\t,", key=first.count)
    rows: list[Any] = []
    for row in delimited.rows(csv.reader(text, delimiter=delimiter, skipinitialspace=True)):
        if any(cell.strip() for cell in row):
            _require_few(rows)  # before all of a huge file is held; its first line may be a header
            rows.append(row)
    if rows and len(rows[0]) == 1:
        rows = [row[0].split() for row in rows]
    columns = [cell.strip().lower() for cell in rows[0]] if rows else []
    header = all(axis in columns for axis in "xyz")
    where = {axis: columns.index(axis) for axis in "xyz"} if header else {"x": 1, "y": 2, "z": 3}
    label = next((columns.index(one) for one in NAMES if one in columns), None) if header else 0
    spread = next((columns.index(one) for one in SPREADS if one in columns), None) if header else 4
    out: list[Any] = []
    for number, row in enumerate(rows[1 if header else 0 :], 2 if header else 1):
        if (
            not header and len(row) == 3 and row[0].strip()[:1] in "+-.0123456789"
        ):  # three numbers and no name
            row = ["", *row]
        if len(row) <= max(where.values()):
            raise Problem(
                f"Line {number} has {len(row)} cells. It needs a name, x, y and z, and the ± where"
                " it is known."
            )
        cells = [cell.strip() for cell in row]
        xyz = [parse_length(cells[where[axis]], unit, f"Line {number}, {axis}") for axis in "xyz"]
        own = cells[spread] if spread is not None and spread < len(cells) else ""
        value = parse_length(own.lstrip("± "), unit, f"Line {number}, the ±") if own else None
        if value is not None and value < 0:
            raise Problem(f"Line {number}, the ±: it must be above zero.")
        out.append((cells[label] if label is not None else "", xyz, value, True))
    return out


def _obj(data: bytes) -> list[tuple[str, list[float], None, bool]]:
    out: list[Any] = []
    for number, line in enumerate(_text(data).splitlines(), 1):
        words = line.split()
        if words[:1] == ["v"]:
            _require_few(out)
            if len(words) < 4:
                raise Problem(f"Line {number}: a vertex needs three numbers.")
            out.append(
                (
                    f"v{len(out) + 1}",
                    [parse_number(word, f"Line {number}") for word in words[1:4]],
                    None,
                    False,
                )
            )
    return out


def _ply(data: bytes) -> list[tuple[str, Array, None, bool]]:
    """By trimesh, which reads ASCII and both binary kinds."""
    import trimesh

    if declared := re.search(rb"element\s+vertex\s+(\d{1,18})", data[:100_000]):
        _require_few(range(int(declared[1])))
    try:
        loaded = trimesh.load(io.BytesIO(data), file_type="ply", process=False)
        vertices = np.asarray(loaded.vertices, float).reshape(-1, 3)
    except MemoryError:
        raise
    except Exception as error:  # it raises all sorts of things on damaged files
        raise Problem(f"The PLY file can't be read: {str(error)[:80]}.") from error
    return [(f"v{index}", vertex, None, False) for index, vertex in enumerate(vertices, 1)]
