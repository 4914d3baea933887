"""The points of a set that have a name and a known place: what a move is laid onto, and a lens
focused on."""

from collections.abc import Mapping, MutableMapping

import numpy as np

from aperture.scene.stand_in import StandIn
from web.match.path_fits import require_path_fit, solved_path
from web.match.tracking import tracks_of
from web.shows.models import Shot
from web.stage.stand_ins import shown, stand_in_from
from web.stage.world import known_spots

# The corners of a box, in the order of `StandIn.bounds`.
CORNERS = [
    f"{height} {side}"
    for height in ("lower", "upper")
    for side in ("front left", "front right", "back right", "back left")
]
BOXES = ("box", "plane")
MOST_CORNERS = 16  # a round thing has none that could be pointed at


def points_of(shot: Shot) -> dict[str, list[float]]:
    """The solved points of a placed path by their track's id, metres."""
    if solved_path(shot.state) is None:
        return {}
    return {id_: point["world_m"] for id_, point in require_path_fit(shot.state)["points"].items()}


def named_points(shot: Shot) -> dict[str, list[float]]:
    """The spots whose places are solved or given, and the surveyed points, by name; metres."""
    given = {
        mark.get("name") or mark["id"]: mark["world"]
        for mark in shot.state["marks"]
        if mark["kind"] == "spot" and None not in (mark.get("world") or [None])
    }
    surveyed = {point["name"]: point["world"] for point in shot.state["survey"]}
    return {name: spot["world_m"] for name, spot in known_spots(shot)} | given | surveyed


def places_of(shot: Shot) -> dict[str, list[float]]:
    """Every named point of the set, metres: spots and survey, named tracks of the path, and corners
    of the stand-ins.
    """
    about = tracks_of(shot.state).about if shot.state["film"] else {}
    named = {
        about[id_]["name"]: world
        for id_, world in points_of(shot).items()
        if about.get(id_, {}).get("name") and None not in world
    }
    return named | named_points(shot) | corners_of(shot.state)


def corners_of(state: MutableMapping) -> dict[str, list[float]]:
    """The corners of the stand-ins that aren't round, metres."""
    out: dict[str, list[float]] = {}
    for item in shown(state):
        placed = stand_in_from(item)
        for name, corner in zip(corner_names(item["name"], placed), placed.vertices()):
            out.setdefault(name, np.round(corner, 6).tolist())
    return out


def corner_names(name: str, placed: StandIn) -> list[str]:
    """What the corners of a stand-in are called; nothing of what is round."""
    count = len(placed.solid.vertices)
    if count > MOST_CORNERS:
        return []
    known = CORNERS if placed.kind in BOXES else []
    return [
        f"{name}, {known[index] if index < len(known) else f'corner {index + 1}'}"
        for index in range(count)
    ]


def spreads_of(state: Mapping) -> dict[str, float]:
    """The ± of the surveyed points, metres, by name; of the others none is known."""
    return {point["name"]: point["plus_minus"] for point in state["survey"]}
