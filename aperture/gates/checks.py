"""Can these numbers all be true? Each finding says what is wrong, by how much, and what would plausibly explain it.

A remedy carries the whole gate document (see `chain`) that it would make, so that taking one is replacing the document.
"""

from __future__ import annotations

import copy
import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

from aperture.gates.chain import Chain
from aperture.geometry.angles import FULL_FRAME_DIAGONAL_MM, FULL_FRAME_MM
from aperture.geometry.grid import Grid
from aperture.units import format_number

if TYPE_CHECKING:
    from aperture.gates.chain import Stage

# The squeezes of lenses in use: common practice, no source.
SQUEEZES = (1.25, 1.3, 1.33, 1.35, 1.5, 1.6, 1.65, 1.8, 2.0)
# Within this share two aspects are taken for the same shape: published sizes are rounded and scans are trimmed.
NEAR = 0.015


@dataclass(frozen=True)
class Remedy:
    """`gate`: the document to take."""

    key: str
    label: str
    gate: dict[str, Any]


@dataclass(frozen=True)
class Finding:
    """One thing worth saying. kind: good, note, doubt, bad."""

    key: str
    title: str
    says: str
    kind: str = "doubt"
    remedies: tuple[Remedy, ...] = ()


@dataclass(frozen=True)
class AspectCheck:
    """Whether the chain makes a picture of the plate's shape. `error_px`: too wide (+) or narrow by so many px over the width."""

    chain: Chain
    gate: dict[str, Any]

    @property
    def size(self) -> tuple[int, int]:
        """The plate, px."""
        return self.chain.plate_grid.width, self.chain.plate_grid.height

    @property
    def predicted_aspect(self) -> float:
        """Width over height in pixels of what the chain makes."""
        return self.chain.predicted.width / self.chain.predicted.height

    @cached_property
    def error_px(self) -> float:
        """Measured against the plate's width."""
        width, height = self.size
        error = width * (self.predicted_aspect * height / width - 1)
        squeeze = self.chain.squeeze
        if squeeze != 1 and self.chain.stages[0].unsized and not self.gate.get("steps"):
            # Only a size in mm is known: the picture may be still squeezed or squeezed no more, and both fit.
            shown = width * (self.predicted_aspect * squeeze * height / width - 1)
            return min(error, shown, key=abs)
        return error

    @property
    def agrees(self) -> bool:
        """Half a pixel over the width or the height is what rounding a size to whole pixels can do."""
        slack = 0.5 * max(1.0, self.size[0] / self.size[1])
        return abs(self.error_px) <= slack + 1e-6

    @property
    def scale(self) -> float:
        """Plate pixels for one of the chain's, across; 1 where the chain gives no count of pixels."""
        return 1.0 if self.chain.stages[0].unsized else self.size[0] / self.chain.predicted.width


def _with(gate: dict[str, Any], *more: dict[str, Any], **values: Any) -> dict[str, Any]:
    """The gate document with steps put in just before the plate, and values set."""
    out = copy.deepcopy(gate) | values
    steps, at = list(out.get("steps", [])), int(out.get("plate_at", len(out.get("steps", []))))
    for step in more:
        steps.insert(at, {"id": new_id(steps), "origin": "assumed", **step})
        at += 1
    return out | {"steps": steps, "plate_at": at}


def new_id(steps: list[dict[str, Any]]) -> str:
    """An id that no step has yet."""
    taken = {step.get("id") for step in steps}
    return next(key for number in range(1, len(steps) + 2) if (key := f"g{number}") not in taken)


def without(gate: dict[str, Any], step_id: str) -> dict[str, Any]:
    """The gate document without one step."""
    out = copy.deepcopy(gate)
    steps, at = list(out.get("steps", [])), int(out.get("plate_at", len(out.get("steps", []))))
    index = next(i for i, step in enumerate(steps) if step["id"] == step_id)
    return out | {"steps": steps[:index] + steps[index + 1 :], "plate_at": at - (index < at)}


def check_aspect(chain: Chain, gate: dict[str, Any]) -> Finding:
    """Does the chain make a picture of the plate's shape, and if not, what would explain it?"""
    check = AspectCheck(chain, gate)
    width, height = check.size
    if check.agrees:
        if check.scale != 1 and abs(check.scale - 1) * width > 0.5:
            return Finding(
                "aspect",
                "Gate and picture agree",
                f"The same shape; the plate has {format_number(check.scale, 4)} times the pixels of "
                f"what the chain makes ({chain.predicted.width} × {chain.predicted.height}), taken as a resize.",
                "good",
                (
                    Remedy(
                        "add-resize",
                        "Write the resize into the chain",
                        _with(gate, {"do": "resize", "width": width, "height": height}),
                    ),
                ),
            )
        return Finding(
            "aspect",
            "Gate and picture agree",
            f"Within what rounding can do: off by {abs(check.error_px):.2f} px over the width.",
            "good",
        )
    wide = "wider" if check.error_px > 0 else "narrower"
    says = (
        f"The gate makes a picture of {check.predicted_aspect:.3f} : 1 and the plate is {width / height:.3f} : 1, counted in pixels. The gate's is "
        f"{wide} by {abs(check.error_px):.0f} px over the plate's width of {width}. One of these would explain it:"
    )
    return Finding(
        "aspect",
        "Gate and picture can’t both be true",
        says,
        "doubt",
        tuple(_explanations(check, chain, gate)),
    )


def _explanations(check: AspectCheck, chain: Chain, gate: dict[str, Any]) -> Iterator[Remedy]:
    (width, height), predicted, aspect = check.size, chain.predicted, check.predicted_aspect
    picture, squeeze = width / height, chain.squeeze
    steps, at = gate.get("steps", []), gate.get("plate_at", len(gate.get("steps", [])))
    undone = [step for step in steps[:at] if step["do"] == "desqueeze"]
    for by in (squeeze,) if squeeze != 1 else SQUEEZES:
        if undone and abs(aspect * by / picture - 1) < NEAR:
            yield Remedy(
                f"squeeze-twice-{by:g}",
                f"The squeeze of {by:g} was undone twice: stretched once too often",
                _with(gate, {"do": "resize", "width": width, "height": height}),
            )
        elif undone and abs(aspect / by / picture - 1) < NEAR:
            yield Remedy(
                "still-squeezed",
                "The plate is still squeezed: take the desqueeze out",
                without(gate, undone[-1]["id"]),
            )
        elif not undone and (squeeze != 1 or abs(aspect * by / picture - 1) < NEAR):
            cut = _crop(predicted.pixel_aspect(by) / by, picture)
            label = (
                f"The plate’s squeeze of {by:g} is undone"
                if squeeze != 1
                else f"Squeeze forgotten: the lens squeezes by {by:g}, and that is undone"
            )
            cropped = abs(aspect * by / picture - 1) * width > 0.5
            if cropped:
                where = "at the sides" if aspect * by > picture else "at top and bottom"
                label += f", and it is cropped {where} to {format_number(cut['aspect'], 3)} : 1"
            yield Remedy(
                "desqueeze" if squeeze != 1 else f"squeeze-{by:g}",
                label,
                _with(
                    gate,
                    {"do": "desqueeze", "by": by},
                    *([cut] if cropped else []),
                    squeeze=by,
                ),
            )
    cut, lost = _crop(predicted.pixel_aspect(squeeze), picture), _lost(predicted, picture)
    if (
        squeeze != 1
        and not undone
        and abs(math.log(aspect * squeeze / picture)) < abs(math.log(aspect / picture))
    ):
        pass  # still squeezed and cropped would be the stranger story
    elif aspect > picture:
        yield Remedy(
            "crop-sides",
            f"The picture leaves out the sides, {format_number(lost[0])} mm in all: crop to {format_number(cut['aspect'], 3)} : 1",
            _with(gate, cut),
        )
    else:
        yield Remedy(
            "crop-top-bottom",
            f"The picture leaves out top and bottom, {format_number(lost[1])} mm in all: crop to "
            f"{format_number(cut['aspect'], 3)} : 1",
            _with(gate, cut),
        )
    sized = not chain.stages[0].unsized
    if sized and width <= predicted.width and height <= predicted.height:
        yield Remedy(
            "window",
            f"A window of {width} × {height} photosites from the middle, one to a pixel",
            _with(gate, {"do": "window", "width": width, "height": height}),
        )
    if (aspect > 1) != (picture > 1):
        yield Remedy(
            "turned",
            "The camera stood on its side: turn by 90°",
            _with(gate, {"do": "turn", "quarters": 1}),
        )
    yield Remedy(
        "stretched",
        f"It was stretched to {width} × {height} without keeping its aspect",
        _with(gate, {"do": "resize", "width": width, "height": height}),
    )


def _crop(pixel_aspect: float, picture: float) -> dict[str, Any]:
    """The window that leaves the shape `picture` (width over height in pixels); its aspect is as the picture is shown."""
    return {"do": "window", "aspect": round(picture * pixel_aspect, 6)}


def _lost(grid: Grid, picture: float) -> tuple[float, float]:
    """How much of the gate, in mm, a crop to the picture's shape leaves out across and down."""
    width, height = grid.gate_mm
    pixels = grid.width / grid.height
    return width * max(0.0, 1 - picture / pixels), height * max(0.0, 1 - pixels / picture)


def check_file_focal(
    chain: Chain, gate: dict[str, Any], focal_mm: float | None, equivalent_mm: float | None
) -> Finding | None:
    """Does the sensor that the file's focal length and its full-frame equivalent imply look like a gate on the way to the plate?

    The camera wrote them for what it recorded, so a crop made later is no disagreement. Files give the equivalent in whole mm, so that
    half a mm either way is none either. None where the file says too little.
    """
    if not focal_mm or not equivalent_mm:
        return None
    full = {"width": FULL_FRAME_MM[0], "diagonal": FULL_FRAME_DIAGONAL_MM}
    implied = {basis: full[basis] * focal_mm / equivalent_mm for basis in full}
    slack = {
        basis: implied[basis]
        * (0.5 / equivalent_mm + 0.5 * 10 ** -_decimals(focal_mm) / focal_mm + 0.005)
        for basis in full
    }
    for index in range(chain.plate, -1, -1):
        width, height = chain.shown_gate(index)
        actual = {"width": width, "diagonal": math.hypot(width, height)}
        off = {basis: abs(implied[basis] - actual[basis]) for basis in full}
        basis = min(off, key=off.__getitem__)
        if off[basis] <= slack[basis]:
            whose = (
                "the gate’s"
                if index == chain.plate
                else f"grid {index + 1}’s, before the plate was cut,"
            )
            return Finding(
                "file-focal",
                "The file’s focal lengths fit the gate",
                f"{focal_mm:g} mm and the equivalent of {equivalent_mm:g} mm, by {basis}, "
                f"imply {implied[basis]:.2f} mm; {whose} {basis} is {actual[basis]:.2f} mm.",
                "good",
            )
    width, height = chain.shown_gate(chain.plate)
    actual = {"width": width, "diagonal": math.hypot(width, height)}
    ratio = implied["diagonal"] / actual["diagonal"]
    says = (
        f"The file’s {focal_mm:g} mm and full-frame equivalent of {equivalent_mm:g} mm imply a sensor {implied['width']:.2f} mm wide, or "
        f"{implied['diagonal']:.2f} mm on the diagonal; the gate is {actual['width']:.2f} mm wide and {actual['diagonal']:.2f} mm on the diagonal "
        f"({_percent(actual['diagonal'] / implied['diagonal'])}). A focal length from the file would then be wrong by as much."
    )
    remedies = []
    aspect = width / height
    for basis, label in (("width", "by width"), ("diagonal", "by diagonal")):
        w = (
            implied["width"]
            if basis == "width"
            else implied["diagonal"] * aspect / math.hypot(aspect, 1)
        )
        remedies.append(
            Remedy(
                f"file-{basis}",
                f"Take the file’s sensor, {label}: {w:.2f} × {w / aspect:.2f} mm",
                {
                    "width_mm": round(w / chain.squeeze, 4),
                    "height_mm": round(w / aspect, 4),
                    "squeeze": chain.squeeze,
                    "origin": "file",
                    "name": "",
                    "steps": [],
                    "plate_at": 0,
                },
            )
        )
    if ratio < 1:
        kept = {
            "do": "window",
            "width_mm": round(chain.predicted.gate_mm[0] * ratio, 4),
            "height_mm": round(chain.predicted.gate_mm[1] * ratio, 4),
        }
        remedies.append(
            Remedy(
                "file-crop",
                f"The camera used a smaller window of the sensor: {format_number(ratio * 100, 1)} % of it",
                _with(gate, kept),
            )
        )
    return Finding(
        "file-focal",
        "The file’s focal lengths imply another sensor",
        says,
        "doubt",
        tuple(remedies),
    )


def _decimals(value: float) -> int:
    return len(f"{value:g}".partition(".")[2])


def _percent(ratio: float) -> str:
    return f"{abs(ratio - 1) * 100:.0f} % {'more' if ratio > 1 else 'less'}"


def check_sizes(chain: Chain, gate: dict[str, Any]) -> list[Finding]:
    """Odd sizes that break chroma subsampling after the plate, and rectangles that rounding puts half a pixel off the middle."""
    out = []
    for index, stage in enumerate(chain.stages):
        before = chain.stages[index - 1].grid if index else stage.grid
        if stage.off_centre:
            choices = {
                "smaller": [
                    size - (around - size) % 2
                    for size, around in zip(stage.cut, (before.width, before.height))
                ],
                "larger": [
                    size + (around - size) % 2
                    for size, around in zip(stage.cut, (before.width, before.height))
                ],
            }
            remedies = tuple(
                Remedy(
                    f"centre-{word}-{stage.key}",
                    f"Cut {width} × {height} instead",
                    _recut(gate, stage, width, height),
                )
                for word, (width, height) in choices.items()
                if 0 < width <= before.width and 0 < height <= before.height
            )
            out.append(
                Finding(
                    f"centre-{stage.key}",
                    f"{stage.name}: half a pixel off the middle",
                    stage.notes[0] + " Whoever cuts it from the other side gets another picture.",
                    "doubt",
                    remedies,
                )
            )
        elif stage.notes:
            out.append(Finding(f"note-{stage.key}", stage.name, " ".join(stage.notes), "note"))
        odd = [
            word
            for word, size in (("width", stage.grid.width), ("height", stage.grid.height))
            if size % 2
        ]
        if (
            odd
            and index > chain.plate
            and stage.step["do"] not in ("return", "turn", "flip", "straighten")
            and not stage.unsized
        ):
            even = (
                stage.grid.width + stage.grid.width % 2,
                stage.grid.height + stage.grid.height % 2,
            )
            out.append(
                Finding(
                    f"odd-{stage.key}",
                    f"{stage.name} has an odd {' and '.join(odd)}",
                    f"{stage.size_text} px: pictures that keep colour at half "
                    "the resolution, as most films and previews do, can’t hold an odd size: a line gets lost or doubled.",
                    "doubt",
                    (
                        Remedy(
                            f"even-{stage.key}",
                            f"Make it {even[0]} × {even[1]}",
                            _sized(gate, stage, before, *even),
                        ),
                    ),
                )
            )
    return out


def _replaced(gate: dict[str, Any], step_id: str, *new: Any) -> dict[str, Any]:
    out = copy.deepcopy(gate)
    steps = out["steps"]
    index = next(i for i, step in enumerate(steps) if step["id"] == step_id)
    at = out.get("plate_at", len(steps))
    steps[index : index + 1] = new
    out["plate_at"] = at + (len(new) - 1 if index < at else 0)
    return out


def _recut(gate: dict[str, Any], stage: Stage, width: int, height: int) -> dict[str, Any]:
    """The gate document with another rectangle cut by a step; an extraction keeps its size after that."""
    window = {"id": stage.key, "do": "window", "width": width, "height": height}
    if stage.step["do"] == "extract" and (stage.grid.width, stage.grid.height) != stage.cut:
        resize = {
            "id": new_id(gate["steps"]),
            "do": "resize",
            "width": stage.grid.width,
            "height": stage.grid.height,
        }
        return _replaced(gate, stage.key, window, resize)
    return _replaced(gate, stage.key, window | {"do": stage.step["do"]})


def _sized(
    gate: dict[str, Any], stage: Stage, before: Grid, width: int, height: int
) -> dict[str, Any]:
    """The gate document with a step's outcome one pixel larger."""
    step = stage.step
    if step["do"] == "overscan":
        left, top = (round(-v) for v in before.to_px(stage.grid.to_mm([[0, 0]]))[0])
        sides = {
            "left": left,
            "right": width - before.width - left,
            "top": top,
            "bottom": height - before.height - top,
        }
        return _replaced(gate, stage.key, {"id": stage.key, "do": "overscan", **sides})
    if step["do"] == "window" and "left" in step:
        width, height = (
            min(size, whole - corner)
            for size, whole, corner in zip(
                (width, height), (before.width, before.height), (step["left"], step["top"])
            )
        )
        width, height = width - width % 2, height - height % 2
        return _replaced(gate, stage.key, step | {"width": width, "height": height})
    if step["do"] == "extract" and "aspect" in step and "width" in step:
        return _replaced(gate, stage.key, step | {"width": width, "height": height})
    if step["do"] in ("window", "extract"):
        width, height = (
            size - 2 if size > whole else size
            for size, whole in zip((width, height), (before.width, before.height))
        )
    if step["do"] in ("window", "extract", "pad", "resize"):
        return _replaced(
            gate, stage.key, {"id": stage.key, "do": step["do"], "width": width, "height": height}
        )
    return _replaced(
        gate,
        stage.key,
        step,
        {"id": new_id(gate["steps"]), "do": "resize", "width": width, "height": height},
    )


def check_render(
    chain: Chain, gate: dict[str, Any], render: tuple[int, int] | None
) -> Finding | None:
    """Is a render of (width, height) px one of the chain's pictures, and if not, what is it? None where no render size was given."""
    if not render:
        return None
    width, height = render
    same = [
        stage
        for stage in chain.stages[chain.plate :]
        if (stage.grid.width, stage.grid.height) == (width, height)
    ]
    plate = chain.plate_grid
    if same:
        what = (
            "the plate"
            if same[0] is chain.stages[chain.plate]
            else f"“{same[0].name} {same[0].says}”"
        )
        return Finding(
            "render",
            "The render has a place in the chain",
            f"{width} × {height} px is {what}.",
            "good",
        )
    shape, want = width / height, plate.width / plate.height
    plate_size = Remedy(
        "render-plate",
        f"Render {plate.width} × {plate.height}, as the plate",
        gate | {"render": [plate.width, plate.height]},
    )
    if abs(shape / want - 1) * plate.width <= 0.5 * max(1, want):
        return Finding(
            "render",
            "The render has the plate’s shape, not its size",
            f"{width} × {height} px is {format_number(width / plate.width, 4)} times "
            f"the plate’s {plate.width} × {plate.height}: laid over the plate it must be resized first.",
            "note",
            (
                plate_size,
                Remedy(
                    "render-resize",
                    "Write the resize into the chain",
                    _after(gate, {"do": "resize", "width": width, "height": height}),
                ),
            ),
        )
    off = round(width - height * want)
    says = (
        f"{width} × {height} px is {shape:.3f} : 1, and the plate’s {plate.width} × {plate.height} is {want:.3f} : 1: {abs(off)} px "
        f"{'wider' if off > 0 else 'narrower'} than the plate’s shape at that height. With the gate fitted to the width everything sits right across and "
        "is cut or added to at top and bottom; stretched to the plate, nothing lines up."
    )
    remedies = [plate_size]
    last = chain.stages[-1].grid
    if width >= last.width and height >= last.height:
        extra_w, extra_h = width - last.width, height - last.height
        sides = {
            "left": extra_w // 2,
            "right": extra_w - extra_w // 2,
            "top": extra_h // 2,
            "bottom": extra_h - extra_h // 2,
        }
        remedies.append(
            Remedy(
                "render-overscan",
                "It is overscan: write it into the chain",
                _after(gate, {"do": "overscan", **sides}),
            )
        )
    else:
        remedies.append(
            Remedy(
                "render-extract",
                "It is an extraction: write it into the chain",
                _after(
                    gate,
                    {
                        "do": "extract",
                        "aspect": shape * last.pixel_aspect(chain.squeeze),
                        "width": width,
                        "height": height,
                        "multiple": 1,
                    },
                ),
            )
        )
    return Finding("render", "The render hasn’t the plate’s shape", says, "doubt", tuple(remedies))


def _after(gate: dict[str, Any], step: dict[str, Any]) -> dict[str, Any]:
    steps = list(gate.get("steps", []))
    at = gate.get("plate_at", len(steps))
    return copy.deepcopy(gate) | {
        "steps": [*copy.deepcopy(steps), {"id": new_id(steps), "origin": "assumed", **step}],
        "plate_at": at,
    }
