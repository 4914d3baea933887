"""What of a shot goes into the files of a scene: stand-ins, other cameras, points, spots, the plate
card; all of it, or some.
"""

from dataclasses import dataclass

import numpy as np

from aperture.formats.extras import Extras
from aperture.scene.frustum import across
from web.shows.history import edit
from web.shows.models import Shot
from web.stage.cameras import MATCHED, cameras_of, matched_of
from web.stage.places import named_points, points_of
from web.stage.stand_ins import named, shown, with_way
from web.stage.world import card_distance, card_left

GROUPS = {
    "stand-ins": "Stand-ins",
    "cameras": "Other cameras",
    "points": "Tracked points",
    "spots": "Spots and survey",
    "card": "Plate card",
}


@dataclass(frozen=True)
class Choice:
    """Something that goes into the files or doesn't. `of`: the group that it belongs to, empty of a
    group itself.
    """

    key: str
    name: str
    goes: bool
    of: str = ""


def choices(shot: Shot) -> list[Choice]:
    """All that there is to choose: groups that aren't empty, each with its members."""
    left_out, out = set(shot.state["left_out"]), []
    members = {
        "stand-ins": [(f"stand-in:{item['id']}", item["name"]) for item in shown(shot.state)],
        "cameras": [
            (f"camera:{one.id}", one.name) for one in cameras_of(shot) if one.id != MATCHED
        ],
        "points": [("", "")] * bool(points_of(shot)),
        "spots": [("", "")] * bool(named_points(shot)),
        "card": [("", "")] * (matched_of(cameras_of(shot)) is not None),
    }
    for group, name in GROUPS.items():
        if members[group]:
            out.append(Choice(group, name, group not in left_out))
            out += [
                Choice(key, own, key not in left_out, group) for key, own in members[group] if key
            ]
    return out


def choose(shot: Shot, going: set[str], base: int | None) -> Shot:
    """Let only these go into the files; what isn't there now stays as it was chosen."""
    offered = {one.key for one in choices(shot)}

    def change(state):
        kept = [key for key in state["left_out"] if key not in offered]
        state["left_out"] = sorted(kept + list(offered - going))

    return edit(shot, "Chose what goes into the files", change, base)


def goes(shot: Shot, group: str, member: str = "") -> bool:
    """Whether something goes into the files."""
    left_out = shot.state["left_out"]
    return group not in left_out and member not in left_out


def stand_ins_going(shot: Shot) -> dict:
    """The stand-ins that go, by their names."""
    return {
        name: with_way(shot.state, item)
        for name, item in named(shot.state).items()
        if goes(shot, "stand-ins", f"stand-in:{item['id']}")
    }


def cameras_going(shot: Shot) -> list:
    """The shot's cameras, the matched one first, and of the others those that go."""
    return [
        one
        for one in cameras_of(shot)
        if one.id == MATCHED or goes(shot, "cameras", f"camera:{one.id}")
    ]


def extras_of(shot: Shot) -> Extras:
    """What goes into a scene file beside cameras and stand-ins."""
    points = np.array(list(points_of(shot).values())).reshape(-1, 3)
    matched = matched_of(cameras_of(shot))
    card, left = None, None
    if goes(shot, "card") and matched is not None:
        left = card_left(shot)
        camera = matched.camera
        card = (
            left
            if left is not None
            else camera.to_camera_space(across(camera, card_distance(shot, camera)))
        )
    return Extras(
        points if goes(shot, "points") else np.zeros((0, 3)),
        named_points(shot) if goes(shot, "spots") else {},
        card,
        left is None,
    )
