"""The gate of a shot's state, read once for every step that needs it."""

from aperture.gates.checks import AspectCheck, check_aspect
from aperture.gates.grid import Grid
from web.shows.steps import Standing


def grid_of(state: dict) -> Grid | None:
    """The plate's grid; None until there are a plate and a gate."""
    plate, gate = state["plate"], state["gate"]
    if not plate or not gate:
        return None
    return Grid.from_gate(plate["width"], plate["height"], gate["width_mm"], gate["height_mm"])


def aspect_of(state: dict) -> AspectCheck | None:
    """Whether gate and picture agree; None until there are both."""
    plate, gate = state["plate"], state["gate"]
    if not plate or not gate:
        return None
    return check_aspect(plate["width"], plate["height"], (gate["width_mm"], gate["height_mm"]), gate["squeeze"])


def standing(shot) -> Standing:
    """Needs the artist while gate and picture disagree."""
    gate, check = shot.state["gate"], aspect_of(shot.state)
    if not gate:
        return Standing("nothing", "no gate")
    if check and not check.agrees:
        return Standing("needs", f"{abs(check.error_px):.0f} px off")
    return Standing("settled", f"{gate['width_mm']:.2f} × {gate['height_mm']:.2f} mm")
