"""A match document of version 2, taken into a filmed shot: the other way round from `path_fits`,
which writes one."""

from collections.abc import MutableMapping
from dataclasses import replace
from typing import Any

import numpy as np

from aperture.errors import Problem
from aperture.match.document import BETWEEN_POINTS
from aperture.path.document import tracks_in
from aperture.track.tracks import Tracks
from web.match.path_fits import OF_DOCUMENT
from web.match.tracking import FACTS, as_part
from web.plates.models import require_film
from web.shows.history import edit
from web.shows.models import Shot

Document = dict[str, Any]


def take(shot: Shot, data: Document, name: str, base: int | None) -> Shot:
    """Put a valid document's tracks, marks, facts, planes and lens in the place of the shot's own.

    Raises Problem where there is no film, where nothing of it lies on the shot's frames, or where
    it says what a shot can't keep.
    """
    require_film(shot)
    tracks = _tracks(shot.state, data)
    marks = _marks(shot.state, data)
    facts, on_path = _facts(shot.state, data, set(tracks.ids))
    if not len(tracks) and not marks:
        film = shot.state["film"]
        first, last = (film[end] + film["offset"] for end in ("first", "last"))
        raise Problem(
            f"Nothing of the document lies on a frame of this shot, {first} to {last}: its numbers"
            " may count from another first frame.",
            "document",
        )
    part = as_part(tracks)

    def change(state: MutableMapping) -> None:
        now = state["film"]["shown"]
        state["tracks"], state[FACTS] = part, on_path
        state["marks"], state["facts"] = marks.get(now, []), facts.get(now, [])
        state["aside"] = {
            str(number): {"marks": marks.get(number, []), "facts": facts.get(number, [])}
            for number in sorted((marks.keys() | facts.keys()) - {now})
        }
        state["planes"] = data.get("planes", [])
        state["robust"] = data.get("robust", False)
        state["stands"] = data.get("placing") == "stand"
        if "gate" in data:
            state["gate"] = {"squeeze": 1.0, **data["gate"], "origin": "file", "name": ""}
        _put_lens(state, data.get("lens", {}))

    return edit(shot, f"Took {name}", change, base)


def _tracks(state: MutableMapping, data: Document) -> Tracks:
    """The tracks by picture number, on the film's pictures only, with all that is told of them."""
    film, items = state["film"], data.get("tracks", [])
    tracks = tracks_in(items).shifted(-film["offset"])
    inside = (tracks.frame >= film["first"]) & (tracks.frame <= film["last"])
    tracks = tracks.only(np.ones(len(tracks), bool), inside)
    tracks = tracks.only(tracks.lengths() > 0)
    there = set(tracks.ids)
    told = {
        item["id"]: {"source": "imported"}
        | {key: item[key] for key in OF_DOCUMENT if item.get(key) is not None}
        for item in items
        if item["id"] in there
    }
    return replace(tracks, about=told)


def _own_id(id_: str, number: int) -> str:
    """A mark's id on its picture, which the document holds with the picture's number."""
    return id_.removesuffix(f"@{number}")


def _number(state: MutableMapping, data: Document, item: Document) -> int:
    """The picture that a mark or fact belongs to: the document's first one, if it says none."""
    first = data.get("frames", {"first": 1})["first"]
    return item.get("frame", first) - state["film"]["offset"]


def _marks(state: MutableMapping, data: Document) -> dict[int, list[Document]]:
    """The marks of each picture of the film."""
    film, out = state["film"], {}
    for mark in data.get("marks", []):
        number = _number(state, data, mark)
        if film["first"] <= number <= film["last"]:
            own = {key: value for key, value in mark.items() if key != "frame"}
            out.setdefault(number, []).append(own | {"id": _own_id(mark["id"], number)})
    return out


def _facts(
    state: MutableMapping, data: Document, tracks: set[str]
) -> tuple[dict[int, list[Document]], list[Document]]:
    """The facts of each picture, as the still matcher has them; and those of tracks, and of the
    camera's height on a picture."""
    of_picture: dict[int, list[Document]] = {}
    of_path, film = [], state["film"]
    away = {track["id"] for track in data.get("tracks", [])} - tracks
    for fact in data.get("facts", []):
        number, kind = _number(state, data, fact), fact["kind"]
        beyond = "frame" in fact and not film["first"] <= number <= film["last"]
        if beyond or {fact.get("from"), fact.get("to")} & away:
            continue  # about frames that this film hasn't
        own = {key: value for key, value in fact.items() if key != "frame"}
        if kind in BETWEEN_POINTS and {fact["from"], fact["to"]} <= tracks:
            of_path.append(own)
        elif kind == "camera_height" and "frame" in fact and "@" not in fact["id"]:
            of_path.append(own | {"frame": number})
        elif kind in ("direction", "camera_distance") or "frame" not in fact:
            called = fact.get("name") or fact["id"]
            raise Problem(
                f"The fact “{called}” can't be kept here: it holds for all frames, or is about what"
                " isn't in the document. Say on which frame it was measured.",
                "document",
            )
        else:
            own["id"] = _own_id(own["id"], number)
            own |= {end: _own_id(own[end], number) for end in ("from", "to") if end in own}
            of_picture.setdefault(number, []).append(own)
    return of_picture, of_path


def _put_lens(state: MutableMapping, lens: Document) -> None:
    """The lens of all frames, its zoom and its shutter."""
    focal, readout = lens.get("focal_mm"), lens.get("readout_ms")
    own = {
        key: value for key, value in lens.items() if key not in ("focal_over_time", "readout_ms")
    }
    state["zoom"] = state["readout"] = None
    if lens.get("focal_over_time") == "free":
        rows = (focal or {}).get("frames", [])
        state["zoom"] = {"known": [[row[0] - state["film"]["offset"], *row[1:]] for row in rows]}
        focal = None
    state["lens"] = {"focal_mm": None} | own | {"focal_mm": focal}
    if readout == "free":
        state["readout"] = {"ms": None, "plus_minus": 0.0}
    elif readout:
        given = readout if isinstance(readout, dict) else {"value": readout, "plus_minus": 0.0}
        state["readout"] = {"ms": given["value"], "plus_minus": given["plus_minus"]}
