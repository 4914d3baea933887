"""Set the gate of a shot."""

from web.shows.actions import edit
from web.shows.models import Shot


def set_gate(shot: Shot, width_mm: float, height_mm: float, squeeze: float, origin: str, name: str = "", base: int | None = None) -> Shot:
    """`origin`: catalogue, typed, file or assumed, as the report shows it."""
    def change(state):
        state["gate"] = {"width_mm": width_mm, "height_mm": height_mm, "squeeze": squeeze, "origin": origin, "name": name}
    return edit(shot, f"Gate {width_mm:.2f} × {height_mm:.2f} mm" + (f", squeeze {squeeze:g}" if squeeze != 1 else ""), change, base)
