"""Keep-out areas of a filmed plate: drawn, shaped on other pictures, removed; and taking away what
was followed in them."""

from collections.abc import Mapping, Sequence

import numpy as np

from aperture.errors import Problem
from aperture.track.keep_out import KeepOut
from aperture.track.tracks import PLACED, Tracks
from web.match.tracking import change_tracks, tracks_of
from web.shows.history import edit
from web.shows.models import Shot

MOST_AREAS, MOST_CORNERS = 200, 200
Polygon = list[tuple[float, float]]


def areas_of(state: Mapping) -> list[KeepOut]:
    """The areas, by picture number."""
    out = []
    for area in state["keep_out"]:
        numbers = sorted(map(int, area["keys"]))
        polygons = tuple(np.array(area["keys"][str(number)], float) for number in numbers)
        out.append(KeepOut(tuple(numbers), polygons))
    return out


def draw(shot: Shot, number: int, polygon: Polygon, base: int | None) -> Shot:
    """A new area, as it is on a picture."""
    _require_polygon(polygon)

    def change(state):
        if len(state["keep_out"]) >= MOST_AREAS:
            raise Problem(f"A shot has at most {MOST_AREAS} keep-out areas.")
        taken = {area["id"] for area in state["keep_out"]}
        id_ = next(f"k{n}" for n in range(1, 1000) if f"k{n}" not in taken)
        area = {"id": id_, "keys": {str(number): _rounded(polygon)}}
        state["keep_out"] = [*state["keep_out"], area]

    return edit(shot, "Drew a keep-out area", change, base)


def shape(shot: Shot, id_: str, number: int, polygon: Polygon, base: int | None) -> Shot:
    """An area as it is on another picture; between two such pictures each corner goes straight."""
    _require_polygon(polygon)

    def change(area):
        corners = len(next(iter(area["keys"].values())))
        if len(polygon) != corners:
            raise Problem(f"This area has {corners} corners on every frame.")
        return area | {"keys": area["keys"] | {str(number): _rounded(polygon)}}

    return _changed(shot, id_, f"Shaped {id_}", change, base)


def add_corner(
    shot: Shot, id_: str, number: int, index: int, share: float, polygon: Polygon, base: int | None
) -> Shot:
    """One more corner behind the one at `index`, on every picture at a share of the way to the
    next; on this one as `polygon` has it."""
    _require_polygon(polygon)

    def change(area):
        keys = {}
        for n, corners in area["keys"].items():
            if not 0 <= index < len(corners):
                raise Problem("The area has no such corner any more.")
            start, end = corners[index], corners[(index + 1) % len(corners)]
            between = tuple(a + (b - a) * share for a, b in zip(start, end))
            keys[n] = _rounded([*corners[: index + 1], between, *corners[index + 1 :]])
        if len(polygon) != len(next(iter(keys.values()))):
            raise Problem("The area has other corners by now.")
        return area | {"keys": keys | {str(number): _rounded(polygon)}}

    return _changed(shot, id_, f"One more corner of {id_}", change, base)


def take_corner(shot: Shot, id_: str, index: int, base: int | None) -> Shot:
    """Take a corner away, on every picture; three stay."""

    def change(area):
        keys = {}
        for n, corners in area["keys"].items():
            if not 0 <= index < len(corners):
                raise Problem("The area has no such corner any more.")
            keys[n] = corners[:index] + corners[index + 1 :]
            _require_polygon(keys[n])
        return area | {"keys": keys}

    return _changed(shot, id_, f"One corner of {id_} less", change, base)


def forget(shot: Shot, id_: str, number: int, base: int | None) -> Shot:
    """Take back how an area was drawn on a picture; the last one stays."""

    def change(area):
        if str(number) not in area["keys"]:
            raise Problem("The area wasn’t drawn on this frame: it follows from others.")
        if len(area["keys"]) == 1:
            raise Problem("The area is drawn on this frame only: remove it instead.")
        return area | {"keys": {n: p for n, p in area["keys"].items() if n != str(number)}}

    return _changed(shot, id_, f"Took back a shape of {id_}", change, base)


def remove(shot: Shot, id_: str, base: int | None) -> Shot:
    """Remove an area."""
    return _changed(shot, id_, f"Removed {id_}", lambda area: None, base)


def covered(state: Mapping) -> np.ndarray:
    """(N,) of the tracks' observations, those in an area that the hand didn't place there."""
    return _inside(areas_of(state), tracks_of(state))


def _inside(areas: Sequence[KeepOut], tracks: Tracks) -> np.ndarray:
    inside = np.zeros(len(tracks.frame), bool)
    for area in areas:
        for number in np.unique(tracks.frame):
            here = tracks.frame == number
            inside[here] |= area.holds(int(number), tracks.xy[here])
    return inside & (tracks.state != PLACED)


def clear(shot: Shot, base: int | None) -> Shot:
    """Take away what was followed inside the areas before they were drawn."""
    areas, away = areas_of(shot.state), covered(shot.state)
    if not away.any():
        raise Problem("Nothing was followed inside the areas.")

    def change(tracks: Tracks) -> Tracks:
        kept = tracks.only(np.ones(len(tracks), bool), ~_inside(areas, tracks))
        return kept.only(kept.lengths() >= 2)

    return change_tracks(shot, f"Took away {away.sum()} places in keep-out areas", change, base)


def _changed(shot: Shot, id_: str, label: str, change, base: int | None) -> Shot:
    def put(state):
        if id_ not in {area["id"] for area in state["keep_out"]}:
            raise Problem("There is no such keep-out area any more.")
        areas = [change(area) if area["id"] == id_ else area for area in state["keep_out"]]
        state["keep_out"] = [area for area in areas if area is not None]

    return edit(shot, label, put, base)


def _require_polygon(polygon: Polygon) -> None:
    if not 3 <= len(polygon) <= MOST_CORNERS:
        raise Problem("A keep-out area has three corners or more.")


def _rounded(polygon: Sequence[Sequence[float]]) -> list[list[float]]:
    return [[round(x, 2), round(y, 2)] for x, y in polygon]
