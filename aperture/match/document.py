"""The match document: JSON in, frozen values out, or a sentence saying what is wrong and where.

The shape is checked by the published JSON Schema beside this file (`schema/match.schema.json`, draft 2020-12);
what a schema can't say (an edge of no length, a length between spots that aren't there) is checked here.
"""

import json
import math
from functools import cache
from pathlib import Path

import numpy as np

from aperture.errors import Problem
from aperture.lens.distortion import NAMES as COEFFICIENTS
from aperture.match.evidence import Edge, Evidence, Spot
from aperture.match.facts import ANGLES, AXES, BASES, AngleOfView, CameraAngle, CameraCoordinate, Fact, FocalLength, FocalRange, Length

FORMAT = "accurate-aperture/match"
DEFAULT_SIGMA_PX = 0.5
# A fact that is said to be exact still gets a thousandth of a millimetre: nothing is forced.
LEAST_PLUS_MINUS = 1e-6


class InvalidDocument(Problem):
    """The document breaks its schema; `place` is the JSON pointer of what is wrong (RFC 6901)."""


@cache
def schema() -> dict:
    """The published JSON Schema of the match document."""
    return json.loads((Path(__file__).parent / "schema" / "match.schema.json").read_text())


@cache
def _quick():
    """A compiled validator that only says yes or no: a document under the pointer is checked at every move."""
    import jsonschema_rs

    return jsonschema_rs.Draft202012Validator(schema())


@cache
def _validator():
    """The validator that can say where and why."""
    from jsonschema import Draft202012Validator

    return Draft202012Validator(schema())


def empty(width: int, height: int) -> dict:
    """A document with no evidence yet."""
    return {"format": FORMAT, "version": 1, "image": {"width": width, "height": height},
            "lens": {"projection": "rectilinear", "focal_mm": None, "principal_point": "centre", "distortion": "none"},
            "marks": [], "facts": []}


def loads(text: str | bytes) -> dict:
    """Parsed JSON (RFC 8259: no NaN). Raises InvalidDocument."""
    def refuse(name):
        raise InvalidDocument(f"JSON has no {name}: every number must be finite.", "")
    try:
        return json.loads(text, parse_constant=refuse)
    except InvalidDocument:
        raise
    except (ValueError, RecursionError) as error:
        raise InvalidDocument(f"This is not JSON: {error}.", "") from None


def validate(data) -> None:
    """Raise InvalidDocument at the first place where `data` breaks the schema."""
    _refuse_infinite(data, "", 0)
    errors = () if _quick().is_valid(data) else _validator().iter_errors(data)
    error = min(errors, key=lambda e: (len(e.absolute_path), str(e.absolute_path)), default=None)
    if error is not None:
        while error.context:  # the most telling of several alternatives
            error = max(error.context, key=lambda e: len(e.absolute_path))
        place = "".join(f"/{part}" for part in error.absolute_path)
        message = error.message if len(error.message) < 300 else error.message[:297] + "…"
        raise InvalidDocument(f"The match document breaks its schema at {place or 'its top level'}: {message}.", place)
    seen = set()
    for part in ("marks", "facts", "planes"):
        for index, item in enumerate(data.get(part, ())):
            if item["id"] in seen:
                raise InvalidDocument(f"Two marks, facts or planes are called “{item['id']}”; each needs an id of its own.", f"/{part}/{index}/id")
            seen.add(item["id"])
    spots = {mark["id"] for mark in data.get("marks", ()) if mark["kind"] == "spot"}
    planes = {plane["id"] for plane in data.get("planes", ())}
    for index, mark in enumerate(data.get("marks", ())):
        if mark.get("on", None) not in (None, *planes):
            raise InvalidDocument(f"The spot “{label(mark)}” lies on “{mark['on']}”, and there is no such plane.", f"/marks/{index}/on")
    for index, fact in enumerate(data.get("facts", ())):
        for end in ("from", "to") if fact["kind"] == "length" else ():
            if fact[end] not in spots:
                raise InvalidDocument(f"The length “{label(fact)}” ends at “{fact[end]}”, and there is no such spot.", f"/facts/{index}/{end}")


def _refuse_infinite(value, place, depth):
    if depth > 12:
        raise InvalidDocument("The document is nested too deeply.", place)
    if isinstance(value, float) and not math.isfinite(value):
        raise InvalidDocument(f"Every number must be finite; {place} is not.", place)
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, item in items:
        _refuse_infinite(item, f"{place}/{key}", depth + 1)


def label(item: dict) -> str:
    """What a mark or fact is called in a sentence."""
    return item.get("name") or item["id"]


def read(data: dict, checked: bool = False) -> Evidence:
    """Evidence from a document. Raises InvalidDocument (schema) or Problem (a mark or fact that can't be used, named)."""
    if not checked:
        validate(data)
    lens, gate = data.get("lens", {}), data.get("gate")
    width, height = data["image"]["width"], data["image"]["height"]
    focal = lens.get("focal_mm")
    if focal and not gate:
        raise Problem("A focal length in millimetres means nothing without the gate: give the gate's size.", "lens")
    point = lens.get("principal_point", "centre")
    wanted = lens.get("distortion", "none")
    wanted = {} if wanted == "none" else wanted
    coefficients = np.array([wanted.get(name, 0.0) for name in COEFFICIENTS], float)
    projection = lens.get("projection", "rectilinear")
    if wanted and projection != "rectilinear" and (coefficients.any() or wanted.get("free")):
        raise Problem("Distortion coefficients belong to a rectilinear lens; a curved projection takes none.", "lens")
    names = {item["id"]: label(item) for part in ("marks", "facts") for item in data.get(part, ())}
    active = [mark for mark in data.get("marks", ()) if not mark.get("off")]
    lines = [_line(mark) for mark in active if mark["kind"] != "spot"]
    planes = {plane["id"]: plane for plane in data.get("planes", ())}
    spots = [_spot(mark, planes) for mark in active if mark["kind"] == "spot"]
    shared = [(AXES.index(plane["axis"]), ids) for plane in planes.values() if plane["metres"] is None
              and len(ids := tuple(mark["id"] for mark in active if mark.get("on") == plane["id"])) > 1]
    present = {spot.id for spot in spots}
    facts = [one for fact in data.get("facts", ()) if not fact.get("off") for one in _facts(fact, present, gate)]
    given = FocalLength("focal length", "the given focal length", max(float(focal["plus_minus"]), 1e-9), float(focal["value"])) if focal else None
    if given and focal["plus_minus"] > 0:
        facts.append(given)
    return Evidence(
        width, height, (float(gate["width_mm"]), float(gate["height_mm"])) if gate else None, float(gate.get("squeeze", 1.0)) if gate else 1.0, projection,
        given, None if point == "free" else np.array([width / 2, height / 2] if point == "centre" else point, float),
        coefficients, tuple(sorted(COEFFICIENTS.index(name) for name in wanted.get("free", ()))),
        tuple(line for line in lines if line.axis is not None), tuple(line for line in lines if line.axis is None), tuple(spots), tuple(facts),
        tuple(shared), names)


def _line(mark: dict) -> Edge:
    points = np.array(mark["points"], float)
    if np.abs(points - points[0]).max() < 1e-6:
        raise Problem(f"The {mark['kind']} “{label(mark)}” has no length: draw its ends apart.", mark["id"])
    return Edge(mark["id"], label(mark), AXES.index(mark["axis"]) if mark["kind"] == "edge" else None, points, float(mark.get("sigma_px", DEFAULT_SIGMA_PX)))


def _spot(mark: dict, planes: dict) -> Spot:
    world = np.array([np.nan if v is None else v for v in mark.get("world", (None,) * 3)], float)
    plane = planes.get(mark.get("on"))
    if plane and plane["metres"] is not None:
        axis = AXES.index(plane["axis"])
        if np.isfinite(world[axis]) and abs(world[axis] - plane["metres"]) > 1e-9:
            raise Problem(f"“{label(mark)}” is said to lie on “{label(plane)}”, {plane['axis']} {plane['metres']:g} m, and at {world[axis]:g} m as well.",
                          mark["id"])
        world[axis] = plane["metres"]
    return Spot(mark["id"], label(mark), np.array(mark["at"], float), float(mark.get("sigma_px", DEFAULT_SIGMA_PX)), world,
                float(mark.get("world_plus_minus", 0.0)))


def _facts(fact: dict, present: set, gate) -> list[Fact]:
    """The equations of one fact: none for a length whose spots are switched off, up to three for a position."""
    kind, plus_minus = fact["kind"], max(float(fact.get("plus_minus", 0.0)), LEAST_PLUS_MINUS)
    head = (fact["id"], label(fact), plus_minus)
    if kind == "length":
        if fact["from"] == fact["to"]:
            raise Problem(f"The length “{label(fact)}” begins and ends at the same spot.", fact["id"])
        axis = AXES.index(fact["along"]) if "along" in fact else None
        return [Length(*head, fact["from"], fact["to"], float(fact["metres"]), axis)] if {fact["from"], fact["to"]} <= present else []
    if kind in ("camera_angle", "angle_of_view"):
        head = (*head[:2], max(math.radians(plus_minus), 1e-9))
        if kind == "camera_angle":
            return [CameraAngle(*head, math.radians(fact["degrees"]), ANGLES.index(fact["of"]))]
        return [AngleOfView(*head, math.radians(fact["degrees"]), BASES.index(fact["basis"]))]
    if kind == "focal_range":
        if not gate:
            raise Problem("A range of focal lengths in millimetres means nothing without the gate: give the gate's size.", fact["id"])
        if fact["from_mm"] > fact["to_mm"]:
            raise Problem(f"The range “{label(fact)}” must begin with its shorter end.", fact["id"])
        return [FocalRange(*head, float(fact["from_mm"]), float(fact["to_mm"]))]
    values = [None, fact["metres"], None] if kind == "camera_height" else fact["metres"]
    return [CameraCoordinate(*head, float(value), axis) for axis, value in enumerate(values) if value is not None]
