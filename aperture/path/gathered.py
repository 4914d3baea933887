"""From the facts of a match document to the equations that the bundle adjustment solves."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.lens.lens import PARAMETERS
from aperture.match import document as still
from aperture.match.document import AXES, LEAST_PLUS_MINUS
from aperture.match.facts import ANGLES, BASES
from aperture.path.document import FilmEvidence
from aperture.path.drawn import Lines, sighted
from aperture.path.facts import (
    PLANE_SIGMA,
    AngleOfView,
    CameraAngle,
    CameraCoordinate,
    CamerasApart,
    Direction,
    Distance,
    FocalOn,
    FocalRange,
    LensValue,
    OnOnePlane,
    PathFacts,
    PointCoordinate,
)
from aperture.path.problem import Equation


def gather(
    evidence: FilmEvidence, posed: Array, placed: Array, planes: dict[str, tuple[int, list[str]]]
) -> PathFacts:
    """The equations of the facts that can be used.

    posed (F,): frames that have a camera; placed (T,): tracks that have a point. What is about
    others says nothing. planes: axis and track ids by the id of each plane whose place isn't known.
    """
    number_of_frame = {int(f): n for n, f in enumerate(evidence.frames[posed])}
    number_of_track = {
        evidence.tracks.ids[index]: n for n, index in enumerate(np.flatnonzero(placed).tolist())
    }
    equations: list[Equation] = []
    world, sigmas = evidence.world[placed], evidence.world_sigma[placed]
    ids = list(number_of_track)
    for point, axis in np.argwhere(np.isfinite(world) & (sigmas > 0)).tolist():
        sigma, metres = float(sigmas[point, axis]), float(world[point, axis])
        equations.append(PointCoordinate(ids[point], sigma, point, axis, metres))
    equations += sighted(evidence, number_of_frame)
    every = np.arange(len(number_of_frame))
    for fact in evidence.facts:
        equations += _equations(fact, evidence, number_of_frame, number_of_track, every)
    for frame, focal, sigma in evidence.focal_on:
        if frame in number_of_frame:
            id_ = f"lens.focal_mm@{frame}"
            equations.append(FocalOn(id_, sigma / focal, number_of_frame[frame], focal))
    if evidence.move is not None and (whole := evidence.move.equation(number_of_frame)):
        equations.append(whole)
    for index, value, sigma in evidence.lens_known:
        equations.append(LensValue(f"lens.{PARAMETERS[index]}", sigma, index, value))
    facts = PathFacts(equations)
    for equation in equations:
        if isinstance(equation, CamerasApart):
            equation.extra = facts.extra_count
            facts.extra_count += 3
    for id_, (plane_axis, ids) in planes.items():
        points = tuple(number_of_track[track] for track in ids if track in number_of_track)
        if len(points) > 1:
            facts.equations.append(
                OnOnePlane(id_, PLANE_SIGMA, points, plane_axis, facts.extra_count)
            )
            facts.extra_count += 1
    for frame in sorted({line.get("frame", evidence.first) for line in evidence.lines}):
        if frame not in number_of_frame:
            continue
        mine = [line for line in evidence.lines if line.get("frame", evidence.first) == frame]
        lines = Lines.on(evidence, number_of_frame[frame], mine, facts.extra_count)
        facts.equations.append(lines)
        facts.extra_count += lines.count
    return facts


def _equations(
    fact: dict[str, Any],
    evidence: FilmEvidence,
    frames: dict[int, int],
    tracks: dict[str, int],
    every: Array,
) -> list[Equation]:
    """The equations of one fact; none if it is about what isn't solved."""
    kind, id_ = fact["kind"], fact["id"]
    sigma = max(float(fact.get("plus_minus", 0.0)), LEAST_PLUS_MINUS)
    if "frame" in fact:
        if fact["frame"] not in frames:
            return []
        every = np.array([frames[fact["frame"]]])
    if kind == "length":
        return _length(fact, sigma, evidence, frames, tracks)
    if kind == "direction":
        return _direction(fact, tracks)
    if kind == "camera_distance":
        return _between_cameras(fact, sigma, frames)
    if kind == "camera_height":
        return [CameraCoordinate(id_, sigma, every, 1, float(fact["metres"]))]
    if kind == "camera_position":
        return [
            CameraCoordinate(id_, sigma, every, axis, float(metres))
            for axis, metres in enumerate(fact["metres"])
            if metres is not None
        ]
    if kind == "focal_range":
        return _focal_range(fact, sigma, evidence, every)
    radians, sigma = math.radians(fact["degrees"]), max(math.radians(sigma), 1e-9)
    if kind == "camera_angle":
        return [CameraAngle(id_, sigma, every, ANGLES.index(fact["of"]), radians)]
    if evidence.zooms and len(every) != 1:
        raise Problem(
            f"“{still.label(fact)}” is an angle of view while the lens zooms: say on which frame.",
            id_,
        )
    camera = int(every[0]) if evidence.zooms else None
    return [AngleOfView(id_, sigma, BASES.index(fact["basis"]), radians, camera, evidence=evidence)]


def _ends(what: str, fact: dict[str, Any], tracks: dict[str, int]) -> tuple[int, int] | None:
    """The points between which a fact is; None where the path doesn't hold both."""
    first, last = fact["from"], fact["to"]
    if first == last:
        says = f"The {what} “{still.label(fact)}” begins and ends at the same point."
        raise Problem(says, fact["id"])
    if first not in tracks or last not in tracks:
        return None
    return tracks[first], tracks[last]


def _direction(fact: dict[str, Any], tracks: dict[str, int]) -> list[Equation]:
    """Of two tracks one of which lies along an axis from the other; none where the path doesn't
    hold both."""
    between = _ends("direction", fact, tracks)
    if between is None:
        return []
    sigma = math.radians(max(float(fact["plus_minus"]), LEAST_PLUS_MINUS))
    axis = AXES.index(fact["along"])
    return [Direction(fact["id"], sigma, *between, axis)]


def _length(
    fact: dict[str, Any],
    sigma: float,
    evidence: FilmEvidence,
    frames: dict[int, int],
    tracks: dict[str, int],
) -> list[Equation]:
    """Of a length between two tracks; none where the path doesn't hold both."""
    points = _ends("length", fact, tracks)
    if points is None:
        return []
    axis = AXES.index(fact["along"]) if "along" in fact else None
    put = [evidence.drawn_px.get(end, (0.0, None)) for end in (fact["from"], fact["to"])]
    drawn_px = tuple(px for px, _ in put)
    drawn_on = tuple(None if frame is None else frames.get(frame) for _, frame in put)
    per_mm = float(np.linalg.norm(evidence.grid.px_linear[:, 1]))
    metres = float(fact["metres"])
    return [Distance(fact["id"], sigma, *points, metres, axis, drawn_px, drawn_on, per_mm)]


def _between_cameras(fact: dict[str, Any], sigma: float, frames: dict[int, int]) -> list[Equation]:
    """Of a distance between the cameras of two frames; none where one has no camera."""
    first, second = fact["from"], fact["to"]
    if first == second:
        says = f"“{still.label(fact)}” is the distance of a camera from itself: choose two frames."
        raise Problem(says, fact["id"])
    if not {first, second} <= set(frames):
        return []
    metres = float(fact["metres"])
    return [CamerasApart(fact["id"], sigma, frames[first], frames[second], metres)]


def _focal_range(
    fact: dict[str, Any], sigma: float, evidence: FilmEvidence, every: Array
) -> list[Equation]:
    """Of the range of a lens: for each of the cameras `every` where it zooms."""
    if not evidence.has_gate:
        raise Problem(
            "A range of focal lengths in millimetres means nothing without the gate: give the "
            "gate's size.",
            fact["id"],
        )
    if fact["from_mm"] > fact["to_mm"]:
        says = f"The range “{still.label(fact)}” must begin with its shorter end."
        raise Problem(says, fact["id"])
    ends = float(fact["from_mm"]), float(fact["to_mm"])
    if evidence.zooms:
        return [FocalRange(fact["id"], sigma, *ends, int(camera)) for camera in every]
    return [FocalRange(fact["id"], sigma, *ends)]
