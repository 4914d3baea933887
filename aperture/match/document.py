"""The match document: JSON in, frozen values out, or a sentence saying what is wrong and where.

The shape is checked by the published JSON Schema beside this file (`schema/match.schema.json`,
draft 2020-12); what a schema can't say (an edge of no length, a length between spots that aren't
there) is checked here.
"""

from __future__ import annotations

import json
import math
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np

from aperture import strict_json
from aperture.arrays import Array
from aperture.errors import Problem
from aperture.lens.distortion import NAMES as COEFFICIENTS
from aperture.lens.lens import PARAMETERS
from aperture.lens.projections import Projection, named
from aperture.match.evidence import Edge, Evidence, Spot
from aperture.match.facts import (
    ANGLES,
    AXES,
    BASES,
    AngleOfView,
    CameraAngle,
    CameraCoordinate,
    Coefficient,
    Fact,
    FocalLength,
    FocalRange,
    Length,
    PrincipalPoint,
)

FORMAT = "accurate-aperture/match"
DEFAULT_SIGMA_PX = 0.5
# A fact that is said to be exact still gets a thousandth of a millimetre: nothing is forced.
LEAST_PLUS_MINUS = 1e-6
# Kinds of facts that lie between two points.
BETWEEN_POINTS = ("length", "direction")
# Beyond this a whole number isn't exact in double precision, and no quantity here comes near it.
LARGEST_INTEGER = 2**53
# Points of all lines and spots of one document, and the rest of the equations along with them: what
# fits into memory many times over.
MOST_POINTS = 20_000


class InvalidDocument(Problem):
    """The document breaks its schema; `place` is the JSON pointer of what is wrong (RFC 6901)."""


@cache
def schema(version: int = 1) -> dict[str, Any]:
    """The published JSON Schema of the match document: version 1 of a picture, version 2 of a
    filmed plate."""
    name = "match.schema.json" if version == 1 else f"match-{version}.schema.json"
    return json.loads((Path(__file__).parent / "schema" / name).read_text())


@cache
def _quick(version: int) -> Any:
    """A compiled validator that only says yes or no: a document under the pointer is checked at
    every move."""
    import jsonschema_rs

    return jsonschema_rs.Draft202012Validator(schema(version))


@cache
def _validator(version: int) -> Any:
    """The validator that can say where and why."""
    from jsonschema import Draft202012Validator

    return Draft202012Validator(schema(version))


def version_of(data: Any) -> int:
    """The version whose schema a document has to obey: 2 if it says so, or else 1."""
    is_two = isinstance(data, dict) and data.get("version") == 2
    return 2 if is_two and not isinstance(data["version"], bool) else 1


def empty(width: int, height: int) -> dict[str, Any]:
    """A document with no evidence yet."""
    return {
        "format": FORMAT,
        "version": 1,
        "image": {"width": width, "height": height},
        "lens": {
            "projection": "rectilinear",
            "focal_mm": None,
            "principal_point": "centre",
            "distortion": "none",
        },
        "marks": [],
        "facts": [],
    }


def loads(text: str | bytes) -> dict[str, Any]:
    """Parsed JSON, as `strict_json` reads it. Raises InvalidDocument."""
    try:
        return strict_json.loads(text)
    except Problem as problem:
        raise InvalidDocument(problem.sentence) from None


def unwrapped(data: Any) -> Any:
    """The match document inside a hand-off's JSON, which holds its fit beside it; or `data`
    itself."""
    if isinstance(data, dict) and "format" not in data and isinstance(data.get("match"), dict):
        return data["match"]
    return data


def from_bytes(data: bytes) -> dict[str, Any]:
    """The valid match document of a file's bytes, of either version. Raises InvalidDocument."""
    document = unwrapped(loads(data))
    is_second = isinstance(document, dict) and document.get("version") == 2
    validate(document, 2 if is_second else 1)
    return document


def validate(data: dict[str, Any], version: int = 1) -> None:
    """Raise InvalidDocument at the first place where `data` breaks the schema of a version."""
    errors: Iterable[Any] = ()
    if not (_quick(version).is_valid(data) and _finite(data, 0)):
        _refuse_infinite(data, "", 0)
        errors = _validator(version).iter_errors(data)
    error = min(errors, key=lambda e: (len(e.absolute_path), str(e.absolute_path)), default=None)
    if error is not None:
        while error.context:  # the most telling of several alternatives
            error = max(error.context, key=lambda e: len(e.absolute_path))
        place = "".join(f"/{part}" for part in error.absolute_path)
        message = error.message if len(error.message) < 300 else error.message[:297] + "…"
        raise InvalidDocument(
            f"The match document breaks its schema at {place or 'its top level'}: {message}.", place
        )
    points = sum(len(mark.get("points", (1,))) for mark in data.get("marks", ()))
    if points > MOST_POINTS:
        raise InvalidDocument(
            f"The marks have {points:,} points; {MOST_POINTS:,} are the most that can be solved.",
            "/marks",
        )
    seen = set()
    for part in ("marks", "facts", "planes", "tracks"):
        for index, item in enumerate(data.get(part, ())):
            if item["id"] in seen:
                raise InvalidDocument(
                    f"Two marks, tracks, facts or planes are called “{item['id']}”; each needs an"
                    " id of its own.",
                    f"/{part}/{index}/id",
                )
            seen.add(item["id"])
    spots = {mark["id"] for mark in data.get("marks", ()) if mark["kind"] == "spot"}
    spots |= {track["id"] for track in data.get("tracks", ())}
    planes = {plane["id"] for plane in data.get("planes", ())}
    for index, mark in enumerate(data.get("marks", ())):
        if mark.get("on", None) not in (None, *planes):
            raise InvalidDocument(
                f"The spot “{label(mark)}” lies on “{mark['on']}”, and there is no such plane.",
                f"/marks/{index}/on",
            )
    or_track = " or track" if version == 2 else ""
    for index, fact in enumerate(data.get("facts", ())):
        for end in ("from", "to") if fact["kind"] in BETWEEN_POINTS else ():
            if fact[end] not in spots:
                raise InvalidDocument(
                    f"The {fact['kind']} “{label(fact)}” ends at “{fact[end]}”, and there is no"
                    f" such spot{or_track}.",
                    f"/facts/{index}/{end}",
                )


def _finite(value: Any, depth: int) -> bool:
    """Whether there is nothing for `_refuse_infinite` to refuse in a document that keeps its
    schema.

    Of a track's observations nothing is looked at: they are most of a document, the schema bounds
    each of their numbers, and to the compiled validator what isn't finite is no number.
    """
    if isinstance(value, float):
        return math.isfinite(value)
    if isinstance(value, int):
        return abs(value) <= LARGEST_INTEGER
    if isinstance(value, dict):
        value = [one for name, one in value.items() if name != "observations"]
    if not isinstance(value, list):
        return True
    return depth < 12 and all(_finite(one, depth + 1) for one in value)


def _refuse_infinite(value: Any, place: str, depth: int) -> None:
    if depth > 12:
        raise InvalidDocument("The document is nested too deeply.", place)
    if isinstance(value, float) and not math.isfinite(value):
        raise InvalidDocument(f"Every number must be finite; {place} is not.", place)
    if isinstance(value, int) and abs(value) > LARGEST_INTEGER:
        raise InvalidDocument(f"The number at {place} is too large.", place)
    items: Any = enumerate(value) if isinstance(value, list) else ()
    if isinstance(value, dict):
        items = value.items()
    for key, item in items:
        _refuse_infinite(item, f"{place}/{key}", depth + 1)


def label(item: dict[str, Any]) -> str:
    """What a mark or fact is called in a sentence."""
    return item.get("name") or item["id"]


def read(data: dict[str, Any], checked: bool = False) -> Evidence:
    """Evidence from a document.

    Raises InvalidDocument (schema) or Problem (a mark or fact that can't be used, named).
    """
    if not checked:
        validate(data)
    gate = data.get("gate")
    lens = _lens(data.get("lens", {}), data["image"], gate)
    names = {item["id"]: label(item) for part in ("marks", "facts") for item in data.get(part, ())}
    used = [mark for mark in data.get("marks", ()) if not mark.get("off")]
    planes = {plane["id"]: plane for plane in data.get("planes", ())}
    active = [mark for mark in used if not mark.get("check")]
    lines = [_line(mark) for mark in active if mark["kind"] != "spot"]
    spots = [_spot(mark, planes) for mark in active if mark["kind"] == "spot"]
    present = {spot.id for spot in spots}
    facts = [
        equation
        for fact in data.get("facts", ())
        if not fact.get("off")
        for equation in _facts(fact, present, gate)
    ]
    return Evidence(
        width=data["image"]["width"],
        height=data["image"]["height"],
        gate_mm=(float(gate["width_mm"]), float(gate["height_mm"])) if gate else None,
        squeeze=float(gate.get("squeeze", 1.0)) if gate else 1.0,
        projection=lens.projection,
        focal=lens.focal,
        principal_point=lens.principal_point,
        principal_free=lens.principal_free,
        coefficients=lens.coefficients,
        free_coefficients=lens.free_coefficients,
        edges=tuple(line for line in lines if line.axis is not None),
        bows=tuple(line for line in lines if line.axis is None),
        spots=tuple(spots),
        facts=tuple(facts) + lens.facts,
        shared=_shared(planes, active),
        names=names,
        checks=tuple(
            _spot(mark, planes) if mark["kind"] == "spot" else _line(mark)
            for mark in used
            if mark.get("check")
        ),
        robust=data.get("robust", False),
    )


def _shared(
    planes: dict[str, Any], marks: list[dict[str, Any]]
) -> tuple[tuple[int, tuple[str, ...]], ...]:
    """The spots (axis, ids) that lie together on a plane whose place isn't known."""
    out = []
    for plane in planes.values():
        ids = tuple(mark["id"] for mark in marks if mark.get("on") == plane["id"])
        if plane["metres"] is None and len(ids) > 1:
            out.append((AXES.index(plane["axis"]), ids))
    return tuple(out)


@dataclass(frozen=True)
class _LensEvidence:
    """What a document gives of the lens; `facts`: what of it has a ±."""

    projection: Projection
    focal: FocalLength | None
    principal_point: Array
    principal_free: bool
    coefficients: Array
    free_coefficients: tuple[int, ...]
    facts: tuple[Fact, ...]


def _lens(
    lens: dict[str, Any], image: dict[str, Any], gate: dict[str, Any] | None
) -> _LensEvidence:
    """The document's lens as values. Raises Problem where it can't be."""
    facts: list[Fact] = []
    focal = _focal(lens.get("focal_mm"), gate)
    if focal is not None and lens["focal_mm"]["plus_minus"] > 0:
        facts.append(focal)
    point, free_point, own = _principal_point(lens.get("principal_point", "centre"), image)
    facts += own
    distortion = lens.get("distortion", "none")
    distortion = {} if distortion == "none" else distortion
    coefficients, free = np.zeros(5), {*distortion.get("free", ())}
    for index, name in enumerate(COEFFICIENTS):
        given = distortion.get(name, 0.0)
        if not isinstance(given, dict):
            coefficients[index] = given
            continue
        coefficients[index] = given["value"]
        if given["plus_minus"] > 0:
            free.add(name)
            called = f"the given {name}"
            value, plus_minus = float(given["value"]), float(given["plus_minus"])
            facts.append(Coefficient(name, called, plus_minus, value, PARAMETERS.index(name)))
    projection = named(lens.get("projection", "rectilinear"))
    if not projection.parameters and (coefficients.any() or free):
        raise Problem(
            "Distortion coefficients belong to a rectilinear lens; a curved projection takes none.",
            "lens",
        )
    order = tuple(sorted(COEFFICIENTS.index(name) for name in free))
    return _LensEvidence(projection, focal, point, free_point, coefficients, order, tuple(facts))


def _focal(focal: dict[str, Any] | None, gate: dict[str, Any] | None) -> FocalLength | None:
    if not focal:
        return None
    if not gate:
        raise Problem(
            "A focal length in millimetres means nothing without the gate: give the gate's size.",
            "lens",
        )
    plus_minus = max(float(focal["plus_minus"]), 1e-9)
    return FocalLength("focal length", "the given focal length", plus_minus, float(focal["value"]))


def _principal_point(point: Any, image: dict[str, Any]) -> tuple[Array, bool, list[Fact]]:
    """Where the lens's axis is held or looked for, px; whether it is free; what is known of it."""
    centre = np.array([image["width"] / 2, image["height"] / 2])
    if point in ("centre", "free"):
        return centre, point == "free", []
    if not isinstance(point, dict):
        return np.array(point, float), False, []
    place, plus_minus = np.array(point["value"], float), float(point["plus_minus"])
    if not plus_minus:
        return place, False, []
    called = "the given principal point"
    facts: list[Fact] = [
        PrincipalPoint("principal point", called, plus_minus, float(place[axis]), axis)
        for axis in range(2)
    ]
    return place, True, facts


def _line(mark: dict[str, Any]) -> Edge:
    points = np.array(mark["points"], float)
    if np.abs(points - points[0]).max() < 1e-6:
        raise Problem(
            f"The {mark['kind']} “{label(mark)}” has no length: draw its ends apart.", mark["id"]
        )
    return Edge(
        mark["id"],
        label(mark),
        AXES.index(mark["axis"]) if mark["kind"] == "edge" else None,
        points,
        float(mark.get("sigma_px", DEFAULT_SIGMA_PX)),
    )


def _spot(mark: dict[str, Any], planes: dict[str, Any]) -> Spot:
    world = np.array([np.nan if v is None else v for v in mark.get("world", (None,) * 3)], float)
    plane = planes.get(str(mark.get("on")))
    if plane and plane["metres"] is not None:
        axis = AXES.index(plane["axis"])
        if np.isfinite(world[axis]) and abs(world[axis] - plane["metres"]) > 1e-9:
            raise Problem(
                f"“{label(mark)}” is said to lie on “{label(plane)}”, {plane['axis']}"
                f" {plane['metres']:g} m, and at {world[axis]:g} m as well.",
                mark["id"],
            )
        world[axis] = plane["metres"]
    return Spot(
        mark["id"],
        label(mark),
        np.array(mark["at"], float),
        float(mark.get("sigma_px", DEFAULT_SIGMA_PX)),
        world,
        float(mark.get("world_plus_minus", 0.0)),
    )


def _facts(fact: dict[str, Any], present: set[Any], gate: dict[str, float] | None) -> list[Fact]:
    """The equations of one fact: none for a length whose spots are switched off, up to three for a
    position."""
    kind, plus_minus = fact["kind"], max(float(fact.get("plus_minus", 0.0)), LEAST_PLUS_MINUS)
    head = (fact["id"], label(fact), plus_minus)
    if kind == "length":
        if fact["from"] == fact["to"]:
            raise Problem(
                f"The length “{label(fact)}” begins and ends at the same spot.", fact["id"]
            )
        axis = AXES.index(fact["along"]) if "along" in fact else None
        return (
            [Length(*head, fact["from"], fact["to"], float(fact["metres"]), axis)]
            if {fact["from"], fact["to"]} <= present
            else []
        )
    if kind in ("camera_angle", "angle_of_view"):
        head = (*head[:2], max(math.radians(plus_minus), 1e-9))
        if kind == "camera_angle":
            return [CameraAngle(*head, math.radians(fact["degrees"]), ANGLES.index(fact["of"]))]
        return [AngleOfView(*head, math.radians(fact["degrees"]), BASES.index(fact["basis"]))]
    if kind == "focal_range":
        if not gate:
            raise Problem(
                "A range of focal lengths in millimetres means nothing without the gate: give the"
                " gate's size.",
                fact["id"],
            )
        if fact["from_mm"] > fact["to_mm"]:
            raise Problem(f"The range “{label(fact)}” must begin with its shorter end.", fact["id"])
        return [FocalRange(*head, float(fact["from_mm"]), float(fact["to_mm"]))]
    values = [None, fact["metres"], None] if kind == "camera_height" else fact["metres"]
    return [
        CameraCoordinate(*head, float(value), axis)
        for axis, value in enumerate(values)
        if value is not None
    ]
