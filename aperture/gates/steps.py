"""The steps of a gate chain: what each is called, what it takes, and the grid it makes.

A step is a plain document {"id": …, "do": one of KINDS, parameters}; see docs/formats.md for the
parameters of each. Sizes in px of the grid before; aspects as the picture is shown, with its
squeeze undone.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.errors import Problem
from aperture.geometry.grid import Grid

KINDS = {
    "window": "Window",
    "bin": "Bin",
    "resize": "Resize",
    "turn": "Turn",
    "flip": "Flip",
    "desqueeze": "Desqueeze",
    "pad": "Pad",
    "stabilise": "Stabilise",
    "reorient": "Reorient",
    "straighten": "Undistort",
    "overscan": "Overscan",
    "extract": "Extract",
    "return": "Return to the plate",
}
ABOUT = {
    "window": "Keep a rectangle, or as much as an aspect leaves, from the middle",
    "bin": "Join photosites in groups",
    "resize": "The same area in another number of pixels",
    "turn": "Turn by a quarter or half",
    "flip": "Mirror",
    "desqueeze": "Undo the lens's squeeze: wider pixels become square",
    "pad": "Add a border to reach a size or an aspect",
    "stabilise": "The picture was moved to hold it still: by so much on this frame",
    "reorient": "A panorama turned, to be level and to face its way: by so much on this frame",
    "straighten": "A working picture without the lens's distortion",
    "overscan": "More picture outside, for renders",
    "extract": "Crop to the delivery's aspect and bring to its size",
    "return": "Bend again and drop what lies outside: the plate's own grid",
}
TURNS = {1: "90° clockwise", 2: "180°", 3: "90° anticlockwise"}
FLIPS = {"sides": "left to right", "upside-down": "top to bottom"}
# More than this is a slip of the finger, and would be a picture nobody can hold.
LARGEST_PX = 200_000
# A sensor without known photosites is laid out this much finer than the plate, so that rounding to
# pixels does no harm.
FINER = 16


@dataclass(frozen=True)
class Source:
    """What a step starts from. `cover()` gives the box, in px, that the straightened picture needs;
    None where nothing is bent."""

    grid: Grid
    straight: bool
    unsized: bool
    squeeze: float
    plate: Grid | None = None
    plate_straight: bool = False
    cover: Callable[..., Any] | None = None


@dataclass(frozen=True)
class Made:
    """What a step made. `cut`: the rectangle that was cut from the middle, px; `notes`: sentences
    about roundings worth knowing; `turn`: (pan, tilt, roll) by which its camera looks away from the
    one before, radians.
    """

    grid: Grid
    straight: bool
    unsized: bool
    notes: tuple[str, ...] = ()
    cut: tuple[int, int] | None = None
    off_centre: bool = False
    turn: tuple[float, float, float] | None = None


def make(step: dict[str, Any], source: Source) -> Made:
    """The grid that a step makes. Raises Problem with a sentence where it can't."""
    maker = _MAKERS.get(str(step.get("do")))
    if maker is None:
        raise Problem(f"there is no step called “{step.get('do')}”.")
    made = maker(step, source)
    if max(made.grid.width, made.grid.height) > LARGEST_PX * (20 if made.unsized else 1):
        raise Problem(
            f"this makes {made.grid.width} × {made.grid.height} px, more than {LARGEST_PX} each"
            " way."
        )
    return made


def centred(size: tuple[int, int], inside: tuple[int, int]) -> tuple[int, int]:
    """The corner (left, top) of a rectangle in the middle of another; where the halves don't come
    out, it lies half a pixel left or up."""
    left, top = (math.floor((outer - inner) / 2) for outer, inner in zip(inside, size))
    return left, top


def fitting(aspect: float, grid: Grid, squeeze: float, multiple: int = 1) -> tuple[int, int]:
    """The largest (width, height) in px of the shown `aspect` inside a grid, rounded to a
    `multiple` of pixels where it was cut."""
    if not 0.05 <= aspect <= 50:
        raise Problem("the aspect must lie between 0.05 and 50.")
    shape = aspect / grid.pixel_aspect(squeeze)  # width over height counted in pixels

    def cut(value: float, whole: int) -> int:
        return max(1, min(whole, multiple * round(value / multiple)))

    if grid.width / grid.height >= shape:
        return cut(grid.height * shape, grid.width), grid.height
    return grid.width, cut(grid.width / shape, grid.height)


def _whole(step: dict[str, Any], key: str, least: int = 1, fallback: int | None = None) -> int:
    value = step.get(key, fallback)
    if (
        isinstance(value, bool)
        or not isinstance(value, int | float)
        or value != int(value)
        or not least <= value <= LARGEST_PX * 20
    ):
        raise Problem(f"its {key} must be a whole number of at least {least}.")
    return int(value)


def _factor(step: dict[str, Any], key: str, low: float, high: int) -> float:
    value = step.get(key)
    if isinstance(value, bool) or not isinstance(value, int | float) or not low <= value <= high:
        raise Problem(f"its {key} must lie between {low:g} and {high:g}.")
    return float(value)


def _window(step: dict[str, Any], source: Source) -> Made:
    grid = source.grid
    if "aspect" in step:
        size = fitting(
            _factor(step, "aspect", 0.05, 50), grid, source.squeeze, _whole(step, "multiple", 1, 1)
        )
        return _cropped(source, size)
    if "width_mm" in step:
        across, down = grid.mm_per_px
        width, height = (
            max(1, round(_factor(step, key, 0.01, 10000) / pitch))
            for key, pitch in (("width_mm", across), ("height_mm", down))
        )
        size = (width, height)
        if (
            size[0] > grid.width + 0.5 * source.unsized
            or size[1] > grid.height + 0.5 * source.unsized
        ):
            raise Problem(
                f"a window of {step['width_mm']:g} × {step['height_mm']:g} mm is larger than the"
                f" {grid.gate_mm[0]:.2f} × {grid.gate_mm[1]:.2f} mm it is cut from."
            )
        return _cropped(source, size)
    _require_size(source)
    width, height = _whole(step, "width"), _whole(step, "height")
    if "left" not in step and "top" not in step:
        if width > grid.width or height > grid.height:
            raise Problem(
                f"a window of {width} × {height} px is larger than the {grid.width} × {grid.height}"
                " px it is cut from."
            )
        return _cropped(source, (width, height))
    left, top = _whole(step, "left", 0), _whole(step, "top", 0)
    if left + width > grid.width or top + height > grid.height:
        raise Problem(
            f"the window reaches to {left + width}, {top + height} px, outside the {grid.width} ×"
            f" {grid.height} px it is cut from."
        )
    return Made(grid.window(left, top, width, height), source.straight, False)


def _cropped(source: Source, size: tuple[int, int]) -> Made:
    grid = source.grid
    left: float
    top: float
    left, top = centred(size, (grid.width, grid.height))
    shift = ((grid.width - size[0]) % 2, (grid.height - size[1]) % 2)
    notes: tuple[str, ...] = ()
    if any(shift) and not source.unsized:
        where = " and ".join(word for word, odd in zip(("to the left", "upward"), shift) if odd)
        notes = (
            (
                f"{size[0]} × {size[1]} can't lie exactly in the middle of {grid.width} ×"
                f" {grid.height}: its centre is half a pixel {where}."
            ),
        )
    if source.unsized:
        left, top = (grid.width - size[0]) / 2, (grid.height - size[1]) / 2
    return Made(
        grid.window(left, top, *size), source.straight, source.unsized, notes, size, bool(notes)
    )


def _require_size(source: Source) -> None:
    if source.unsized:
        raise Problem(
            "how many photosites the sensor has isn't known, so a size in px means nothing here:"
            " type it in mm, or give the photosites."
        )


def _bin(step: dict[str, Any], source: Source) -> Made:
    by = _whole(step, "by", 2)
    grid = source.grid
    kept = (grid.width - grid.width % by, grid.height - grid.height % by)
    if not all(kept):
        raise Problem(f"groups of {by} are larger than the picture.")
    notes = (
        ()
        if kept == (grid.width, grid.height) or source.unsized
        else (f"{grid.width - kept[0]} columns and {grid.height - kept[1]} rows are left over.",)
    )
    return Made(
        grid.window(0, 0, *kept).resize(kept[0] // by, kept[1] // by),
        source.straight,
        source.unsized,
        notes,
    )


def _resize(step: dict[str, Any], source: Source) -> Made:
    grid, unsized = source.grid, source.unsized
    if "scale" in step:
        scale = _factor(step, "scale", 0.01, 100)
        size = max(1, round(grid.width * scale)), max(1, round(grid.height * scale))
    elif "height" not in step:
        width = _whole(step, "width")
        size, unsized = (width, max(1, round(grid.height * width / grid.width))), False
    elif "width" not in step:
        height = _whole(step, "height")
        size, unsized = (max(1, round(grid.width * height / grid.height)), height), False
    else:
        size, unsized = (_whole(step, "width"), _whole(step, "height")), False
    return Made(grid.resize(*size), source.straight, unsized)


def _turn(step: dict[str, Any], source: Source) -> Made:
    quarters = _whole(step, "quarters")
    if quarters not in TURNS:
        raise Problem("it turns by one, two or three quarters.")
    return Made(source.grid.turn(quarters), source.straight, source.unsized)


def _flip(step: dict[str, Any], source: Source) -> Made:
    if step.get("way") not in FLIPS:
        raise Problem("it mirrors left to right, or top to bottom.")
    grid = source.grid.flip()
    return Made(grid if step["way"] == "sides" else grid.turn(2), source.straight, source.unsized)


def _desqueeze(step: dict[str, Any], source: Source) -> Made:
    by = _factor(step, "by", 1, 4) if step.get("by") is not None else source.squeeze
    grid = source.grid
    if step.get("keep") == "width":
        return Made(
            grid.resize(grid.width, max(1, round(grid.height / by))),
            source.straight,
            source.unsized,
        )
    return Made(grid.desqueeze(by), source.straight, source.unsized)


def _stabilise(step: dict[str, Any], source: Source) -> Made:
    """The picture of the same size, its content scaled and turned about the middle, then moved to
    the right and down."""
    # Where the sensor's photosites aren't known its grid is laid out finer than the plate: the
    # step's px are the plate's.
    by = [
        _factor(step, key, -LARGEST_PX, LARGEST_PX) * (FINER if source.unsized else 1)
        for key in ("right", "down")
    ]
    grid = source.grid
    if abs(by[0]) >= grid.width or abs(by[1]) >= grid.height:
        raise Problem(f"moved by that much nothing is left of {grid.width} × {grid.height} px.")
    turn = _factor(step, "turn_deg", -180, 180) if step.get("turn_deg") else 0.0
    scale = _factor(step, "scale", 0.1, 10) if step.get("scale") else 1.0
    return Made(
        grid.moved(by[0], by[1], math.radians(turn), scale), source.straight, source.unsized
    )


def _reorient(step: dict[str, Any], source: Source) -> Made:
    """A panorama of the same grid, whose camera looks elsewhere: pan, tilt and roll in degrees, of
    the new camera in the old one."""
    pan, tilt, roll = (
        math.radians(_factor(step, key, -MOST_DEGREES, MOST_DEGREES))
        for key in PER_FRAME["reorient"]
    )
    return Made(source.grid, source.straight, source.unsized, turn=(pan, tilt, roll))


MOST_DEGREES = 1_000_000  # a film may go round and round
# What a step does on a frame, in the order of a line of its values; and what it is where nothing is
# said.
PER_FRAME = {
    "stabilise": {"right": 0.0, "down": 0.0, "turn_deg": 0.0, "scale": 1.0},
    "reorient": {"pan_deg": 0.0, "tilt_deg": 0.0, "roll_deg": 0.0},
}
MOST_VALUES = 100_000


def at_frame(steps: list[dict[str, Any]], frame: float) -> list[dict[str, Any]]:
    """Steps with the values that they have on one frame; those without values per frame stay as
    they are.

    `values` of a stabilising step are [frame, right, down, turn_deg, scale] each, of a reorienting
    one [frame, pan_deg, tilt_deg, roll_deg], in order of the frames; between two of them it is
    interpolated, before the first and after the last it holds.
    """
    return [_at_frame(step, frame) if step.get("values") else step for step in steps]


def _at_frame(step: dict[str, Any], frame: float) -> dict[str, Any]:
    table = np.array(step["values"], float)
    found = {
        name: float(np.interp(frame, table[:, 0], table[:, column]))
        for column, name in enumerate(PER_FRAME[step["do"]], 1)
    }
    return step | found


def _pad(step: dict[str, Any], source: Source) -> Made:
    grid = source.grid
    if "aspect" in step:
        shape = _factor(step, "aspect", 0.05, 50) / grid.pixel_aspect(source.squeeze)
        width, height = (
            max(grid.width, round(grid.height * shape)),
            max(grid.height, round(grid.width / shape)),
        )
    else:
        _require_size(source)
        width, height = _whole(step, "width"), _whole(step, "height")
        if width < grid.width or height < grid.height:
            raise Problem(
                f"a border can't make {grid.width} × {grid.height} px smaller: {width} × {height}"
                " px is a window."
            )
    left, top = centred((grid.width, grid.height), (width, height))
    odd = ((width - grid.width) % 2 or (height - grid.height) % 2) and not source.unsized
    notes = (
        (
            (
                f"The border is one pixel wider on one side: {grid.width} × {grid.height} can't lie"
                f" in the middle of {width} × {height}."
            ),
        )
        if odd
        else ()
    )
    return Made(grid.window(-left, -top, width, height), source.straight, source.unsized, notes)


def _straighten(step: dict[str, Any], source: Source) -> Made:
    if source.plate is None:
        return Made(source.grid, True, source.unsized)
    if source.straight:
        raise Problem("the picture is straight already.")
    if source.cover is None:
        return Made(
            source.grid,
            True,
            source.unsized,
            ("The lens bends nothing yet, so the working picture is the plate's.",),
        )
    if not step.get("enlarge", True):
        return Made(source.grid, True, source.unsized)
    return _grown(source, *_needed(source.grid, source.cover))


def _overscan(step: dict[str, Any], source: Source) -> Made:
    grid = source.grid
    if step.get("for") == "distortion":
        if source.plate is None:
            raise Problem("what the distortion needs is known after the plate only.")
        if source.cover is None:
            return Made(
                grid, True, source.unsized, ("The lens bends nothing yet: no overscan is needed.",)
            )
        return _grown(source, *_needed(source.grid, source.cover))
    if "percent" in step:
        share = _factor(step, "percent", 0, 400) / 200
        across, down = (math.ceil(round(side * share, 6)) for side in (grid.width, grid.height))
        return Made(grid.overscan(across, across, down, down), source.straight, source.unsized)
    _require_size(source)
    sides = [_whole(step, side, 0, 0) for side in ("left", "right", "top", "bottom")]
    return Made(grid.overscan(*sides), source.straight, False)


def _needed(grid: Grid, cover: Callable[..., Any]) -> list[int]:
    left, top, right, bottom = cover()
    # A millionth of a pixel is not a pixel.
    sides = [
        max(0, math.ceil(value - 1e-6))
        for value in (-left, right - grid.width, -top, bottom - grid.height)
    ]
    if max(sides[0], sides[1]) > 2 * grid.width or max(sides[2], sides[3]) > 2 * grid.height:
        raise Problem(
            "the lens bends so much that the straight picture would be more than five times as"
            " large: choose a smaller area first."
        )
    return sides


def _grown(source: Source, left: int, right: int, top: int, bottom: int) -> Made:
    # Even sizes, evenly added: half-resolution colour and half-size previews then come out whole.
    right += (source.grid.width + left + right) % 2
    bottom += (source.grid.height + top + bottom) % 2
    return Made(source.grid.overscan(left, right, top, bottom), True, source.unsized)


def _extract(step: dict[str, Any], source: Source) -> Made:
    made = _window(
        (
            {"aspect": step["aspect"], "multiple": step.get("multiple", 2)}
            if "aspect" in step
            else {key: step[key] for key in ("width", "height") if key in step}
        ),
        source,
    )
    if "aspect" in step and "width" in step:
        width = _whole(step, "width")
        height = (
            _whole(step, "height") if "height" in step else max(1, round(width / step["aspect"]))
        )
        notes = made.notes
        shown = made.grid.resize(width, height).pixel_aspect(source.squeeze)
        if (
            abs(shown - 1) * width > 0.5 + 1e-9
            and abs(made.grid.pixel_aspect(source.squeeze) - 1) < 1e-9
        ):
            notes += (
                (
                    f"{width} × {height} px isn't exactly the extraction's shape: stretched by"
                    f" {abs(shown - 1) * width:.1f} px over the width."
                ),
            )
        return Made(
            made.grid.resize(width, height), made.straight, False, notes, made.cut, made.off_centre
        )
    return made


def _return(step: dict[str, Any], source: Source) -> Made:
    if source.plate is None:
        raise Problem("the plate comes later.")
    return Made(source.plate, source.plate_straight, False)


_MAKERS = {
    "window": _window,
    "bin": _bin,
    "resize": _resize,
    "turn": _turn,
    "flip": _flip,
    "desqueeze": _desqueeze,
    "pad": _pad,
    "stabilise": _stabilise,
    "reorient": _reorient,
    "straighten": _straighten,
    "overscan": _overscan,
    "extract": _extract,
    "return": _return,
}
