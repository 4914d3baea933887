"""The match document: JSON in, frozen values out, or a sentence saying what is wrong and where.

The shape is checked by the published JSON Schema beside this file (`schema/match.schema.json`, draft 2020-12);
what a schema can't say (an edge of no length, a length between spots that aren't there) is checked here.
"""

import json
import math
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path

import numpy as np

from aperture.errors import Problem
from aperture.gates.grid import Grid
from aperture.lens.distortion import NAMES as COEFFICIENTS

AXES = ("across", "up", "along")
FORMAT = "accurate-aperture/match"
DEFAULT_SIGMA_PX = 0.5
# A fact that is said to be exact still gets a thousandth of a millimetre: nothing is forced.
LEAST_PLUS_MINUS = 1e-6


class InvalidDocument(Problem):
    """The document breaks its schema; `place` is the JSON pointer of what is wrong (RFC 6901)."""


@dataclass(frozen=True)
class Edge:
    """A straight edge along a world axis (index in AXES), or along none: then it is a bow. points: (N, 2) px."""

    id: str
    name: str
    axis: int | None
    points: np.ndarray
    sigma_px: float


@dataclass(frozen=True)
class Spot:
    """at: (2,) px; world: (3,) metres, NaN for what isn't known."""

    id: str
    name: str
    at: np.ndarray
    sigma_px: float
    world: np.ndarray


@dataclass(frozen=True)
class Length:
    """The distance in metres between two spots; with `axis` they differ in that direction only."""

    id: str
    name: str
    start: str
    end: str
    metres: float
    plus_minus: float
    axis: int | None


@dataclass(frozen=True)
class CameraCoordinate:
    """One known coordinate (index in AXES) of the camera's position. A position fact makes up to three of these."""

    id: str
    name: str
    axis: int
    metres: float
    plus_minus: float


@dataclass(frozen=True)
class Evidence:
    """A match document as values. Only what is switched on is in `edges`, `bows`, `spots`, `lengths` and `coordinates`."""

    width: int
    height: int
    gate_mm: tuple[float, float] | None
    squeeze: float
    projection: str
    focal: tuple[float, float] | None  # value, ± in mm
    principal_point: np.ndarray | None  # px; None: free
    principal_point_given: bool
    coefficients: np.ndarray
    free_coefficients: tuple[int, ...]
    edges: tuple[Edge, ...]
    bows: tuple[Edge, ...]
    spots: tuple[Spot, ...]
    lengths: tuple[Length, ...]
    coordinates: tuple[CameraCoordinate, ...]
    names: dict = field(default_factory=dict, compare=False)

    @property
    def grid(self) -> Grid:
        """The picture's grid; where no gate is known, one 'millimetre' is one pixel."""
        width_mm, height_mm = self.gate_mm or (self.width, self.height)
        return Grid.from_gate(self.width, self.height, width_mm, height_mm)


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
    for part in ("marks", "facts"):
        for index, item in enumerate(data.get(part, ())):
            if item["id"] in seen:
                raise InvalidDocument(f"Two marks or facts are called “{item['id']}”; each needs an id of its own.", f"/{part}/{index}/id")
            seen.add(item["id"])
    spots = {mark["id"] for mark in data.get("marks", ()) if mark["kind"] == "spot"}
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
    edges, bows, spots, lengths, coordinates, names = [], [], [], [], [], {}
    active_spots = {m["id"] for m in data.get("marks", ()) if m["kind"] == "spot" and not m.get("off")}
    for mark in data.get("marks", ()):
        names[mark["id"]] = label(mark)
        if mark.get("off"):
            continue
        sigma = float(mark.get("sigma_px", DEFAULT_SIGMA_PX))
        if mark["kind"] == "spot":
            world = np.array([np.nan if v is None else v for v in mark.get("world", (None,) * 3)], float)
            spots.append(Spot(mark["id"], label(mark), np.array(mark["at"], float), sigma, world))
            continue
        points = np.array(mark["points"], float)
        if np.linalg.norm(points - points[0], axis=1).max() < 1e-6:
            raise Problem(f"The {mark['kind']} “{label(mark)}” has no length: draw its ends apart.", mark["id"])
        axis = AXES.index(mark["axis"]) if mark["kind"] == "edge" else None
        (bows if axis is None else edges).append(Edge(mark["id"], label(mark), axis, points, sigma))
    for fact in data.get("facts", ()):
        names[fact["id"]] = label(fact)
        if fact.get("off"):
            continue
        plus_minus = max(float(fact["plus_minus"]), LEAST_PLUS_MINUS)
        if fact["kind"] == "length":
            if fact["from"] == fact["to"]:
                raise Problem(f"The length “{label(fact)}” begins and ends at the same spot.", fact["id"])
            if {fact["from"], fact["to"]} <= active_spots:
                axis = AXES.index(fact["along"]) if "along" in fact else None
                lengths.append(Length(fact["id"], label(fact), fact["from"], fact["to"], float(fact["metres"]), plus_minus, axis))
            continue
        values = [None, fact["metres"], None] if fact["kind"] == "camera_height" else fact["metres"]
        coordinates += [CameraCoordinate(fact["id"], label(fact), axis, float(value), plus_minus)
                        for axis, value in enumerate(values) if value is not None]
    return Evidence(
        width, height, (float(gate["width_mm"]), float(gate["height_mm"])) if gate else None,
        float(gate.get("squeeze", 1.0)) if gate else 1.0, projection,
        (float(focal["value"]), float(focal["plus_minus"])) if focal else None,
        None if point == "free" else np.array([width / 2, height / 2] if point == "centre" else point, float),
        not isinstance(point, str), coefficients, tuple(sorted(COEFFICIENTS.index(name) for name in wanted.get("free", ()))),
        tuple(edges), tuple(bows), tuple(spots), tuple(lengths), tuple(coordinates), names)
