"""The gate chain: from a sensor's photosites, step by step, to the plate, the working pictures and
the delivery.

A chain is described by a plain document (docs/formats.md, "Gate chain"), so that it can be kept and
sent:

    {"width_mm", "height_mm", "squeeze", "photosites": [w, h] or absent, "steps": [{"id", "do", …}],
    "plate_at": n}

The first `plate_at` steps lead to the plate; the rest is made from it. `build` turns the document
into stages, each a Grid with its exact map to the sensor. A stage may be *straight*: its pixels are
those of a lens without distortion, so that between it and the bent ones a position goes through the
lens and not only through the maps.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.gates.in_words import describe
from aperture.gates.steps import FINER, KINDS, Made, Source, make
from aperture.geometry.angles import FULL_FRAME_MM, View, equivalent_focal
from aperture.geometry.grid import Grid
from aperture.geometry.rotation import rotation_from_angles
from aperture.lens.lens import Lens
from aperture.lens.projections import RECTILINEAR


@dataclass(frozen=True)
class Stage:
    """One grid of the chain and how it came about. `step` is empty for the sensor and for the
    plate's adoption.

    `turn`: (3, 3) the sensor's camera from this one's, of a panorama that was turned; None where it
    looks the same way.
    """

    key: str
    name: str
    says: str
    grid: Grid
    straight: bool = False
    unsized: bool = False  # the number of pixels is not known, only the millimetres
    step: dict[str, Any] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    cut: tuple[int, int] | None = None
    off_centre: bool = False
    turn: tuple[tuple[float, ...], ...] | None = None

    @property
    def size_text(self) -> str:
        """`1920 × 1080`, or a dash where pixels aren't known."""
        return "–" if self.unsized else f"{self.grid.width} × {self.grid.height}"


@dataclass(frozen=True)
class RenderFit:
    """What to type into a renderer that fits its gate to the picture in one way; see
    `Chain.render_fits`."""

    fit: str
    gate_mm: tuple[float, float]
    angle: float
    angle_of: str
    fixed_focal_mm: float


@dataclass(frozen=True)
class Figures:
    """All that is known of one stage. Angles in radians, None where no focal length is known;
    lengths in mm."""

    gate_mm: tuple[float, float]
    diagonal_mm: float
    centre_mm: tuple[float, float]
    pitch_um: tuple[float, float]
    pixel_aspect: float
    aspect: float
    view: View | None
    focal_px: tuple[float, float] | None
    equivalent: dict[str, float] | None


@dataclass(frozen=True)
class Chain:
    """`plate` is the index of the plate's stage. `lens` works in the lens's millimetres, see
    `lens_from_mm`."""

    stages: tuple[Stage, ...]
    plate: int
    squeeze: float
    lens: Lens | None
    predicted: Grid
    problems: tuple[tuple[str, str], ...] = ()  # (id, sentence) of each step that can't be made

    @property
    def plate_grid(self) -> Grid:
        """The grid of the picture at hand."""
        return self.stages[self.plate].grid

    @property
    def lens_from_mm(self) -> Array:
        """(2, 2): sensor millimetres → the millimetres in which the plate's lens is described:
        along its rows and columns.

        A squeezing lens on a camera turned on its side squeezes down the plate; the factor is then
        put here, and the lens has none.
        """
        linear = self.plate_grid.linear
        upright = np.linalg.inv(linear / np.linalg.norm(linear, axis=0))
        return np.diag([1.0, self.squeeze]) @ upright if self.turned else upright

    @property
    def turned(self) -> bool:
        """Whether the plate's rows run along the sensor's columns."""
        return bool(abs(self.plate_grid.linear[0, 0]) < abs(self.plate_grid.linear[1, 0]))

    @property
    def match_gate(self) -> tuple[float, float, float]:
        """(width, height in mm, squeeze) of the plate, as a match document wants them."""
        width, height = self.plate_grid.gate_mm
        return (width, height * self.squeeze, 1.0) if self.turned else (width, height, self.squeeze)

    @property
    def axis_px(self) -> tuple[float, float]:
        """Where the middle of the sensor, and with it the axis of a lens that isn't shifted, meets
        the plate, px."""
        x, y = self.plate_grid.to_px([[0.0, 0.0]])[0]
        return float(x), float(y)

    def origin(self, stage: int, sensor: str) -> str:
        """Where a stage's figures come from: the `sensor`'s origin, unless a step on the way was
        typed in or, weaker still, assumed."""
        steps = [one.step for one in self.stages[: stage + 1] if one.step]
        if any(step["do"] == "return" for step in steps):
            return self.origin(self.plate, sensor)
        told = {
            step.get("origin") or ("catalogue" if step.get("from") == "mode" else "typed")
            for step in steps
        }
        return next((origin for origin in ("assumed", "typed") if origin in told), sensor)

    def follow(self, points: Array, stage: int) -> list[Array]:
        """Points (N, 2) px of one stage, on every stage (N, 2) px; NaN where a lens leads
        nowhere."""
        return [self.lead(points, stage, other) for other in range(len(self.stages))]

    def lead(self, points: Array, stage: int, to: int) -> Array:
        """Points (N, 2) px of one stage, on another, (N, 2) px; NaN where the lens leads
        nowhere."""
        one, other = self.stages[stage], self.stages[to]
        return other.grid.to_px(self._between(one.grid.to_mm(points), one, other))

    def sensor_mm(self, points: Array, stage: int) -> Array:
        """Where light of points (N, 2) px of a stage fell on the sensor, (N, 2) mm."""
        one = self.stages[stage]
        return self._between(one.grid.to_mm(points), one, replace(one, straight=False, turn=None))

    def _between(self, mm: Array, one: Stage, other: Stage) -> Array:
        """Places (N, 2) mm of one stage, in the millimetres of another."""
        turned = one.turn != other.turn
        if not turned and (one.straight == other.straight or not bends(self.lens)):
            return mm
        if self.lens is None:  # how far a turn moves the picture, only the lens knows
            return np.full(np.shape(mm), np.nan)
        to_lens = self.lens_from_mm
        old, new = (straight(self.lens) if stage.straight else self.lens for stage in (one, other))
        rays = old.rays(mm @ to_lens.T)
        if turned:
            rays = rays @ turn_between(one, other).T
        return new.project(rays) @ np.linalg.inv(to_lens).T

    def goes_around(self, stage: int) -> bool:
        """Whether a stage's picture goes on at its other side."""
        return self.lens is not None and self.camera(stage).goes_around

    def camera(self, stage: int) -> Camera:
        """The camera of a stage at the origin, where the plate's looks along −Z. Raises Problem
        where no lens is known."""
        if self.lens is None:
            raise Problem("No focal length is known yet.")
        one = self.stages[stage]
        affine = self.lens_from_mm @ np.array(one.grid.mm_from_px, float)
        grid = Grid(
            one.grid.width, one.grid.height, tuple(tuple(float(v) for v in row) for row in affine)
        )
        pose = np.eye(4)
        pose[:3, :3] = turn_between(one, self.stages[self.plate])
        return Camera(grid, straight(self.lens) if one.straight else self.lens, pose)

    def shown_gate(self, stage: int) -> tuple[float, float]:
        """The gate with its squeeze undone, along the stage's rows and columns, mm."""
        grid = self.stages[stage].grid
        return grid.shown_gate_mm(self.squeeze)

    @cached_property
    def _figures(self) -> dict[int, Figures]:
        """Those that were asked for."""
        return {}

    def figures(self, stage: int) -> Figures:
        """Everything that follows from a stage's map and the lens."""
        if stage not in self._figures:
            self._figures[stage] = self._find_figures(stage)
        return self._figures[stage]

    def _find_figures(self, stage: int) -> Figures:
        grid = self.stages[stage].grid
        width, height = grid.gate_mm
        across, down = grid.mm_per_px
        shown = self.shown_gate(stage)
        camera = self.camera(stage) if self.lens else None
        focal = self.lens.focal_mm if self.lens else None
        return Figures(
            (width, height),
            math.hypot(width, height),
            grid.centre_mm,
            (across * 1000, down * 1000),
            grid.pixel_aspect(self.squeeze),
            shown[0] / shown[1],
            camera.view if camera else None,
            camera.focal_px if camera else None,
            equivalent_focal(shown, focal) if focal else None,
        )

    def render_fits(self, stage: int) -> list[RenderFit]:
        """What a renderer needs for this stage, for each way of fitting its gate to the picture.

        `gate_mm` is the gate to type, squeeze undone, with the true focal length; `angle` the angle
        of view in radians that says the same where angles are typed; `fixed_focal_mm` the focal
        length for a renderer whose gate can't be changed from 36 × 24 mm. "fill" lets the gate's
        overhanging side be cut: for a 36 × 24 mm gate the picture's shape decides which. Off-centre
        gates need the lens shift of `figures().centre_mm` as well. Raises Problem where no lens is
        known.
        """
        if self.lens is None:
            raise Problem("No focal length is known yet.")
        width, height = self.shown_gate(stage)
        focal = self.lens.focal_mm
        across, down = (2 * math.atan(side / 2 / focal) for side in (width, height))
        fixed = {
            "width": focal * FULL_FRAME_MM[0] / width,
            "height": focal * FULL_FRAME_MM[1] / height,
        }
        filled = "width" if width / height >= FULL_FRAME_MM[0] / FULL_FRAME_MM[1] else "height"
        named = {"width": (across, "across"), "height": (down, "down")}
        return [
            RenderFit(fit, (width, height), *named[side], fixed[side])
            for fit, side in (("width", "width"), ("height", "height"), ("fill", filled))
        ]


def turn_between(one: Stage, other: Stage) -> Array:
    """(3, 3) directions in the camera of one stage, in another one's."""
    first, second = (
        np.eye(3) if stage.turn is None else np.array(stage.turn) for stage in (one, other)
    )
    return second.T @ first


def straight(lens: Lens) -> Lens:
    """The lens without its distortion: straight, of the same focal length, squeeze and centre."""
    return replace(lens, projection=RECTILINEAR, coefficients=(0.0,) * 5)


def bends(lens: Lens | None) -> bool:
    """Whether the lens draws straight lines bent."""
    return lens is not None and (lens.bends)


def build(
    gate: dict[str, Any],
    plate: tuple[int, int] | None = None,
    lens: Lens | None = None,
    strict: bool = False,
) -> Chain:
    """The chain of a gate document for a plate of (width, height) px.

    `lens` is described in the plate's rows and columns, as a match document has it, its centre
    measured from the plate's middle; a lens without focal length isn't one: pass None. A step that
    can't be made (any more: the lens may have changed) is passed over and told of in `problems`;
    `strict` raises Problem instead, with the step's id as its place.
    """
    problems: list[Any] = []
    steps, at = gate.get("steps", []), int(gate.get("plate_at", len(gate.get("steps", []))))
    squeeze = float(gate.get("squeeze", 1.0))
    told = None if strict else problems
    if sites := gate.get("photosites"):
        across, down = (int(n) for n in sites)
        sensor = Grid.from_gate(across, down, gate["width_mm"], gate["height_mm"])
        before = _run(sensor, steps[:at], squeeze, told)
    else:
        before = _run_unsized(gate, steps[:at], squeeze, plate, told)
    predicted = before[-1]
    before[0] = replace(before[0], says=gate.get("name") or "typed size")
    stages = before
    if plate and (predicted.unsized or plate != (predicted.grid.width, predicted.grid.height)):
        grid = predicted.grid.resize(*plate)
        adopted = Stage("plate", "Plate", "the picture at hand", grid, predicted.straight)
        stages = [*before, replace(adopted, turn=predicted.turn)]
    index = len(stages) - 1
    chain = Chain(tuple(stages), index, squeeze, None, predicted.grid)
    if lens is not None:
        half = chain.lens_from_mm @ np.array(chain.plate_grid.centre_mm)
        lens = replace(
            lens, centre_mm=(lens.centre_mm[0] + float(half[0]), lens.centre_mm[1] + float(half[1]))
        )
        chain = replace(chain, lens=lens)
    for number, step in enumerate(steps[at:], at + 1):
        made = _tried(chain.stages[-1], step, number, squeeze, chain, told)
        chain = replace(chain, stages=(*chain.stages, *made))
    return replace(chain, problems=tuple(problems))


def _run_unsized(
    gate: dict[str, Any],
    steps: list[Any],
    squeeze: float,
    plate: tuple[int, int] | None,
    problems: list[Any] | None,
) -> list[Stage]:
    """`_run` from a gate of which only the millimetres are known: on a grid so fine that rounding
    doesn't show."""
    across = FINER * (plate[0] if plate else 4096)
    for _ in range(2):  # the second time as fine as what the first left of the width wants
        down = max(1, round(across * gate["height_mm"] / gate["width_mm"]))
        sensor = Grid.from_gate(across, down, gate["width_mm"], gate["height_mm"])
        if problems:
            problems.clear()
        stages = _run(sensor, steps, squeeze, problems, unsized=True)
        if not plate or stages[-1].straight or not stages[-1].unsized:
            break
        finer = round(across * FINER * plate[0] / stages[-1].grid.width)
        across = min(max(FINER, finer), 4_000_000)
    return stages


def _run(
    sensor: Grid,
    steps: list[Any],
    squeeze: float,
    problems: list[Any] | None,
    unsized: bool = False,
) -> list[Stage]:
    stages = [Stage("sensor", "Sensor", "", sensor, unsized=unsized)]
    for number, step in enumerate(steps, 1):
        stages += _tried(stages[-1], step, number, squeeze, None, problems)
    return stages


def _tried(
    before: Stage,
    step: dict[str, Any],
    number: int,
    squeeze: float,
    chain: Chain | None,
    problems: list[tuple[str, str]] | None,
) -> list[Stage]:
    try:
        return [_stage(before, step, number, squeeze, chain)]
    except Problem as problem:
        if problems is None:
            raise
        problems.append((problem.place, problem.sentence))
        return []


def _stage(
    before: Stage, step: dict[str, Any], number: int, squeeze: float, chain: Chain | None
) -> Stage:
    after_plate = (
        (chain.plate_grid, chain.stages[chain.plate].straight, _cover(chain, before))
        if chain
        else ()
    )
    source = Source(before.grid, before.straight, before.unsized, squeeze, *after_plate)
    try:
        made = make(step, source)
    except Problem as problem:
        raise Problem(
            f"Step {number}, {KINDS.get(str(step.get('do')), 'unknown')}: {problem.sentence}",
            step.get("id", ""),
        ) from None
    return Stage(
        step.get("id", f"step-{number}"),
        KINDS[step["do"]],
        describe(step, before.grid, made.grid),
        made.grid,
        made.straight,
        made.unsized,
        step,
        made.notes,
        made.cut,
        made.off_centre,
        (
            chain.stages[chain.plate].turn
            if chain and step["do"] == "return"
            else _turned(before, made)
        ),
    )


def _turned(before: Stage, made: Made) -> tuple[tuple[float, ...], ...] | None:
    """The turn of a stage against the sensor."""
    if made.turn is None or not any(made.turn):
        return before.turn
    own = rotation_from_angles(*made.turn)
    turn = own if before.turn is None else np.array(before.turn) @ own
    return tuple(tuple(float(value) for value in row) for row in turn)


def _cover(chain: Chain, before: Stage) -> Callable[..., Any] | None:
    """What tells a step how far the straightened picture reaches: a function giving (left, top,
    right, bottom) in px of `before`'s grid.

    The picture is the last bent one of the chain: the plate, or what was cut from it. None where
    the lens bends nothing, or isn't known.
    """
    bent = next(
        (stage for stage in reversed(chain.stages[chain.plate :]) if not stage.straight), None
    )
    if not bends(chain.lens) or bent is None:
        return None

    def cover() -> tuple[float, float, float, float] | None:
        u = np.linspace(0, 1, 129)
        zero, one = np.zeros_like(u), np.ones_like(u)
        border = np.concatenate(
            [np.stack(pair, -1) for pair in ((u, zero), (u, one), (zero, u), (one, u))]
        ) * (bent.grid.width, bent.grid.height)
        target = replace(before, straight=True)
        reached = before.grid.to_px(chain._between(bent.grid.to_mm(border), bent, target))
        if not np.isfinite(reached).all():
            raise Problem(
                "the lens bends part of the picture's edge further than a straight picture can"
                " reach: no enlargement is enough."
            )
        return (*reached.min(axis=0), *reached.max(axis=0))

    return cover
