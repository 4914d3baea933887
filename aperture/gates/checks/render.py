"""Is a render one of the chain's pictures?"""

from __future__ import annotations

from typing import Any

from aperture.gates.chain import Chain
from aperture.gates.checks.edits import with_last_step
from aperture.gates.checks.findings import Finding, Remedy
from aperture.units import format_number


def check_render(
    chain: Chain, gate: dict[str, Any], render: tuple[int, int] | None
) -> Finding | None:
    """Is a render of (width, height) px one of the chain's pictures, and if not, what is it? None
    where no render size was given."""
    if not render:
        return None
    width, height = render
    for stage in chain.stages[chain.plate :]:
        if (stage.grid.width, stage.grid.height) == (width, height):
            what = f"“{stage.name} {stage.says}”"
            if stage is chain.stages[chain.plate]:
                what = "the plate"
            title = "The render has a place in the chain"
            return Finding("render", title, f"{width} × {height} px is {what}.", "good")
    plate = chain.plate_grid
    shape, wanted = width / height, plate.width / plate.height
    as_plate = Remedy(
        "render-plate",
        f"Render {plate.width} × {plate.height}, as the plate",
        gate | {"render": [plate.width, plate.height]},
    )
    if abs(shape / wanted - 1) * plate.width <= 0.5 * max(1, wanted):
        resize = {"do": "resize", "width": width, "height": height}
        document = with_last_step(gate, resize)
        return Finding(
            "render",
            "The render has the plate’s shape, not its size",
            f"{width} × {height} px is {format_number(width / plate.width, 4)} times the plate’s"
            f" {plate.width} × {plate.height}: laid over the plate it must be resized first.",
            "note",
            (as_plate, Remedy("render-resize", "Write the resize into the chain", document)),
        )
    off = round(width - height * wanted)
    says = (
        f"{width} × {height} px is {shape:.3f} : 1, and the plate’s {plate.width} × {plate.height}"
        f" is {wanted:.3f} : 1: {abs(off)} px {'wider' if off > 0 else 'narrower'} than the plate’s"
        " shape at that height. With the gate fitted to the width everything sits right across and"
        " is cut or added to at top and bottom; stretched to the plate, nothing lines up."
    )
    remedies = (as_plate, _as_step(chain, gate, width, height))
    return Finding("render", "The render hasn’t the plate’s shape", says, "doubt", remedies)


def _as_step(chain: Chain, gate: dict[str, Any], width: int, height: int) -> Remedy:
    """The step that would make a picture of this size: overscan where it is larger, else an
    extraction."""
    last = chain.stages[-1].grid
    step: dict[str, Any]
    if width >= last.width and height >= last.height:
        across, down = width - last.width, height - last.height
        step = {
            "do": "overscan",
            "left": across // 2,
            "right": across - across // 2,
            "top": down // 2,
            "bottom": down - down // 2,
        }
        label = "It is overscan: write it into the chain"
        return Remedy("render-overscan", label, with_last_step(gate, step))
    step = {
        "do": "extract",
        "aspect": width / height * last.pixel_aspect(chain.squeeze),
        "width": width,
        "height": height,
        "multiple": 1,
    }
    label = "It is an extraction: write it into the chain"
    return Remedy("render-extract", label, with_last_step(gate, step))
