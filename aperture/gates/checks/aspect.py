"""Does the chain make a picture of the plate's shape?"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from aperture.gates.chain import Chain
from aperture.gates.checks.edits import with_steps, without
from aperture.gates.checks.findings import Finding, Remedy
from aperture.geometry.grid import Grid
from aperture.units import format_number

# The squeezes of lenses in use: common practice, no source.
SQUEEZES = (1.25, 1.3, 1.33, 1.35, 1.5, 1.6, 1.65, 1.8, 2.0)
# Within this share two aspects are taken for the same shape: published sizes are rounded and scans
# are trimmed.
NEAR = 0.015


@dataclass(frozen=True)
class AspectCheck:
    """Whether the chain makes a picture of the plate's shape. `error_px`: too wide (+) or narrow by
    so many px over the width."""

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
            # Only a size in mm is known: the picture may be still squeezed or squeezed no more, and
            # both fit.
            shown = width * (self.predicted_aspect * squeeze * height / width - 1)
            return min(error, shown, key=abs)
        return error

    @property
    def agrees(self) -> bool:
        """Half a pixel over the width or the height is what rounding a size to whole pixels can
        do."""
        slack = 0.5 * max(1.0, self.size[0] / self.size[1])
        return abs(self.error_px) <= slack + 1e-6

    @property
    def scale(self) -> float:
        """Plate pixels for one of the chain's, across; 1 where the chain gives no count of
        pixels."""
        return 1.0 if self.chain.stages[0].unsized else self.size[0] / self.chain.predicted.width


def check_aspect(chain: Chain, gate: dict[str, Any]) -> Finding:
    """Does the chain make a picture of the plate's shape, and if not, what would explain it?"""
    check = AspectCheck(chain, gate)
    width, height = check.size
    if check.agrees:
        if check.scale != 1 and abs(check.scale - 1) * width > 0.5:
            return Finding(
                "aspect",
                "Gate and picture agree",
                f"The same shape; the plate has {format_number(check.scale, 4)} times the pixels of"
                f" what the chain makes ({chain.predicted.width} × {chain.predicted.height}), taken"
                " as a resize.",
                "good",
                (
                    Remedy(
                        "add-resize",
                        "Write the resize into the chain",
                        with_steps(gate, {"do": "resize", "width": width, "height": height}),
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
        f"The gate makes a picture of {check.predicted_aspect:.3f} : 1 and the plate is"
        f" {width / height:.3f} : 1, counted in pixels. The gate's is {wide} by"
        f" {abs(check.error_px):.0f} px over the plate's width of {width}. One of these would"
        " explain it:"
    )
    return Finding(
        "aspect",
        "Gate and picture can’t both be true",
        says,
        "doubt",
        tuple(_explanations(check, chain, gate)),
    )


def _explanations(check: AspectCheck, chain: Chain, gate: dict[str, Any]) -> Iterator[Remedy]:
    """The stories that would make the plate's shape, the most usual first."""
    yield from _by_squeeze(check, chain, gate)
    yield from _by_crop(check, chain, gate)
    (width, height), predicted = check.size, chain.predicted
    sized = not chain.stages[0].unsized
    if sized and width <= predicted.width and height <= predicted.height:
        yield Remedy(
            "window",
            f"A window of {width} × {height} photosites from the middle, one to a pixel",
            with_steps(gate, {"do": "window", "width": width, "height": height}),
        )
    if (check.predicted_aspect > 1) != (width > height):
        yield Remedy(
            "turned",
            "The camera stood on its side: turn by 90°",
            with_steps(gate, {"do": "turn", "quarters": 1}),
        )
    yield Remedy(
        "stretched",
        f"It was stretched to {width} × {height} without keeping its aspect",
        with_steps(gate, {"do": "resize", "width": width, "height": height}),
    )


def _undone(gate: dict[str, Any]) -> list[dict[str, Any]]:
    """The steps before the plate that undo the squeeze."""
    steps = gate.get("steps", [])
    before = steps[: gate.get("plate_at", len(steps))]
    return [step for step in before if step["do"] == "desqueeze"]


def _by_squeeze(check: AspectCheck, chain: Chain, gate: dict[str, Any]) -> Iterator[Remedy]:
    (width, height), aspect, squeeze = check.size, check.predicted_aspect, chain.squeeze
    picture, undone = width / height, _undone(gate)
    for by in (squeeze,) if squeeze != 1 else SQUEEZES:
        if undone and abs(aspect * by / picture - 1) < NEAR:
            yield Remedy(
                f"squeeze-twice-{by:g}",
                f"The squeeze of {by:g} was undone twice: stretched once too often",
                with_steps(gate, {"do": "resize", "width": width, "height": height}),
            )
        elif undone and abs(aspect / by / picture - 1) < NEAR:
            yield Remedy(
                "still-squeezed",
                "The plate is still squeezed: take the desqueeze out",
                without(gate, undone[-1]["id"]),
            )
        elif not undone and (squeeze != 1 or abs(aspect * by / picture - 1) < NEAR):
            yield _desqueezed(check, chain, gate, by)


def _desqueezed(check: AspectCheck, chain: Chain, gate: dict[str, Any], by: float) -> Remedy:
    """The squeeze `by` is undone, and what is then too much is cropped."""
    (width, height), shown = check.size, check.predicted_aspect * by
    picture = width / height
    key, label = (
        f"squeeze-{by:g}",
        f"Squeeze forgotten: the lens squeezes by {by:g}, and that is undone",
    )
    if chain.squeeze != 1:
        key, label = "desqueeze", f"The plate’s squeeze of {by:g} is undone"
    steps: list[dict[str, Any]] = [{"do": "desqueeze", "by": by}]
    if abs(shown / picture - 1) * width > 0.5:
        cut = _crop(chain.predicted.pixel_aspect(by) / by, picture)
        where = "at the sides" if shown > picture else "at top and bottom"
        label += f", and it is cropped {where} to {format_number(cut['aspect'], 3)} : 1"
        steps.append(cut)
    return Remedy(key, label, with_steps(gate, *steps, squeeze=by))


def _by_crop(check: AspectCheck, chain: Chain, gate: dict[str, Any]) -> Iterator[Remedy]:
    (width, height), aspect, squeeze = check.size, check.predicted_aspect, chain.squeeze
    picture = width / height
    if squeeze != 1 and not _undone(gate):
        nearer = abs(math.log(aspect * squeeze / picture)) < abs(math.log(aspect / picture))
        if nearer:
            return  # still squeezed and cropped would be the stranger story
    cut = _crop(chain.predicted.pixel_aspect(squeeze), picture)
    across, down = _lost(chain.predicted, picture)
    to = f"crop to {format_number(cut['aspect'], 3)} : 1"
    if aspect > picture:
        says = f"The picture leaves out the sides, {format_number(across)} mm in all: {to}"
        yield Remedy("crop-sides", says, with_steps(gate, cut))
    else:
        says = f"The picture leaves out top and bottom, {format_number(down)} mm in all: {to}"
        yield Remedy("crop-top-bottom", says, with_steps(gate, cut))


def _crop(pixel_aspect: float, picture: float) -> dict[str, Any]:
    """The window that leaves the shape `picture` (width over height in pixels); its aspect is as
    the picture is shown."""
    return {"do": "window", "aspect": round(picture * pixel_aspect, 6)}


def _lost(grid: Grid, picture: float) -> tuple[float, float]:
    """How much of the gate, in mm, a crop to the picture's shape leaves out across and down."""
    width, height = grid.gate_mm
    pixels = grid.width / grid.height
    return width * max(0.0, 1 - picture / pixels), height * max(0.0, 1 - pixels / picture)
