"""What tracks are to each other: one lies along an axis from another, several lie on one plane."""

from aperture.errors import Problem
from aperture.match.facts import AXES
from web.match import tracking
from web.shows.models import Shot

# How true to each other the edges of a building stand, degrees: common practice, no source.
USUAL_DIRECTION_DEG = 0.3
MOST_DIRECTION_DEG = 45.0


def letter_of(axis: str) -> str:
    """The letter of an axis on the page."""
    return "XYZ"[AXES.index(axis)]


def add_direction(shot: Shot, ids: list[str], axis: str, degrees: float, base: int | None) -> Shot:
    """The line from one track to another runs along an axis, within some degrees."""
    if len(ids) != 2:
        raise Problem(
            "A direction leads from one track to another: choose two, the first one first."
        )
    if not 0 < degrees <= MOST_DIRECTION_DEG:
        raise Problem(
            f"The ± of a direction is above 0° and at most {MOST_DIRECTION_DEG:g}°.", "plus_minus"
        )
    fact = {"kind": "direction", "from": ids[0], "to": ids[1], "along": axis}
    return tracking.add_fact(shot, fact | {"plus_minus": degrees}, base)


def lie_on_plane(shot: Shot, ids: list[str], axis: str, base: int | None) -> Shot:
    """Tracks lie on one plane across an axis, wherever it is: on the one that one of them lies on
    already, or a new one."""
    wanted = tracking.require_chosen(tracking.tracks_of(shot.state), ids)
    if len(wanted) < 2:
        raise Problem("A plane needs two tracks at least: choose more.")
    plane = _plane_of(shot.state, wanted, axis)

    def change(tracks):
        for id_ in sorted(wanted):
            tracks = tracks.telling(id_, on=plane["id"])
        return tracks

    def put(state):
        others = [one for one in state["planes"] if one["id"] != plane["id"]]
        state["planes"] = [*others, plane]

    count = f"{len(wanted)} tracks"
    return tracking.change_tracks(shot, f"{count} on {plane['name']}", change, base, put)


def _plane_of(state, wanted: set[str], axis: str) -> dict:
    """The plane that some of the tracks lie on already, as long as nobody has said where it is; or
    a new one."""
    own = {told.get("on") for id_, told in tracking.tracks_of(state).about.items() if id_ in wanted}
    for plane in state["planes"]:
        if plane["id"] in own and plane["axis"] == axis and plane.get("metres") is None:
            return plane
    names = {plane.get("name") for plane in state["planes"]}
    stem = f"plane across {letter_of(axis)}"
    name = next(name for n in range(1, 10_000) if (name := f"{stem} {n}") not in names)
    return {"id": tracking.free_id(state), "name": name, "axis": axis, "metres": None}


def planes_told(state) -> list[dict[str, str]]:
    """The planes that tracks lie on, in words."""
    out = []
    about = tracking.tracks_of(state).about
    for plane in state["planes"]:
        ids = [id_ for id_, told in about.items() if told.get("on") == plane["id"]]
        if ids:
            more = f" and {len(ids) - 3} others" if len(ids) > 3 else ""
            says = f"{', '.join(ids[:3])}{more} lie on {plane.get('name') or plane['id']}"
            out.append({"key": "plane", "id": plane["id"], "says": says})
    return out
