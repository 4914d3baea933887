"""The verbs of the Set step."""

from aperture.errors import Problem
from web.shows.actions import edit
from web.shows.models import Shot
from web.stage.boxes import box_from


def add_box(shot: Shot, item: dict, base: int | None) -> Shot:
    """A new box with an id of its own."""
    box_from(item)

    def change(state):
        taken = {box["id"] for box in state["boxes"]}
        state["boxes"].append({"id": next(f"b{n}" for n in range(1, 100000) if f"b{n}" not in taken), **item})
    return edit(shot, f"Placed {item['name']}", change, base)


def set_box(shot: Shot, item: dict, base: int | None) -> Shot:
    """A changed box."""
    box_from(item)

    def change(state):
        if not any(box["id"] == item["id"] for box in state["boxes"]):
            raise Problem("That box is gone already.")
        state["boxes"] = [item if box["id"] == item["id"] else box for box in state["boxes"]]
    return edit(shot, f"Changed {item['name']}", change, base)


def remove_box(shot: Shot, id_: str, base: int | None) -> Shot:
    """Take a box out."""
    def change(state):
        state["boxes"] = [box for box in state["boxes"] if box["id"] != id_]
    return edit(shot, "Removed a box", change, base)
