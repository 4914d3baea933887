"""Sizes in whole pixels that make trouble later on."""

from __future__ import annotations

from typing import Any

from aperture.gates.chain import Chain, Stage
from aperture.gates.checks.edits import new_id, replaced
from aperture.gates.checks.findings import Finding, Remedy
from aperture.geometry.grid import Grid

# Steps that take the size they are given, and have none of their own to be changed.
SIZELESS = ("return", "turn", "flip", "straighten")


def check_sizes(chain: Chain, gate: dict[str, Any]) -> list[Finding]:
    """Odd sizes that break chroma subsampling after the plate, and rectangles that rounding puts
    half a pixel off the middle."""
    out = []
    for index, stage in enumerate(chain.stages):
        before = chain.stages[index - 1].grid if index else stage.grid
        if stage.off_centre:
            out.append(_off_centre(gate, stage, before))
        elif stage.notes:
            out.append(Finding(f"note-{stage.key}", stage.name, " ".join(stage.notes), "note"))
        resized = index > chain.plate and stage.step["do"] not in SIZELESS
        if resized and not stage.unsized and (stage.grid.width % 2 or stage.grid.height % 2):
            out.append(_odd(gate, stage, before))
    return out


def _off_centre(gate: dict[str, Any], stage: Stage, before: Grid) -> Finding:
    """A rectangle that can't lie in the middle; it can where it is cut one pixel smaller or
    larger."""
    around, cut = (before.width, before.height), stage.cut or (before.width, before.height)
    off = [(whole - size) % 2 for size, whole in zip(cut, around)]
    remedies = []
    for word, sign in (("smaller", -1), ("larger", 1)):
        width, height = (size + sign * odd for size, odd in zip(cut, off))
        if 0 < width <= before.width and 0 < height <= before.height:
            label = f"Cut {width} × {height} instead"
            document = _recut(gate, stage, width, height)
            remedies.append(Remedy(f"centre-{word}-{stage.key}", label, document))
    return Finding(
        f"centre-{stage.key}",
        f"{stage.name}: half a pixel off the middle",
        stage.notes[0] + " Whoever cuts it from the other side gets another picture.",
        "doubt",
        tuple(remedies),
    )


def _odd(gate: dict[str, Any], stage: Stage, before: Grid) -> Finding:
    width, height = stage.grid.width, stage.grid.height
    odd = [word for word, size in (("width", width), ("height", height)) if size % 2]
    even = width + width % 2, height + height % 2
    label, document = f"Make it {even[0]} × {even[1]}", _sized(gate, stage, before, *even)
    return Finding(
        f"odd-{stage.key}",
        f"{stage.name} has an odd {' and '.join(odd)}",
        f"{stage.size_text} px: pictures that keep colour at half the resolution, as most films and"
        " previews do, can’t hold an odd size: a line gets lost or doubled.",
        "doubt",
        (Remedy(f"even-{stage.key}", label, document),),
    )


def _recut(gate: dict[str, Any], stage: Stage, width: int, height: int) -> dict[str, Any]:
    """The gate document with another rectangle cut by a step; an extraction keeps its size after
    that."""
    window = {"id": stage.key, "do": "window", "width": width, "height": height}
    if stage.step["do"] == "extract" and (stage.grid.width, stage.grid.height) != stage.cut:
        resize = {
            "id": new_id(gate["steps"]),
            "do": "resize",
            "width": stage.grid.width,
            "height": stage.grid.height,
        }
        return replaced(gate, stage.key, window, resize)
    return replaced(gate, stage.key, window | {"do": stage.step["do"]})


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
        return replaced(gate, stage.key, {"id": stage.key, "do": "overscan", **sides})
    if step["do"] == "window" and "left" in step:
        width, height = (
            min(size, whole - corner)
            for size, whole, corner in zip(
                (width, height), (before.width, before.height), (step["left"], step["top"])
            )
        )
        width, height = width - width % 2, height - height % 2
        return replaced(gate, stage.key, step | {"width": width, "height": height})
    if step["do"] == "extract" and "aspect" in step and "width" in step:
        return replaced(gate, stage.key, step | {"width": width, "height": height})
    if step["do"] in ("window", "extract"):
        width, height = (
            size - 2 if size > whole else size
            for size, whole in zip((width, height), (before.width, before.height))
        )
    if step["do"] in ("window", "extract", "pad", "resize"):
        return replaced(
            gate, stage.key, {"id": stage.key, "do": step["do"], "width": width, "height": height}
        )
    return replaced(
        gate,
        stage.key,
        step,
        {"id": new_id(gate["steps"]), "do": "resize", "width": width, "height": height},
    )
