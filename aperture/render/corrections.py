"""What was done to a plate on its way from the sensor, and whether a render got it too often, or
not yet.

A matched camera describes the plate as it is: turned, flipped, desqueezed. A render from it has all
that already, and must get none of it again. What was rendered for another grid of the gate chain,
or by a program that knows no distortion, must be brought to the plate.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from itertools import pairwise, product
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.gates.chain import Chain, Stage, bends, straight, turn_between
from aperture.gates.steps import FLIPS, TURNS
from aperture.geometry.rotation import degrees_of
from aperture.plates.straighten import GOING_ON, going_on

AGREES = (
    0.6  # share of the union of two alphas that they have in common, above which they show the same
)
CLEARLY = 0.2  # by how much more another way must agree to be taken
SMALL = 480  # px across at which pictures are compared as wholes
# By how much the outlines must lie better for what moves them by some pixels only to be done to a
# render.
BETTER_PX = 0.3
TURNED = 0.08  # as CLEARLY, of a panorama's turn alone: it is known by its very amount
FINE_PX = 12.0  # a shift of less than this is told by the outlines, not by what the pictures cover
# A panorama's turn of less than this isn't seen; of less than the next it is told by the outlines.
LEAST_TURN_PX, OUTLINES_REACH_PX = 0.7, 6.0
PLATE = "plate"
STABILISED = "Stabilised"


@dataclass(frozen=True)
class Correction:
    """One correction. `ways`: those that can be told apart: 0 leaves a render as it came, 1 does
    it, −1 takes it back, −2 twice.

    `of_plate`: it is part of the plate's chain; else a slip that can happen to any render.
    `apply(picture, way)` gives the picture (H, W, C).
    """

    key: str
    name: str
    about: str
    ways: tuple[int, ...]
    of_plate: bool
    apply: Callable[..., Any]
    fine: bool = False


@dataclass(frozen=True)
class Target:
    """A grid that a render may be for. `to_plate(picture)` brings one of its size, (H, W, C), onto
    the plate, bending it where the grid is `straight` and the plate isn't."""

    key: str
    name: str
    width: int
    height: int
    to_plate: Callable[..., Any]
    straight: bool = False


@dataclass(frozen=True)
class Geometry:
    """What is done to a render: the grid it was made for, and the way of each correction by key."""

    grid: str
    ways: dict[str, int]


@dataclass(frozen=True)
class Recognised:
    """What explains a render best, and how much of it then agrees with what is expected, 0 to 1."""

    geometry: Geometry
    score: float


def corrections_of(chain: Chain | None, camera: Camera | None) -> list[Correction]:
    """The corrections of a plate: those in its chain, its lens's distortion, and the slips that are
    always possible."""
    out = [] if chain is None else _of_chain(chain)
    stages = () if chain is None else chain.stages[: chain.plate + 1]
    flips = {stage.step["way"] for stage in stages if stage.step.get("do") == "flip"}
    # A panorama has no straight twin that a render could be mistaken for.
    if camera is not None and bends(camera.lens) and not camera.lens.projection.around:

        def bend(picture: Array, way: int) -> Array:
            return _bent(picture, camera, way)

        out.append(Correction("lens", "Lens", "bent by its lens", (0, 1, -1), True, bend, True))
    for way, says in (("upside-down", "upside down"), ("sides", "mirrored left to right")):
        if way not in flips:
            name = f"Flip, {FLIPS[way]}"
            out.append(Correction(way, name, says, (0, -1), False, _flipping(way)))
    return out


def _of_chain(chain: Chain) -> list[Correction]:
    out = []
    for index, (before, stage) in enumerate(pairwise(chain.stages), 1):
        do = stage.step.get("do")
        if index <= chain.plate and do in _OF_STEP:
            out.append(_OF_STEP[do](chain, before, stage))
        elif index > chain.plate and do == "reorient" and chain.lens is not None:
            out.append(_reorient(chain, before, stage))
    return out


def _flipping(way: str) -> Callable[..., Any]:
    def flip(picture: Array, _way: int) -> Array:
        return np.flip(picture, FLIP_AXES[way])

    return flip


def _turn(chain: Chain, before: Stage, stage: Stage) -> Correction:
    quarters = stage.step["quarters"]

    def turn(picture: Array, way: int) -> Array:
        return np.rot90(picture, -quarters * way)

    ways = (0, 1, -1) if quarters != 2 else (0, -1)
    return Correction(stage.key, "Turn", f"turned by {TURNS[quarters]}", ways, True, turn)


def _flip(chain: Chain, before: Stage, stage: Stage) -> Correction:
    way = stage.step["way"]
    says = f"flipped {FLIPS[way]}"
    return Correction(stage.key, "Flip", says, (0, -1), True, _flipping(way))


def _desqueeze(chain: Chain, before: Stage, stage: Stage) -> Correction:
    by = stage.step.get("by") or chain.squeeze
    across, down = (1.0, 1 / by) if stage.step.get("keep") == "width" else (by, 1.0)

    def desqueeze(picture: Array, way: int) -> Array:
        return _scaled(picture, across**way, down**way)

    says = f"desqueezed by {by:g}"
    return Correction(stage.key, "Desqueeze", says, (0, 1, -1), True, desqueeze)


def _stabilise(chain: Chain, before: Stage, stage: Stage) -> Correction:
    # In px of the plate, whatever the grid was that the step moved: where a px of the picture was
    # before, or came to lie.
    plate, grids = chain.plate_grid, (before.grid, stage.grid)

    def led(at: Array, way: int) -> Array:
        old, new = grids if way > 0 else grids[::-1]
        return plate.to_px(new.to_mm(old.to_px(plate.to_mm(at))))

    def stabilise(picture: Array, way: int) -> Array:
        high, wide = picture.shape[:2]
        # Of a picture with overscan the plate is the middle.
        corner = np.array([wide - plate.width, high - plate.height]) / 2
        return _resampled(picture, lambda at: led(at - corner, way) + corner, wide, high)

    ends = np.array([[0, 0], [plate.width, plate.height], [plate.width / 2, plate.height / 2]])
    moved = led(ends, -1) - ends
    right, down = moved[2]
    turned = "" if np.allclose(moved, moved[2], atol=1e-6) else ", turned or scaled"
    says = f"stabilised by {right:+.4g}, {down:+.4g} px{turned}"
    fine = bool(np.linalg.norm(moved, axis=1).max() < FINE_PX)
    return Correction(stage.key, "Stabilise", says, (0, 1, -1), True, stabilise, fine)


def _reorient(chain: Chain, before: Stage, stage: Stage) -> Correction:
    of_plate = stage in chain.stages[: chain.plate + 1]
    turn, plate = turn_between(stage, before), chain.camera(chain.plate)

    def reorient(picture: Array, way: int) -> Array:
        high, wide = picture.shape[:2]
        camera = replace(plate, grid=plate.grid.resize(wide, high))
        own = np.linalg.matrix_power(turn if way > 0 else turn.T, abs(way))

        def lead(at: Array) -> Array:
            return camera.grid.to_px(
                camera.lens.project(camera.lens.rays(camera.grid.to_mm(at)) @ own.T)
            )

        return _resampled(picture, lead, wide, high, camera.goes_around)

    angle = degrees_of(turn)
    moved = math.radians(angle) * max(plate.focal_px)
    ways: tuple[int, ...] = (0, 1, -1) if of_plate else (0, -1, -2)
    says = f"{angle:.1f}° on this frame"
    if moved < LEAST_TURN_PX:  # both would look the same
        ways = (0,)
    return Correction(
        stage.key, STABILISED, says, ways, of_plate, reorient, moved < OUTLINES_REACH_PX
    )


def _straighten(chain: Chain, before: Stage, stage: Stage) -> Correction:
    def leave(picture: Array, way: int) -> Array:
        return picture

    says = "freed of its lens’s distortion"
    return Correction(stage.key, "Undistort", says, (0,), True, leave)


_OF_STEP: dict[str, Callable[..., Correction]] = {
    "turn": _turn,
    "flip": _flip,
    "desqueeze": _desqueeze,
    "stabilise": _stabilise,
    "reorient": _reorient,
    "straighten": _straighten,
}
FLIP_AXES = {"sides": 1, "upside-down": 0}


def targets_of(chain: Chain | None, width: int, height: int) -> list[Target]:
    """The plate, (width, height) px, and every grid of its chain."""
    out = [Target(PLATE, "the plate", width, height, lambda picture: picture)]
    if chain is None:
        return out
    for index, stage in enumerate(chain.stages):
        if (
            index != chain.plate
            and not stage.unsized
            and not (stage.step and stage.step["do"] == "reorient")  # a correction of its own
            and stage.grid.width * stage.grid.height <= 250_000_000
        ):
            out.append(
                Target(
                    stage.key,
                    stage.name,
                    stage.grid.width,
                    stage.grid.height,
                    lambda picture, index=index: _resampled(
                        picture,
                        lambda at: chain.lead(at, chain.plate, index),
                        width,
                        height,
                        chain.goes_around(index),
                    ),
                    stage.straight and not chain.stages[chain.plate].straight,
                )
            )
    return out


def apply(
    picture: Array, corrections: list[Correction], targets: list[Target], geometry: Geometry
) -> Array | None:
    """The picture (H, W, C) on the plate; None where its size doesn't fit the grid."""
    target = next((one for one in targets if one.key == geometry.grid), targets[0])
    ways = geometry.ways
    for one in reversed(corrections):
        if ways.get(one.key, 0) < 0:
            picture = one.apply(picture, ways[one.key])
    for one in corrections:
        if ways.get(one.key, 0) > 0:
            picture = one.apply(picture, 1)
    if picture.shape[:2] != (target.height, target.width):
        return None
    return target.to_plate(np.ascontiguousarray(picture))


def recognise(
    alpha: Array, expected: Array, corrections: list[Correction], targets: list[Target]
) -> Recognised | None:
    """The grid that a render with this alpha (H, W) was made for, and what must be done to it, so
    that it agrees best with the `expected` alpha (H, W) of the plate, fine corrections left aside;
    None where its size fits in no way.
    """
    best, plain = None, 0.0
    movable = [one for one in corrections if len(one.ways) > 1 and not one.fine]
    for target in targets:
        for ways in product(*(one.ways for one in movable)):
            changes = sum(map(abs, ways))
            geometry = Geometry(
                target.key, {one.key: way for one, way in zip(movable, ways) if way}
            )
            found = (
                apply(alpha[..., None], corrections, targets, geometry) if changes <= 2 else None
            )
            if found is None:
                continue
            score = overlap(found[..., 0], expected)
            if target.key == PLATE and not changes:
                plain = score
            # Of two explanations that agree alike: another grid where its size says so, else a
            # correction done twice.
            elsewhere = 0.005
            if target.key == PLATE:
                elsewhere = 0.0
            elif (target.height, target.width) == expected.shape:
                elsewhere = 0.015
            rank = score - 0.01 * changes - elsewhere
            if best is None or rank > best[0]:
                best = rank, score, geometry, changes or target.key != PLATE
    if best is None:
        return None
    _, score, geometry, changed = best
    turned = {one.key for one in corrections if one.name == STABILISED}
    only_turned = geometry.grid == PLATE and set(geometry.ways) <= turned
    clearly = TURNED if only_turned else CLEARLY
    if changed and plain and not score > max(AGREES, plain + clearly):
        return Recognised(Geometry(PLATE, {}), plain)
    return Recognised(geometry, score)


def refined(
    alpha: Array,
    expected: Array,
    corrections: list[Correction],
    targets: list[Target],
    geometry: Geometry,
) -> Geometry:
    """The geometry with those ways of the fine corrections, one after the other, with which the
    outlines lie best."""
    from aperture.render import offsets

    for one in corrections:
        if not one.fine:
            continue
        off = {}
        for way in one.ways:
            tried = Geometry(geometry.grid, geometry.ways | {one.key: way})
            laid = apply(alpha[..., None], corrections, targets, tried)
            measured = None if laid is None else offsets.measure(laid[..., 0], expected)
            if measured is not None:
                off[way] = float(np.percentile(np.abs(measured.off), 90))
        best = min(off, key=lambda way: off[way], default=0)
        if best and off[best] < min(0.5 * off.get(0, np.inf), off.get(0, np.inf) - BETTER_PX):
            geometry = Geometry(geometry.grid, geometry.ways | {one.key: best})
    return geometry


def overlap(alpha: Array, expected: Array) -> float:
    """What two alphas have in common, as a share of what either covers."""
    import cv2

    size = (SMALL, max(1, round(SMALL * expected.shape[0] / expected.shape[1])))
    a, b = (
        cv2.resize(np.clip(one, 0, 1).astype(np.float32), size, interpolation=cv2.INTER_AREA)
        for one in (alpha, expected)
    )
    return float(np.minimum(a, b).sum() / max(np.maximum(a, b).sum(), 1e-6))


def _scaled(picture: Array, across: float, down: float) -> Array:
    import cv2

    size = max(1, round(picture.shape[1] * across)), max(1, round(picture.shape[0] * down))
    return _channels(
        cv2.resize(
            picture,
            size,
            interpolation=cv2.INTER_AREA if min(across, down) < 1 else cv2.INTER_LINEAR,
        ),
        picture,
    )


def _bent(picture: Array, camera: Camera, way: int) -> Array:
    """A straight picture bent as the camera's lens bends (1), or a bent one straightened (−1); at
    any size."""
    high, wide = picture.shape[:2]
    grid, old, new = camera.grid.resize(wide, high), straight(camera.lens), camera.lens
    if way < 0:
        old, new = new, old
    return _resampled(
        picture, lambda at: grid.to_px(old.project(new.rays(grid.to_mm(at)))), wide, high
    )


def _resampled(
    picture: Array, lead: Callable[..., Any], width: int, height: int, around: bool = False
) -> Array:
    """(height, width, C) of a picture, where `lead` (N, 2) px → (N, 2) px says which of its places
    each place shows; empty outside. around: the picture goes on at its other side.

    Along whole pixels nothing is interpolated.
    """
    import cv2

    corners = np.array([[0, 0], [width, 0], [0, height], [width / 2, height / 3]], float)
    there = lead(corners)
    step = np.round(there[0])
    if np.isfinite(there).all() and np.abs(there - corners - step).max() < 1e-4:
        left, top = step.astype(int).tolist()
        return _cut(picture, left, top, width, height)
    scale = np.abs(np.nan_to_num((there[1] - there[0])[0] / width)) or 1.0
    source, shrunk = picture, 1.0
    if (
        scale > 1.25
    ):  # a larger picture is averaged first, or some of its pixels would never be looked at
        shrunk = 1 / scale
        source = _channels(
            cv2.resize(
                picture,
                (
                    max(1, round(picture.shape[1] * shrunk)),
                    max(1, round(picture.shape[0] * shrunk)),
                ),
                interpolation=cv2.INTER_AREA,
            ),
            picture,
        )
    factors = np.array(source.shape[1::-1]) / picture.shape[1::-1]
    aside = 0
    if around:
        source, aside = going_on(source), GOING_ON
    out, rows = np.zeros((height, width, picture.shape[2]), np.float32), 256
    for top in range(0, height, rows):
        y, x = np.mgrid[top : min(top + rows, height), 0:width] + 0.5
        at = (
            (lead(np.stack([x.ravel(), y.ravel()], -1)) * factors - 0.5)
            .astype(np.float32)
            .reshape(*x.shape, 2)
        )
        at = np.nan_to_num(at, nan=-1e6) + np.array([aside, 0], np.float32)
        out[top : top + rows] = _channels(
            cv2.remap(
                source, at[..., 0], at[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT
            ),
            picture,
        )
    return out


def _cut(picture: Array, left: int, top: int, width: int, height: int) -> Array:
    out = np.zeros((height, width, picture.shape[2]), np.float32)
    x, y = max(-left, 0), max(-top, 0)
    part = picture[max(top, 0) : max(top + height, 0), max(left, 0) : max(left + width, 0)]
    out[y : y + part.shape[0], x : x + part.shape[1]] = part
    return out


def _channels(made: Array, picture: Array) -> Array:
    """OpenCV drops the axis of a single channel."""
    return made[..., None] if made.ndim < picture.ndim else made
