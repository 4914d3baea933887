"""The stand-ins of a shot's state."""

import math

from aperture.scene.box import Box
from web.shows.steps import Standing


def box_from(item: dict) -> Box:
    """A Box from its JSON. Raises Problem where a value can't be."""
    return Box(tuple(map(float, item["size"])), tuple(map(float, item["base"])), math.radians(float(item["turn_deg"])))


def json_from(item: dict, box: Box) -> dict:
    """The JSON of a changed box, keeping its id and name; rounded to a hundredth of a millimetre."""
    return item | {"size": [round(v, 5) for v in box.size], "base": [round(v, 5) for v in box.base], "turn_deg": round(math.degrees(box.turn), 4)}


def boxes_of(state: dict) -> dict[str, Box]:
    """The boxes by name, each name once."""
    out = {}
    for item in state["boxes"]:
        name, number = item["name"], 2
        while name in out:
            name, number = f"{item['name']} {number}", number + 1
        out[name] = box_from(item)
    return out


def standing(shot) -> Standing:
    """Settled once something stands."""
    count = len(shot.state["boxes"])
    return Standing("settled", f"{count} stand-in{'s' if count > 1 else ''}") if count else Standing("nothing", "no stand-ins")
