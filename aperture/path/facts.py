"""What is known beside the tracks, as equations of the bundle.

Each fact gives one or more `Row`s: (value − known) / ±, with the derivatives by the camera of its frame,
by points, by the lens. The kinds are those of the still matcher (`aperture.match.facts`), bound to frames
where that makes sense. Edges and bows drawn on a frame are the still matcher's own equations
(`aperture.match.system`) for the camera of that frame and the shared lens.

A fact about the camera without a frame holds for all frames. Its ± is that of one measurement, not of as
many as there are frames, so each frame's equation gets the ± times √F.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.rotation import angles_from_rotation
from aperture.lens.lens import PARAMETERS, Lens
from aperture.match import document as still
from aperture.match.document import AXES, LEAST_PLUS_MINUS
from aperture.match.facts import ANGLES, BASES, angle_slopes, view_slopes
from aperture.match.system import State as StillState
from aperture.match.system import System, tangents
from aperture.path.bundle import Row, State
from aperture.path.document import FilmEvidence
from aperture.path.imaging import Optics, jacobian_at, limit2
from aperture.track.tracks import Tracks

# How well points that are said to lie on one plane do so, metres.
PLANE_SIGMA = 1e-4


@dataclass
class Equation:
    """One fact. `id`: the fact's or track's own; sigma in the fact's unit."""

    id: str
    sigma: float
    unit = "m"
    # Whether it says something of a camera that only turns.
    directional = False

    def rows(self, state: State) -> list[Row]:
        """Its equations at a state."""
        raise NotImplementedError

    def placing_rows(self, state: State) -> list[Row]:
        """The same for a state that may be far off, while a path is being placed."""
        return self.rows(state)

    @property
    def tied(self) -> tuple[int, ...]:
        """Points that it ties to something else."""
        return ()


@dataclass
class PointCoordinate(Equation):
    """A surveyed coordinate of a point."""

    point: int = 0
    axis: int = 0
    metres: float = 0.0

    def rows(self, state: State) -> list[Row]:
        slope = np.zeros((1, 3))
        slope[0, self.axis] = 1 / self.sigma
        residual = (state.points[self.point, self.axis] - self.metres) / self.sigma
        return [Row(float(residual), points=(self.point,), by_points=slope)]


@dataclass
class Distance(Equation):
    """The distance between two points; with an axis, they differ along that axis only, within the same ±."""

    start: int = 0
    end: int = 0
    metres: float = 0.0
    axis: int | None = None

    @property
    def tied(self) -> tuple[int, ...]:
        return (self.start, self.end)

    def rows(self, state: State) -> list[Row]:
        apart = state.points[self.end] - state.points[self.start]
        if self.axis is None:
            length = max(float(np.linalg.norm(apart)), 1e-12)
            return [self._row(length - self.metres, apart / length)]
        sign = 1.0 if apart[self.axis] >= 0 else -1.0
        along = sign * np.eye(3)[self.axis]
        rows = [self._row(abs(apart[self.axis]) - self.metres, along)]
        across = [axis for axis in range(3) if axis != self.axis]
        return rows + [self._row(apart[axis], np.eye(3)[axis]) for axis in across]

    def _row(self, off: float, direction: Array) -> Row:
        slope = np.stack([-direction, direction]) / self.sigma
        return Row(float(off / self.sigma), points=(self.start, self.end), by_points=slope)


@dataclass
class OnOnePlane(Equation):
    """Points that lie on a plane across one axis, whose place is an unknown of its own."""

    points: tuple[int, ...] = ()
    axis: int = 1
    extra: int = 0

    @property
    def tied(self) -> tuple[int, ...]:
        return self.points

    def rows(self, state: State) -> list[Row]:
        out, slope = [], np.zeros((1, 3))
        slope[0, self.axis] = 1 / self.sigma
        for point in self.points:
            off = state.points[point, self.axis] - state.extra[self.extra]
            out.append(
                Row(
                    float(off / self.sigma),
                    points=(point,),
                    by_points=slope,
                    extra=((self.extra, -1 / self.sigma),),
                )
            )
        return out


@dataclass
class CameraCoordinate(Equation):
    """A known coordinate of the camera's position, on one frame or on all."""

    cameras: Array = field(default_factory=lambda: np.zeros(0, int))
    axis: int = 1
    metres: float = 0.0

    def rows(self, state: State) -> list[Row]:
        sigma = self.sigma * math.sqrt(len(self.cameras))
        slope = np.zeros(7)
        slope[3 + self.axis] = 1 / sigma
        return [
            Row(
                float((state.positions[camera, self.axis] - self.metres) / sigma),
                camera=int(camera),
                by_camera=slope,
            )
            for camera in self.cameras
        ]


@dataclass
class CameraAngle(Equation):
    """A known pan, tilt or roll, radians, on one frame or on all."""

    cameras: Array = field(default_factory=lambda: np.zeros(0, int))
    which: int = 0
    radians: float = 0.0
    directional = True
    unit = "rad"

    def rows(self, state: State) -> list[Row]:
        sigma = self.sigma * math.sqrt(len(self.cameras))
        out = []
        for camera in self.cameras:
            rotation = state.rotations[camera]
            value = angles_from_rotation(rotation)[self.which]
            off = (value - self.radians + math.pi) % (2 * math.pi) - math.pi
            slope = np.zeros(7)
            slope[:3] = angle_slopes(rotation)[self.which] / sigma
            out.append(Row(float(off / sigma), camera=int(camera), by_camera=slope))
        return out


@dataclass
class Sighted(Equation):
    """A known place, seen on one frame: the camera is held by it, and no point is needed.

    world_sigma (3,): how well each coordinate is known, metres. It adds to the σ in the picture.
    """

    camera: int = 0
    world: Array = field(default_factory=lambda: np.zeros(3))
    xy: Array = field(default_factory=lambda: np.zeros(2))
    optics: Optics | None = None
    world_sigma: Array = field(default_factory=lambda: np.zeros(3))
    spread_px: float = 0.0
    unit = "px"

    def rows(self, state: State) -> list[Row]:
        by_camera, by_point = np.zeros((2, 7)), np.zeros((2, 3))
        by_lens, at = np.zeros((2, len(PARAMETERS))), np.zeros(2)
        seen = jacobian_at(
            np.ascontiguousarray(state.rotations[self.camera]),
            np.ascontiguousarray(state.positions[self.camera]),
            float(state.zoom[self.camera]),
            state.lens,
            self.optics.packed,
            limit2(state.lens),
            self.world,
            by_camera,
            by_point,
            by_lens,
            at,
        )
        if not seen:  # behind the camera: as far off as anything can be
            at, by_camera, by_lens = self.xy + 1e5, np.zeros((2, 7)), np.zeros_like(by_lens)
        sigma = math.hypot(self.sigma, self.spread_px)
        return [
            Row(
                float((at[axis] - self.xy[axis]) / sigma),
                camera=self.camera,
                by_camera=by_camera[axis] / sigma,
                by_lens=by_lens[axis] / sigma,
            )
            for axis in range(2)
        ]

    def settle(self, state: State) -> None:
        """Fix how large the place's own ± is in the picture: it must not change while a sum of squares is minimised."""
        distance = float(np.linalg.norm(self.world - state.positions[self.camera]))
        spread = float(np.linalg.norm(self.world_sigma))
        self.spread_px = self._focal_px(state) * spread / max(distance, spread, 1e-9)

    def _focal_px(self, state: State) -> float:
        down = self.optics.grid.px_linear[:, 1]
        return math.exp(state.lens[0]) * float(np.linalg.norm(down))

    def placing_rows(self, state: State) -> list[Row]:
        """The angle between the ray and the direction of the place, in two components: defined behind the camera too."""
        lens = self.optics.lens.with_parameters(state.lens)
        ray = lens.rays(self.optics.grid.to_mm([self.xy]))[0]
        ray /= np.linalg.norm(ray)
        across = tangents(ray[None])[0]
        rotation = state.rotations[self.camera]
        p = rotation.T @ (self.world - state.positions[self.camera])
        distance = max(float(np.linalg.norm(p)), 1e-9)
        n = p / distance
        turned = np.array([[0, -p[2], p[1]], [p[2], 0, -p[0]], [-p[1], p[0], 0]])
        by_place = np.hstack([turned, -rotation.T])  # p by ω and by the position
        dn = (np.eye(3) - np.outer(n, n)) / distance @ by_place
        e, de = across @ n, across @ dn
        s, c = float(np.linalg.norm(e)), float(ray @ n)
        angle = math.atan2(s, c)
        if s < 1e-9:
            r, dr = e, de
        else:
            ds = e @ de / s
            d_angle = c * ds - s * (ray @ dn)
            r = angle * e / s
            dr = np.outer(e / s, d_angle) + angle * (de / s - np.outer(e, ds) / s**2)
        weight = self._focal_px(state) / math.hypot(self.sigma, self.spread_px)
        out = []
        for axis in range(2):
            by_camera = np.zeros(7)
            by_camera[:6] = dr[axis] * weight
            out.append(Row(float(r[axis] * weight), camera=self.camera, by_camera=by_camera))
        return out


@dataclass
class LensValue(Equation):
    """A known value of one of the lens's PARAMETERS, in that parameter's unit."""

    index: int = 0
    value: float = 0.0
    directional = True
    unit = "value"

    def rows(self, state: State) -> list[Row]:
        slope = np.zeros(len(PARAMETERS))
        slope[self.index] = 1 / self.sigma
        residual = (state.lens[self.index] - self.value) / self.sigma
        return [Row(float(residual), by_lens=slope)]


@dataclass
class AngleOfView(Equation):
    """A known angle of view, radians, distortion included."""

    basis: int = 0
    radians: float = 0.0
    evidence: FilmEvidence | None = None
    directional = True
    unit = "rad"

    def rows(self, state: State) -> list[Row]:
        value = self._value(state.lens)
        slope = np.zeros(len(PARAMETERS))
        free = np.flatnonzero(self.evidence.free_lens).tolist()
        lens = self.evidence.lens.with_parameters(state.lens)
        slope[free] = view_slopes(self.evidence.grid, lens, free)[self.basis] / self.sigma
        return [Row(float((value - self.radians) / self.sigma), by_lens=slope)]

    def _value(self, lens: Array) -> float:
        view = Camera(self.evidence.grid, self.evidence.lens.with_parameters(lens), np.eye(4)).view
        return (view.horizontal, view.vertical, view.diagonal)[self.basis]


@dataclass
class FocalRange(Equation):
    """The ends of a zoom: no residual between them."""

    from_mm: float = 0.0
    to_mm: float = 0.0
    directional = True
    unit = "mm"

    def rows(self, state: State) -> list[Row]:
        focal = math.exp(state.lens[0])
        nearest = min(max(focal, self.from_mm), self.to_mm)
        slope = np.zeros(len(PARAMETERS))
        slope[0] = 0.0 if nearest == focal else focal / self.sigma
        return [Row((focal - nearest) / self.sigma, by_lens=slope)]


@dataclass
class Lines(Equation):
    """Edges and bows drawn on one frame. `first`: the first of their unknowns among the extra ones."""

    directional = True
    camera: int = 0
    system: Any = None
    first: int = 0
    unit = "px"
    bow_normals: Array = field(default_factory=lambda: np.zeros((0, 3)))

    @classmethod
    def on(
        cls, evidence: FilmEvidence, camera: int, lines: list[dict[str, Any]], first: int
    ) -> Lines:
        """The lines of one frame, as a System of the still matcher."""
        system = System(still.read(_still_document(evidence, lines), checked=True))
        return cls(lines[0]["id"], 1.0, camera, system, first)

    @property
    def count(self) -> int:
        """How many unknowns they bring: an edge one, a bow two."""
        return len(self.system.evidence.edges) + 2 * len(self.system.evidence.bows)

    def line_up(self, rotation: Array, lens: Lens) -> Array:
        """(count,) the unknowns at which the lines fit a camera best; bows count from there."""
        angles, self.bow_normals = self.system.line_up_normals(rotation, lens)
        return np.concatenate([angles, np.zeros(2 * len(self.bow_normals))])

    def rows(self, state: State) -> list[Row]:
        system = self.system
        edges = len(system.evidence.edges)
        own = state.extra[self.first : self.first + self.count]
        lens = system.lens_with_focal(1.0).with_parameters(state.lens)
        base = tangents(self.bow_normals)
        moved = self.bow_normals + np.einsum("bij,bi->bj", base, own[edges:].reshape(-1, 2))
        length = np.linalg.norm(moved, axis=1, keepdims=True)
        normals = moved / length
        still_state = StillState(
            state.rotations[self.camera],
            state.positions[self.camera],
            lens,
            own[:edges],
            normals,
            np.zeros(0),
        )
        residual, jacobian = system.evaluate(still_state)
        by_extra = np.zeros((len(residual), self.count))
        by_extra[:, :edges] = jacobian[:, system.at["angles"]]
        here = tangents(normals)
        by_bows = jacobian[:, system.at["bows"]]
        for bow in range(len(normals)):
            across = (np.eye(3) - np.outer(normals[bow], normals[bow])) / length[bow]
            change = here[bow] @ across @ base[bow].T
            columns = slice(2 * bow, 2 * bow + 2)
            by_extra[:, edges + 2 * bow : edges + 2 * bow + 2] = by_bows[:, columns] @ change
        out = []
        for number, value in enumerate(residual):
            by_camera, by_lens = np.zeros(7), np.zeros(len(PARAMETERS))
            by_camera[:3] = jacobian[number, system.at["rotation"]]
            by_lens[system.free_lens] = jacobian[number, system.at["lens"]]
            extra = tuple(
                (self.first + index, float(slope))
                for index, slope in enumerate(by_extra[number])
                if slope
            )
            out.append(
                Row(
                    float(value),
                    camera=self.camera,
                    by_camera=by_camera,
                    by_lens=by_lens,
                    extra=extra,
                )
            )
        return out


def _still_document(evidence: FilmEvidence, lines: list[dict[str, Any]]) -> dict[str, Any]:
    """A version 1 document with some lines, and the lens left free as the film's is."""
    width_mm, height_mm = evidence.grid.gate_mm
    free = [name for name, is_free in zip(PARAMETERS[3:], evidence.free_lens[3:]) if is_free]
    lens: dict[str, Any] = {"projection": evidence.lens.projection.name, "focal_mm": None}
    lens["principal_point"] = "free" if evidence.free_lens[1] else "centre"
    if evidence.lens.projection.parameters:
        values = dict(zip(PARAMETERS[3:], evidence.lens.coefficients))
        lens["distortion"] = {**values, "free": free}
    marks = [{key: value for key, value in line.items() if key != "frame"} for line in lines]
    return {
        "format": still.FORMAT,
        "version": 1,
        "image": {"width": evidence.grid.width, "height": evidence.grid.height},
        "gate": {
            "width_mm": width_mm,
            "height_mm": height_mm,
            "squeeze": evidence.lens.squeeze,
        },
        "lens": lens,
        "marks": marks,
        "facts": [],
    }


@dataclass
class PathFacts:
    """All equations of one solution. tied: points that facts tie; extra_count: their own unknowns."""

    equations: list[Equation]
    extra_count: int = 0

    def rows(self, state: State) -> Sequence[Row]:
        """Of all equations, one after the other."""
        return [row for equation in self.equations for row in equation.rows(state)]

    def placing_rows(self, state: State) -> Sequence[Row]:
        """Of all equations, for a state that may be far off."""
        return [row for equation in self.equations for row in equation.placing_rows(state)]

    @property
    def tied(self) -> tuple[int, ...]:
        """Points that facts tie to something else, each once."""
        return tuple(sorted({point for equation in self.equations for point in equation.tied}))

    def begin(self, state: State, lens: Lens) -> Array:
        """(extra_count,) values at which the facts' own unknowns suit a state."""
        extra = np.zeros(self.extra_count)
        own = lens.with_parameters(state.lens)
        for equation in self.equations:
            if isinstance(equation, OnOnePlane):
                places = state.points[list(equation.points), equation.axis]
                extra[equation.extra] = np.median(places)
            elif isinstance(equation, Lines):
                span = slice(equation.first, equation.first + equation.count)
                extra[span] = equation.line_up(state.rotations[equation.camera], own)
            elif isinstance(equation, Sighted):
                equation.settle(state)
        return extra


def gather(
    evidence: FilmEvidence, posed: Array, placed: Array, planes: dict[str, tuple[int, list[str]]]
) -> PathFacts:
    """The equations of the facts that can be used.

    posed (F,): frames that have a camera; placed (T,): tracks that have a point. What is about others
    says nothing. planes: axis and track ids by the id of each plane whose place isn't known.
    """
    number_of_frame = {int(f): n for n, f in enumerate(evidence.frames[posed])}
    number_of_track = {
        evidence.tracks.ids[index]: n for n, index in enumerate(np.flatnonzero(placed).tolist())
    }
    equations: list[Equation] = []
    for point, index in enumerate(np.flatnonzero(placed).tolist()):
        id_ = evidence.tracks.ids[index]
        for axis in np.flatnonzero(np.isfinite(evidence.world[index])):
            sigma = evidence.world_sigma[index, axis]
            if sigma > 0:
                metres = float(evidence.world[index, axis])
                equations.append(PointCoordinate(id_, float(sigma), point, int(axis), metres))
    equations += _sighted(evidence, number_of_frame)
    every = np.arange(len(number_of_frame))
    for fact in evidence.facts:
        equations += _equations(fact, evidence, number_of_frame, number_of_track, every)
    for index, value, sigma in evidence.lens_known:
        equations.append(LensValue(f"lens.{PARAMETERS[index]}", sigma, index, value))
    facts = PathFacts(equations)
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


def _sighted(evidence: FilmEvidence, frames: dict[int, int]) -> list[Equation]:
    """Of tracks with one sighting, spots drawn on a frame, those whose place is known.

    Exactly, or by a length up or across from one that is: the foot of a doorway is the origin, its head so
    much higher. Which end is higher, or farther right, the picture tells.
    """
    tracks, optics = evidence.tracks, Optics(evidence.grid, evidence.lens)
    single = {
        tracks.ids[index]: int(tracks.starts[index])
        for index in np.flatnonzero(tracks.lengths() == 1).tolist()
    }
    known: dict[str, tuple[str, Array, Array]] = {}
    for id_ in single:
        index = tracks.ids.index(id_)
        if np.isfinite(evidence.world[index]).all():
            known[id_] = (id_, evidence.world[index], evidence.world_sigma[index])
    for fact in evidence.facts:
        if fact["kind"] == "length" and fact.get("along") in ("up", "across"):
            _add_far_end(fact, known, single, tracks)
    out: list[Equation] = []
    for id_, (told, world, sigma) in known.items():
        row = single[id_]
        frame = int(tracks.frame[row])
        if frame in frames:
            own = float(tracks.sigma[row].mean())
            place = Sighted(told, own, frames[frame], world, tracks.xy[row], optics, sigma)
            out.append(place)
    return out


def _add_far_end(
    fact: dict[str, Any],
    known: dict[str, tuple[str, Array, Array]],
    single: dict[str, int],
    tracks: Tracks,
) -> None:
    """Add the end of a length whose other end is known; which is then known by that length."""
    for near, far in ((fact["from"], fact["to"]), (fact["to"], fact["from"])):
        if near not in known or far in known or far not in single:
            continue
        axis = AXES.index(fact["along"])
        apart = tracks.xy[single[far]] - tracks.xy[single[near]]
        sign = np.sign(apart[0]) if axis == 0 else -np.sign(apart[1])
        _, world, sigma = known[near]
        step, spread = np.zeros(3), sigma.copy()
        step[axis] = (sign or 1.0) * fact["metres"]
        spread[axis] = math.hypot(spread[axis], fact["plus_minus"])
        known[far] = (fact["id"], world + step, spread)


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
        if fact["from"] == fact["to"]:
            raise Problem(
                f"The length “{still.label(fact)}” begins and ends at the same point.", id_
            )
        if not {fact["from"], fact["to"]} <= set(tracks):
            return []
        axis = AXES.index(fact["along"]) if "along" in fact else None
        ends = tracks[fact["from"]], tracks[fact["to"]]
        return [Distance(id_, sigma, *ends, float(fact["metres"]), axis)]
    if kind == "camera_height":
        return [CameraCoordinate(id_, sigma, every, 1, float(fact["metres"]))]
    if kind == "camera_position":
        return [
            CameraCoordinate(id_, sigma, every, axis, float(metres))
            for axis, metres in enumerate(fact["metres"])
            if metres is not None
        ]
    if kind == "focal_range":
        if not evidence.has_gate:
            raise Problem(
                "A range of focal lengths in millimetres means nothing without the gate: give the "
                "gate's size.",
                id_,
            )
        if fact["from_mm"] > fact["to_mm"]:
            raise Problem(f"The range “{still.label(fact)}” must begin with its shorter end.", id_)
        return [FocalRange(id_, sigma, float(fact["from_mm"]), float(fact["to_mm"]))]
    radians, sigma = math.radians(fact["degrees"]), max(math.radians(sigma), 1e-9)
    if kind == "camera_angle":
        return [CameraAngle(id_, sigma, every, ANGLES.index(fact["of"]), radians)]
    return [AngleOfView(id_, sigma, BASES.index(fact["basis"]), radians, evidence)]
