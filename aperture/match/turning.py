"""The same match in another world: axes renamed, the world turned by a quarter, another floor.

A quarter turn takes each world axis to an axis, up to its sign, so edges and plumb lengths stay
edges and plumb lengths. All functions take a match document (or a shot's state, which has the same
parts) and return what changes of it; nothing is changed in place.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.geometry.rotation import angles_from_rotation, rotation_from_angles
from aperture.match.facts import AXES


def quarter_turn(axis: str, quarters: int = 1) -> Array:
    """(3, 3) rotation by quarter turns about a world axis, anticlockwise seen from its tip."""
    index = AXES.index(axis)
    after, then = (index + 1) % 3, (index + 2) % 3
    turn = np.zeros((3, 3))
    turn[index, index] = 1
    turn[then, after], turn[after, then] = 1, -1
    return np.round(np.linalg.matrix_power(turn, quarters % 4))


def swapped(marks: list[dict[str, Any]], first: str, second: str) -> list[dict[str, Any]]:
    """Marks whose edges of two axes have changed places; nothing else moves."""
    other = {first: second, second: first}
    return [
        mark | {"axis": other.get(mark["axis"], mark["axis"])} if mark["kind"] == "edge" else mark
        for mark in marks
    ]


def turned(document: dict[str, Any], turn: Any, shift: Any = (0.0, 0.0, 0.0)) -> dict[str, Any]:
    """Marks, facts, planes and survey after the world is turned, then shifted.

    Parameters
    ----------
    document : dict
    turn : ndarray, shape (3, 3)
        A product of `quarter_turn`.
    shift : sequence of 3 floats, metres

    Raises
    ------
    Problem
        Where a known pan, tilt or roll would no longer be one, or the camera's height no longer a
        height: those facts belong to the floor as it was.
    """
    turn, shift = np.asarray(turn, float), np.asarray(shift, float)
    upright = abs(turn[1, 1] - 1) < 1e-9
    return {
        "marks": [_turned_mark(mark, turn, shift) for mark in document.get("marks", ())],
        "facts": [_turned_fact(fact, turn, shift, upright) for fact in document.get("facts", ())],
        "planes": [_turned_plane(plane, turn, shift) for plane in document.get("planes", ())],
        "survey": [
            point | {"world": _turned_point(point["world"], turn, shift)}
            for point in document.get("survey", ())
        ],
    }


def floor_from(axis: str, metres: float) -> tuple[Array, Array]:
    """The turn (3, 3) and shift (3,) after which a plane across `axis` at `metres` is the floor."""
    turn = {
        "up": np.eye(3),
        "across": quarter_turn("along", 1),
        "along": quarter_turn("across", -1),
    }[axis]
    return turn, np.array([0.0, -metres, 0.0])


def _new_axis(axis: str, turn: Any) -> tuple[str, float]:
    """What a world axis becomes, and its sign."""
    column = turn[:, AXES.index(axis)]
    index = int(np.abs(column).argmax())
    return AXES[index], float(np.sign(column[index]))


def _turned_point(world: Any, turn: Any, shift: Any) -> list[Any]:
    """Coordinates, None where not known, after the turn and the shift."""
    out = [None, None, None]
    for index, value in enumerate(world):
        if value is not None:
            axis, sign = _new_axis(AXES[index], turn)
            target = AXES.index(axis)
            out[target] = round(sign * value + float(shift[target]), 12) + 0.0
    return out


def _turned_mark(mark: dict[str, Any], turn: Any, shift: Any) -> dict[str, Any]:
    if mark["kind"] == "edge":
        return mark | {"axis": _new_axis(mark["axis"], turn)[0]}
    if mark["kind"] == "spot" and mark.get("world"):
        return mark | {"world": _turned_point(mark["world"], turn, shift)}
    return mark


def _turned_plane(plane: dict[str, Any], turn: Any, shift: Any) -> dict[str, Any]:
    axis, sign = _new_axis(plane["axis"], turn)
    metres = plane["metres"]
    if metres is not None:
        metres = round(sign * metres + float(shift[AXES.index(axis)]), 12) + 0.0
    return plane | {"axis": axis, "metres": metres}


def _turned_fact(fact: dict[str, Any], turn: Any, shift: Any, upright: bool) -> dict[str, Any]:
    kind = fact["kind"]
    if kind == "length" and "along" in fact:
        return fact | {"along": _new_axis(fact["along"], turn)[0]}
    if kind == "camera_position":
        return fact | {"metres": _turned_point(fact["metres"], turn, shift)}
    if kind == "camera_height":
        if not upright:
            raise Problem(_belongs(fact, "height"), fact["id"])
        return fact | {"metres": fact["metres"] + float(shift[1])}
    if kind == "camera_angle":
        if not upright:
            raise Problem(_belongs(fact, fact["of"]), fact["id"])
        if fact["of"] == "pan":
            pan = math.radians(fact["degrees"])
            turned_pan = angles_from_rotation(turn @ rotation_from_angles(pan, 0, 0))[0]
            return fact | {"degrees": round(math.degrees(turned_pan), 9)}
    return fact


def _belongs(fact: dict[str, Any], what: str) -> str:
    name = fact.get("name") or f"The camera's {what}"
    return f"“{name}” is measured from the floor as it is: remove it before another is chosen."
