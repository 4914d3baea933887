"""What a step of a gate chain does, in a few words."""

from __future__ import annotations

from typing import Any

from aperture.gates.steps import FLIPS, PER_FRAME, TURNS
from aperture.geometry.grid import Grid
from aperture.units import format_number


def describe(step: dict[str, Any], before: Grid, after: Grid) -> str:
    """A few words on what a step does, for the ledger and the line of undo."""
    do, n = step["do"], format_number
    if do in ("window", "extract", "pad") and "aspect" in step:
        size = f", {step['width']} px wide" if "width" in step else ""
        if "height" in step:
            size = f", {step['width']} × {step['height']} px"
        return f"to {n(step['aspect'], 3)} : 1{size}"
    if do == "window" and "width_mm" in step:
        return f"{n(step['width_mm'], 3)} × {n(step['height_mm'], 3)} mm from the middle"
    if do == "window" and "left" in step:
        return f"{step['width']} × {step['height']} px from {step['left']}, {step['top']}"
    if do in ("window", "extract", "pad"):
        return f"{step['width']} × {step['height']} px, centred"
    if do == "bin":
        return f"groups of {step['by']} × {step['by']}"
    if do == "resize":
        return (
            f"by {n(step['scale'], 4)}"
            if "scale" in step
            else f"to {after.width} × {after.height} px"
        )
    if do == "turn":
        return TURNS[step["quarters"]]
    if do == "flip":
        return FLIPS[step["way"]]
    if do == "desqueeze":
        by = f"by {n(step['by'], 3)}" if step.get("by") is not None else "by the lens's squeeze"
        return by + (", keeping the width" if step.get("keep") == "width" else "")
    if do == "stabilise":
        says = f"moved by {n(step['right'], 2)} px right, {n(step['down'], 2)} px down"
        if step.get("turn_deg"):
            says += f", turned by {n(step['turn_deg'], 3)}°"
        if step.get("scale", 1) != 1:
            says += f", scaled by {n(step['scale'], 4)}"
        return says + (", on this frame" if step.get("values") else "")
    if do == "reorient":
        pan, tilt, roll = (step[key] for key in PER_FRAME[do])
        says = f"panned by {n(pan, 2)}°, tilted by {n(tilt, 2)}°, rolled by {n(roll, 2)}°"
        return says + (", on this frame" if step.get("values") else "")
    if do == "straighten":
        return "enlarged to hold all of the picture" if step.get("enlarge", True) else "same size"
    if do == "overscan":
        if step.get("for") == "distortion":
            return "as much as the distortion needs"
        if "percent" in step:
            return f"{n(step['percent'], 2)} % in all"
        return "left {} right {} top {} bottom {} px".format(
            *(step.get(side, 0) for side in ("left", "right", "top", "bottom"))
        )
    return "its own grid again"
