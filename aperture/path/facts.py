"""What is known beside the tracks, as equations of the bundle.

Each fact gives one or more `Row`s: (value − known) / ±, with the derivatives by the camera of its
frame, by points, by the lens. The kinds are those of the still matcher (`aperture.match.facts`),
bound to frames where that makes sense. Edges and bows drawn on a frame are the still matcher's own
equations (`aperture.match.system`) for the camera of that frame and the shared lens.

A fact about the camera without a frame holds for all frames. Its ± is that of one measurement, not
of as many as there are frames, so each frame's equation gets the ± times √F.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from copy import copy
from dataclasses import dataclass, field, replace

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.geometry.rotation import angles_from_rotation
from aperture.lens.lens import PARAMETERS, Lens
from aperture.match.facts import angle_slopes, view_slopes
from aperture.path.document import FilmEvidence
from aperture.path.drawn import Lines, Sighted
from aperture.path.problem import Equation, Row, State

# How well points that are said to lie on one plane do so, metres.
PLANE_SIGMA = 1e-4
# Sine of a line's turn away from its axis that counts as none.
NO_TURN = 1e-6
# What stands for a camera's place is there within this share of the distance that is measured from
# it.
SAME_PLACE_SHARE = 1e-6


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
    """The distance between two points; with an axis, they differ along that axis only, within the
    same ±."""

    start: int = 0
    end: int = 0
    metres: float = 0.0
    axis: int | None = None
    # How well the ends stand for the points that are meant, px, by which cameras they were put
    # there (None: any), and how many px a focal length of 1 mm has.
    drawn_px: tuple[float, ...] = (0.0, 0.0)
    drawn_on: tuple[int | None, ...] = (None, None)
    px_per_mm: float = 1.0
    given: float | None = None

    @property
    def tied(self) -> tuple[int, ...]:
        return (self.start, self.end)

    def settle(self, state: State) -> None:
        """Take into the ± what a hand's unrest is worth at the distance that the ends have: it is
        the same on all frames."""
        if not any(self.drawn_px):
            return
        self.given = self.sigma if self.given is None else self.given
        focal = np.exp(state.lens[0] + state.zoom) * self.px_per_mm
        spread = 0.0
        for point, px, on in zip((self.start, self.end), self.drawn_px, self.drawn_on):
            away = np.linalg.norm(state.positions - state.points[point], axis=1) / focal
            spread += (px * float(np.median(away) if on is None else away[on])) ** 2
        self.sigma = math.sqrt(self.given**2 + spread)

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
class Direction(Equation):
    """The line from one point to another runs along an axis of the world, in its positive sense.

    sigma: of its direction, rad. Each of the two coordinates across the axis gives an equation: how
    far the line is turned away from the axis, towards that coordinate.
    """

    start: int = 0
    end: int = 0
    axis: int = 0
    unit = "rad"

    @property
    def tied(self) -> tuple[int, ...]:
        return (self.start, self.end)

    def rows(self, state: State) -> list[Row]:
        apart = state.points[self.end] - state.points[self.start]
        length = max(float(np.linalg.norm(apart)), 1e-12)
        way = apart / length
        cosine = float(np.clip(way[self.axis], -1.0, 1.0))
        sine = max(math.sqrt(1 - cosine**2), NO_TURN)
        angle = math.atan2(sine, cosine)
        # A component of the unit vector is a sine: by this share it falls short of the angle.
        share = angle / sine
        by_cosine = -1 / 3 if sine <= NO_TURN else (cosine * share - 1) / sine**2
        by_apart = (np.eye(3) - np.outer(way, way)) / length
        out = []
        for across in (axis for axis in range(3) if axis != self.axis):
            by_way = share * np.eye(3)[across] + way[across] * by_cosine * np.eye(3)[self.axis]
            slope = by_way @ by_apart / self.sigma
            residual = float(way[across] * share / self.sigma)
            out.append(
                Row(
                    residual,
                    points=(self.start, self.end),
                    by_points=np.stack([-slope, slope]),
                )
            )
        return out


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
class CamerasApart(Equation):
    """The distance between the cameras of two frames, as of the two eyes of a pair.

    An equation depends on one camera only: three unknowns of its own stand for the place of the
    first.
    """

    first: int = 0
    second: int = 1
    metres: float = 0.0
    extra: int = 0

    def _apart(self, state: State, begin: Array) -> tuple[float, Array]:
        away = state.positions[self.second] - begin
        length = max(float(np.linalg.norm(away)), 1e-12)
        return float(length - self.metres) / self.sigma, away / length / self.sigma

    def rows(self, state: State) -> list[Row]:
        span = range(self.extra, self.extra + 3)
        begin = state.extra[self.extra : self.extra + 3]
        tight = SAME_PLACE_SHARE * self.metres
        out = []
        for axis, index in enumerate(span):
            slope = np.zeros(7)
            slope[3 + axis] = 1 / tight
            off = float(state.positions[self.first, axis] - begin[axis]) / tight
            out.append(Row(off, self.first, slope, extra=((index, -1 / tight),)))
        residual, along = self._apart(state, begin)
        slope = np.concatenate([np.zeros(3), along, [0.0]])
        own = tuple((index, -float(value)) for index, value in zip(span, along))
        return [*out, Row(residual, self.second, slope, extra=own)]

    def placing_rows(self, state: State) -> list[Row]:
        residual, along = self._apart(state, state.positions[self.first])
        slope = np.concatenate([np.zeros(3), along, [0.0]])
        return [Row(residual, self.second, slope, other=(self.first, -slope))]


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
class FocalOn(Equation):
    """A known focal length on one frame of a zoom; sigma of its logarithm."""

    camera: int = 0
    focal_mm: float = 1.0
    directional = True
    unit = "value"

    def rows(self, state: State) -> list[Row]:
        off = state.lens_on(self.camera)[0] - math.log(self.focal_mm)
        by_camera = np.zeros(7)
        by_camera[6] = 1 / self.sigma
        return [Row(float(off / self.sigma), camera=self.camera, by_camera=by_camera)]


@dataclass
class AngleOfView(Equation):
    """A known angle of view, radians, distortion included; on one frame, where the lens zooms."""

    basis: int = 0
    radians: float = 0.0
    evidence: FilmEvidence = field(kw_only=True)
    camera: int | None = None
    directional = True
    unit = "rad"

    def rows(self, state: State) -> list[Row]:
        own = state.lens if self.camera is None else state.lens_on(self.camera)
        lens = self.evidence.lens.with_parameters(own)
        view = Camera(self.evidence.grid, lens, np.eye(4)).view
        value = (view.horizontal, view.vertical, view.diagonal)[self.basis]
        slope = np.zeros(len(PARAMETERS))
        free = np.flatnonzero(self.evidence.free_lens | (np.arange(len(PARAMETERS)) == 0)).tolist()
        slope[free] = view_slopes(self.evidence.grid, lens, free)[self.basis] / self.sigma
        return [_of_lens((value - self.radians) / self.sigma, slope, self.camera)]


@dataclass
class FocalRange(Equation):
    """The ends of a zoom: no residual between them; on one frame, where the lens zooms."""

    from_mm: float = 0.0
    to_mm: float = 0.0
    camera: int | None = None
    directional = True
    unit = "mm"

    def rows(self, state: State) -> list[Row]:
        own = state.lens if self.camera is None else state.lens_on(self.camera)
        focal = math.exp(own[0])
        nearest = min(max(focal, self.from_mm), self.to_mm)
        slope = np.zeros(len(PARAMETERS))
        slope[0] = 0.0 if nearest == focal else focal / self.sigma
        return [_of_lens((focal - nearest) / self.sigma, slope, self.camera)]


def _of_lens(residual: float, slope: Array, camera: int | None) -> Row:
    """An equation of the lens (8,), on one frame if a camera is given."""
    if camera is None:
        return Row(float(residual), by_lens=slope)
    by_camera = np.zeros(7)
    by_camera[6] = slope[0]
    return Row(float(residual), camera=camera, by_camera=by_camera, by_lens=slope)


@dataclass(frozen=True)
class Aside:
    """A fact that isn't heeded, as it can't be right; rivals: the ids of those which may be the
    wrong ones in its place."""

    equation: Equation
    rivals: tuple[str, ...]


@dataclass
class PathFacts:
    """All equations of one solution. tied: points that facts tie; extra_count: their own unknowns;
    aside: what isn't heeded."""

    equations: list[Equation]
    extra_count: int = 0
    aside: tuple[Aside, ...] = ()

    def own(self) -> PathFacts:
        """The same, for one solution: what `begin` settles at its state doesn't reach others."""
        return replace(self, equations=[copy(equation) for equation in self.equations])

    def without(self, wrong: Mapping[str, tuple[str, ...]], exact: Sequence[Equation]) -> PathFacts:
        """The same with some set aside, by their ids, each with its rivals; exact: coordinates
        beside them."""
        every = [*self.equations, *exact]
        aside = [Aside(one, wrong[one.id]) for one in every if one.id in wrong]
        kept = [one for one in self.equations if one.id not in wrong]
        return replace(self, equations=kept, aside=tuple(aside))

    def rows(self, state: State) -> Sequence[Row]:
        """Of all equations, one after the other."""
        return [row for equation in self.equations for row in equation.rows(state)]

    def pulling_rows(self, state: State) -> Sequence[Row]:
        """Those whose errors move the solution, each by as much as its ± says."""
        return self.rows(state)

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
        for equation in self.equations:
            if isinstance(equation, OnOnePlane):
                places = state.points[list(equation.points), equation.axis]
                extra[equation.extra] = np.median(places)
            elif isinstance(equation, Lines):
                span = slice(equation.first, equation.first + equation.count)
                own = lens.with_parameters(state.lens_on(equation.camera))
                extra[span] = equation.line_up(state.rotations[equation.camera], own)
            elif isinstance(equation, CamerasApart):
                span = slice(equation.extra, equation.extra + 3)
                extra[span] = state.positions[equation.first]
            elif isinstance(equation, (Sighted, Distance)):
                equation.settle(state)
        return extra


# What says something of the lens alone.
OF_LENS = (AngleOfView, FocalOn, FocalRange, LensValue)


@dataclass
class Loosened(PathFacts):
    """Facts whose ± are all `by` times as large, but for those about the lens alone; without
    `pulls` they have no residual either."""

    by: float = 1.0
    pulls: bool = True

    def rows(self, state: State) -> Sequence[Row]:
        """Of all equations, one after the other."""
        out = []
        for equation in self.equations:
            rows = equation.rows(state)
            out += rows if isinstance(equation, OF_LENS) else [self._loose(row) for row in rows]
        return out

    def pulling_rows(self, state: State) -> Sequence[Row]:
        """Without those that only hold the path where it was placed."""
        if self.pulls:
            return self.rows(state)
        of_lens = [equation for equation in self.equations if isinstance(equation, OF_LENS)]
        return [row for equation in of_lens for row in equation.rows(state)]

    def _loose(self, row: Row) -> Row:
        def less(slope: Array | None) -> Array | None:
            return None if slope is None else slope / self.by

        return replace(
            row,
            residual=row.residual / self.by if self.pulls else 0.0,
            by_camera=less(row.by_camera),
            by_points=row.by_points / self.by,
            by_lens=less(row.by_lens),
            extra=tuple((index, slope / self.by) for index, slope in row.extra),
        )
