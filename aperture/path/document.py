"""The match document, version 2: JSON in, tables and values out, or a sentence saying what is wrong
and where."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from fractions import Fraction
from itertools import chain
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.distortion import NAMES as COEFFICIENTS
from aperture.lens.lens import PARAMETERS, Lens
from aperture.match.document import (
    AXES,
    DEFAULT_SIGMA_PX,
    LEAST_PLUS_MINUS,
    InvalidDocument,
    label,
    validate,
)
from aperture.path.given import GivenMove
from aperture.track.tracks import Tracks

# What one solution may hold: what fits into memory, with room to spare.
MOST_FRAMES, MOST_OBSERVATIONS = 20_000, 5_000_000
# A known value of the lens has at least this ±, relative: nothing is forced.
LEAST_RELATIVE = 1e-6


@dataclass(frozen=True, eq=False)
class FilmEvidence:
    """What a version 2 document says.

    Parameters
    ----------
    grid : Grid
        Of the plate; without a gate one millimetre is one pixel.
    lens : Lens
        Where the solution begins; what isn't free is its value.
    free_lens : ndarray of bool, shape (8,)
        The PARAMETERS to solve for.
    lens_known : tuple of (int, float, float)
        Index into PARAMETERS, value and its ±, of what is known but not exactly.
    focal_mm : float or None
        The focal length, if it is known, with its ± in `lens_known`.
    first, last : int
        The range of frames.
    motion : str
        free, nodal or still.
    tracks : Tracks
        Those in use. Spots of single frames are among them, as tracks of one observation.
    world, world_sigma : ndarray, shape (T, 3)
        Known coordinates of tracks and their ±, metres; NaN where unknown, σ 0 where exact.
    facts, lines : tuple of dict
        As the document has them, those in use; lines are edges and bows.
    zooms : bool
        Whether each frame has a focal length of its own; then the lens's isn't free.
    focal_on : tuple of (int, float, float)
        Frame, focal length and its ±, mm, where that is known of a zoom.
    readout : (float, float)
        The readout time in frames and its ±: 0 where it is exact, inf where it is to be solved for.
    stands : bool
        Whether facts only lay the path down, and don't bend it.
    names : dict
        What marks, tracks and facts are called in sentences.
    drawn_px : dict
        By a track's id, how well its pattern stands for the point that is meant, px, where a hand
        put it there, and on which frame (None where that isn't told).
    """

    grid: Grid
    has_gate: bool
    lens: Lens
    free_lens: Array
    lens_known: tuple[tuple[int, float, float], ...]
    focal_mm: float | None
    first: int
    last: int
    rate: Fraction | None
    motion: str
    tracks: Tracks
    world: Array
    world_sigma: Array
    facts: tuple[dict[str, Any], ...]
    lines: tuple[dict[str, Any], ...]
    names: dict[str, str] = field(default_factory=dict)
    zooms: bool = False
    focal_on: tuple[tuple[int, float, float], ...] = ()
    readout: tuple[float, float] = (0.0, 0.0)
    stands: bool = False
    move: GivenMove | None = None
    drawn_px: dict[str, tuple[float, int | None]] = field(default_factory=dict)

    @property
    def frames(self) -> Array:
        """(F,) of the range, in order."""
        return np.arange(self.first, self.last + 1)


def is_film(data: dict[str, Any]) -> bool:
    """Whether a document is about several frames, or tracks; else the still solver answers it."""
    if data.get("version") != 2:
        return False
    frames = data.get("frames", {"first": 1, "last": 1})
    return frames["last"] > frames["first"]


def as_still(data: dict[str, Any], frame: int | None = None) -> dict[str, Any]:
    """The version 1 document of what a version 2 document says of one frame: of its only one, if
    none is given.

    Marks without a frame belong to the first; facts without one hold for all.
    """
    first = data.get("frames", {"first": 1})["first"]
    frame = first if frame is None else frame
    out = {
        key: value
        for key, value in data.items()
        if key in ("format", "image", "gate", "robust", "planes")
    }
    lens = {
        key: value
        for key, value in data.get("lens", {}).items()
        if key not in ("focal_over_time", "readout_ms")
    }
    known = lens.get("focal_mm") or {}
    if "frames" in known:
        here = [row for row in known["frames"] if row[0] == frame]
        lens["focal_mm"] = {"value": here[0][1], "plus_minus": here[0][2]} if here else None
    spots = [_spot_of(track, frame) for track in data.get("tracks", ())]
    marks = [
        _without_frame(mark) for mark in data.get("marks", ()) if mark.get("frame", frame) == frame
    ]
    facts = [
        _without_frame(fact) for fact in data.get("facts", ()) if fact.get("frame", frame) == frame
    ]
    seen = {spot["id"]: spot for spot in spots if spot}
    edges = [_edge_of(fact, seen) for fact in facts if fact["kind"] == "direction"]
    present = {mark["id"] for mark in marks} | seen.keys()
    facts = [
        fact
        for fact in facts
        if fact["kind"] not in ("camera_distance", "direction")  # say nothing of one frame
        and (fact["kind"] != "length" or {fact["from"], fact["to"]} <= present)
    ]
    return out | {
        "version": 1,
        "lens": lens,
        "marks": marks + [*seen.values()] + [edge for edge in edges if edge],
        "facts": facts,
    }


def _edge_of(fact: dict[str, Any], seen: dict[str, dict[str, Any]]) -> dict[str, Any] | None:
    """What a direction between two tracks is on one frame: an edge; None where it sees not both."""
    ends = [seen.get(fact["from"]), seen.get(fact["to"])]
    if None in ends or fact["from"] == fact["to"]:
        return None
    points = [end["at"] for end in ends if end]
    # Two points that are each off by σ across the line turn it by √2 σ over its length.
    across = math.radians(fact["plus_minus"]) * math.dist(*points) / math.sqrt(2)
    sigma = math.hypot(across, *(end["sigma_px"] / math.sqrt(2) for end in ends if end))
    kept = {key: fact[key] for key in ("id", "name", "off") if key in fact}
    return kept | {"kind": "edge", "axis": fact["along"], "points": points, "sigma_px": sigma}


def _without_frame(item: dict[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in item.items() if key != "frame"}


def _spot_of(track: dict[str, Any], frame: int) -> dict[str, Any] | None:
    """What a track is on one frame: a spot; None if it isn't seen there."""
    here = [row for row in track["observations"] if row[0] == frame]
    if not here:
        return None
    row = here[-1]
    sigma = row[3] if len(row) > 3 else track.get("sigma_px", DEFAULT_SIGMA_PX)
    if len(row) > 4:  # a spot's σ is the same all around
        sigma = float(np.hypot(row[3], row[4]) / np.sqrt(2))
    kept = ("id", "name", "world", "world_plus_minus", "on", "off")
    spot = {key: track[key] for key in kept if key in track}
    return spot | {"kind": "spot", "at": [row[1], row[2]], "sigma_px": sigma}


def read(data: dict[str, Any], checked: bool = False) -> FilmEvidence:
    """Evidence from a version 2 document.

    Raises InvalidDocument (schema) or Problem (something that can't be used, named).
    """
    if not checked:
        validate(data, 2)
    frames = data.get("frames", {"first": 1, "last": 1})
    first, last = _range(frames)
    image, gate = data["image"], data.get("gate")
    width_mm = float(gate["width_mm"]) if gate else float(image["width"])
    height_mm = float(gate["height_mm"]) if gate else float(image["height"])
    grid = Grid.from_gate(image["width"], image["height"], width_mm, height_mm)
    lens, free, known, focal = _lens(data.get("lens", {}), grid, gate)
    tracks, world, world_sigma = _tracks(data, first, last)
    used_facts = tuple(fact for fact in data.get("facts", ()) if not fact.get("off"))
    marks = [mark for mark in data.get("marks", ()) if not (mark.get("off") or mark.get("check"))]
    return FilmEvidence(
        grid=grid,
        has_gate=gate is not None,
        lens=lens,
        free_lens=free,
        lens_known=tuple(known),
        focal_mm=focal,
        first=first,
        last=last,
        rate=_rate(frames.get("rate")),
        motion=data.get("camera", {}).get("motion", "free"),
        tracks=tracks,
        world=world,
        world_sigma=world_sigma,
        facts=used_facts,
        lines=tuple(mark for mark in marks if mark["kind"] != "spot"),
        names={
            item["id"]: label(item)
            for part in ("marks", "facts", "tracks")
            for item in data.get(part, ())
        },
        zooms=data.get("lens", {}).get("focal_over_time") == "free",
        focal_on=_focal_on(data.get("lens", {})),
        readout=_readout(data.get("lens", {}).get("readout_ms"), _rate(frames.get("rate"))),
        stands=data.get("placing") == "stand",
        move=GivenMove.read(data["move"]) if data.get("move") else None,
        drawn_px={
            track["id"]: (float(track["drawn_px"]), track.get("drawn_on"))
            for track in data.get("tracks", ())
            if "drawn_px" in track
        },
    )


def _range(frames: dict[str, Any]) -> tuple[int, int]:
    """The first and the last frame. Raises InvalidDocument."""
    first, last = frames["first"], frames["last"]
    if last < first:
        raise InvalidDocument("The last frame lies before the first.", "/frames/last")
    if last - first + 1 > MOST_FRAMES:
        raise InvalidDocument(
            f"{last - first + 1:,} frames are more than the {MOST_FRAMES:,} that can be solved at"
            " once.",
            "/frames",
        )
    return first, last


def _rate(rate: Any) -> Fraction | None:
    if rate is None:
        return None
    return Fraction(rate) if isinstance(rate, str) else Fraction(rate).limit_denominator(1001)


def _lens(
    lens: dict[str, Any], grid: Grid, gate: dict[str, Any] | None
) -> tuple[Lens, Array, list[tuple[int, float, float]], float | None]:
    """The lens to begin with, which PARAMETERS are free, what is known of them with a ±, and the
    known focal length."""
    free, known = np.zeros(len(PARAMETERS), bool), []
    squeeze = float(gate.get("squeeze", 1.0)) if gate else 1.0
    zooms = lens.get("focal_over_time") == "free"
    focal = _known_focal(lens.get("focal_mm"), gate)
    # Of a zoom every frame has its own focal length, as a multiple of the lens's, which is held.
    free[0] = not zooms
    if focal and not zooms:
        relative = max(focal[1] / focal[0], LEAST_RELATIVE)
        known.append((0, float(np.log(focal[0])), relative))
    centre = _centre(lens.get("principal_point", "centre"), grid, free, known)
    distortion = lens.get("distortion", "none")
    distortion = {} if distortion == "none" else distortion
    coefficients = np.zeros(5)
    for index, name in enumerate(COEFFICIENTS):
        given = distortion.get(name, 0.0)
        free[3 + index] = name in distortion.get("free", ())
        if isinstance(given, dict):
            coefficients[index] = given["value"]
            if given["plus_minus"] > 0:
                free[3 + index] = True
                known.append((3 + index, float(given["value"]), float(given["plus_minus"])))
        else:
            coefficients[index] = given
    projection = lens.get("projection", "rectilinear")
    start = focal[0] if focal else grid.gate_mm[0]
    return (
        Lens(start, squeeze, projection, centre, tuple(coefficients.tolist())),
        free,
        known,
        focal[0] if focal and not zooms else None,
    )


def _readout(given: Any, rate: Fraction | None) -> tuple[float, float]:
    """The readout time and its ±, in frames."""
    if given in (None, 0):
        return 0.0, 0.0
    if rate is None:
        raise Problem(
            "A readout time means nothing without the rate: say how many frames a second there"
            " are.",
            "/frames/rate",
        )
    if given == "free":
        return 0.0, float("inf")
    value, plus_minus = (
        (given["value"], given["plus_minus"]) if isinstance(given, dict) else (given, 0.0)
    )
    frames = float(value) * float(rate) / 1000
    if frames > 1:
        raise Problem(
            f"A readout of {value:g} ms is longer than a frame: it takes at most"
            f" {1000 / float(rate):.1f} ms.",
            "/lens/readout_ms",
        )
    return frames, float(plus_minus) * float(rate) / 1000


def _focal_on(lens: dict[str, Any]) -> tuple[tuple[int, float, float], ...]:
    """The frames of a zoom whose focal length is known."""
    known = lens.get("focal_mm")
    if lens.get("focal_over_time") != "free" or not known:
        return ()
    if "frames" not in known:
        raise Problem(
            "The lens zooms, and one focal length is given for all frames: say on which frames it"
            " is known, or that it doesn't zoom.",
            "/lens/focal_mm",
        )
    return tuple(
        (int(frame), float(mm), max(float(sigma), LEAST_RELATIVE * float(mm)))
        for frame, mm, sigma in known["frames"]
    )


def _known_focal(
    focal: dict[str, Any] | None, gate: dict[str, Any] | None
) -> tuple[float, float] | None:
    if not focal:
        return None
    if not gate:
        raise Problem(
            "A focal length in millimetres means nothing without the gate: give the gate's size.",
            "/lens/focal_mm",
        )
    if "frames" in focal:
        if not focal["frames"]:
            return None
        # One focal length for all frames, measured several times.
        values = np.array([row[1:] for row in focal["frames"]], float)
        weights = 1 / np.maximum(values[:, 1], 1e-9) ** 2
        return float(np.average(values[:, 0], weights=weights)), float(weights.sum() ** -0.5)
    return float(focal["value"]), float(focal["plus_minus"])


def _centre(
    point: Any, grid: Grid, free: Array, known: list[tuple[int, float, float]]
) -> tuple[float, float]:
    """Where the lens's axis is held or looked for, mm from the middle of the sensor."""
    if point == "centre":
        return 0.0, 0.0
    if point == "free":
        free[1:3] = True
        return 0.0, 0.0
    plus_minus = float(point["plus_minus"]) if isinstance(point, dict) else 0.0
    x, y = grid.to_mm([point["value"] if isinstance(point, dict) else point])[0]
    if plus_minus > 0:
        free[1:3] = True
        for axis, value in enumerate((x, y)):
            known.append((1 + axis, float(value), plus_minus * grid.mm_per_px[axis]))
    return float(x), float(y)


def _tracks(data: dict[str, Any], first: int, last: int) -> tuple[Tracks, Array, Array]:
    """The tracks in use, spots of single frames among them, and what is known of their places."""
    planes = {plane["id"]: plane for plane in data.get("planes", ())}
    items = [track for track in data.get("tracks", ()) if not track.get("off")]
    spots = [
        mark
        | {
            "observations": [
                [mark.get("frame", first), *mark["at"], mark.get("sigma_px", DEFAULT_SIGMA_PX)]
            ]
        }
        for mark in data.get("marks", ())
        if mark["kind"] == "spot" and not (mark.get("off") or mark.get("check"))
    ]
    items = items + spots
    count = sum(len(item["observations"]) for item in items)
    if count > MOST_OBSERVATIONS:
        raise InvalidDocument(
            f"The tracks have {count:,} observations; {MOST_OBSERVATIONS:,} are the most that can"
            " be solved.",
            "/tracks",
        )
    world, world_sigma = np.full((len(items), 3), np.nan), np.zeros((len(items), 3))
    for index, item in enumerate(items):
        world[index], world_sigma[index] = _place(item, planes)
    tracks = tracks_in(items)
    inside = (tracks.frame >= first) & (tracks.frame <= last)
    keep = np.ones(len(items), bool)
    return tracks.only(keep, inside), world, world_sigma


def tracks_in(items: list[dict[str, Any]]) -> Tracks:
    """A document's tracks, all of them, with their places by frame."""
    owner, table = _table(items)
    return Tracks.build(
        [item["id"] for item in items],
        owner,
        table[:, 0],
        table[:, 1:3],
        table[:, 3:5],
        cross=table[:, 5],
    )


def _table(items: list[dict[str, Any]]) -> tuple[Array, Array]:
    """(n,) of which track each observation is; and (n, 6) frame, x, y, σ across and down, and how
    both hang together."""
    counts = np.array([len(item["observations"]) for item in items], int)
    owner = np.repeat(np.arange(len(items)), counts)
    rows = list(chain.from_iterable(item["observations"] for item in items))
    lengths = np.fromiter(map(len, rows), int, len(rows))
    out = np.zeros((len(rows), 6))
    usual = np.array([float(item.get("sigma_px", DEFAULT_SIGMA_PX)) for item in items], float)
    out[:, 3] = usual[owner]
    numbers = np.fromiter(chain.from_iterable(rows), float, int(lengths.sum()))
    of_each = np.repeat(lengths, lengths)
    for length in set(lengths.tolist()):
        out[lengths == length, :length] = numbers[of_each == length].reshape(-1, length)
    short = lengths < 5
    out[short, 4] = out[short, 3]
    return owner, out


def _place(item: dict[str, Any], planes: dict[str, Any]) -> tuple[Array, Array]:
    """A track's known coordinates (3,) and their ± (3,)."""
    world = np.array([np.nan if v is None else v for v in item.get("world", (None,) * 3)], float)
    sigma = np.full(3, float(item.get("world_plus_minus", 0.0)))
    plane = planes.get(str(item.get("on")))
    if item.get("on") and plane is None:
        raise InvalidDocument(
            f"“{label(item)}” lies on “{item['on']}”, and there is no such plane."
        )
    if plane and plane["metres"] is not None:
        axis = AXES.index(plane["axis"])
        if np.isnan(world[axis]):
            world[axis], sigma[axis] = plane["metres"], LEAST_PLUS_MINUS
    return world, sigma
