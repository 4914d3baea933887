"""What is drawn on a frame of a filmed plate stays with that frame: here it is put aside and
brought back."""

import re
from collections.abc import Callable, Mapping, MutableMapping

import numpy as np

from aperture.arrays import Array
from aperture.plates.way_in import WayIn

ONE_FRAME = "This shot’s plate is a photograph: it has one frame."
FRAME = 1  # a photograph is a plate of one frame
# A frame's number at the end of a file's name: plate.1001.exr, plate_0101.tif, plate-12.jpg.
_NUMBERED = re.compile(r"[._-](\d{2,7})\.[A-Za-z0-9]{1,5}$")


def way_of(state: Mapping) -> WayIn:
    """What is done to the plate's pictures on their way in."""
    return WayIn.from_json(state["way_in"])


def move_marks(state: MutableMapping, move: Callable[[Array], Array], factor: float) -> None:
    """Take all marks along where the picture below them is turned: those on the table, on other
    frames, in drafts.

    move : where points (N, 2) px come to lie. factor : how much longer a px of distance is then.
    """

    def moved(mark: dict) -> dict:
        out = dict(mark)
        if "points" in mark:
            out["points"] = np.round(move(np.array(mark["points"])), 4).tolist()
        if "at" in mark:
            out["at"] = np.round(move(np.array([mark["at"]]))[0], 4).tolist()
        if "sigma_px" in mark:
            out["sigma_px"] = mark["sigma_px"] * factor
        return out

    def all_moved(held: Mapping) -> dict:
        out = dict(held)
        if "marks" in held:
            out["marks"] = [moved(mark) for mark in held["marks"]]
        if "aside" in held:
            out["aside"] = {number: all_moved(one) for number, one in held["aside"].items()}
        return out

    state["marks"] = [moved(mark) for mark in state["marks"]]
    state["aside"] = {number: all_moved(one) for number, one in state["aside"].items()}
    if state.get("drafts"):
        state["drafts"] = {name: all_moved(one) for name, one in state["drafts"].items()}
    for turned in _turned:
        turned(state, move, factor)


# What later steps keep by picture number beside marks: (state, move, factor) where the picture is
# turned, and (state) where another film takes its place.
_turned: list[Callable[[MutableMapping, Callable[[Array], Array], float], None]] = []
_replaced: list[Callable[[MutableMapping], None]] = []


def register_kept(turned: Callable, replaced: Callable) -> None:
    """Take something else along that a step keeps by picture number; called by the app that it
    belongs to."""
    _turned.append(turned)
    _replaced.append(replaced)


def film_replaced(state: MutableMapping) -> None:
    """Let go of what belongs to the pictures of the film that is replaced."""
    for let_go in _replaced:
        let_go(state)


def go_to(state: MutableMapping, before: int, now: int) -> None:
    """Put the marks of picture `before` aside, with the lengths between its spots, and bring those
    of picture `now` back.

    Everything else (lens, heights, planes) holds for all frames.
    """
    if before == now:
        return
    aside = dict(state["aside"])
    mine = {
        "marks": state["marks"],
        "facts": [fact for fact in state["facts"] if fact["kind"] == "length"],
    }
    if any(mine.values()):
        aside[str(before)] = mine
    found = aside.pop(str(now), {"marks": [], "facts": []})
    state["marks"] = found["marks"]
    others = [fact for fact in state["facts"] if fact["kind"] != "length"]
    state["facts"] = others + found["facts"]
    state["aside"] = aside


def shown(state: MutableMapping) -> int | None:
    """The number of the picture that is worked on; None of a photograph."""
    film = state.get("film")
    return film["shown"] if film else None


def is_pair(state: Mapping) -> bool:
    """Whether the plate's two pictures are those of a left and a right eye, and not one after the
    other."""
    return bool(state["film"] and state["film"].get("pair"))


def frame_at(state: Mapping, number: int | None = None) -> int:
    """The shot's frame of a picture number; of the picture that is worked on where none is
    given."""
    film = state["film"]
    return (film["shown"] if number is None else number) + film["offset"]


def offset_of(state: Mapping) -> int:
    """By how much the shot's frames are more than the numbers of the plate's pictures."""
    return state["film"]["offset"] if state["film"] else state["shift"]


def number_now(state: Mapping) -> int:
    """The number of the picture that is worked on; of a photograph the one in its name."""
    film = state["film"]
    return film["shown"] if film else frame_of_photograph(state) - state["shift"]


def frame_of_photograph(state: Mapping) -> int:
    """The one frame of a photograph: the number in its name, or FRAME, and as the shot has been
    shifted."""
    plate = state["plate"]
    found = _NUMBERED.search(plate["name"]) if plate else None
    return (int(found[1]) if found else FRAME) + state["shift"]


def span_of(state: Mapping) -> tuple[int, int]:
    """The shot's first and last frame: the marked range, or all that there are pictures of."""
    if state["range"]:
        first, last = state["range"]
        return first, last
    film = state["film"]
    if not film:
        only = frame_of_photograph(state)
        return only, only
    return frame_at(state, film["first"]), frame_at(state, film["last"])


def number_of(state: MutableMapping, frame: int) -> int:
    """The picture number of a frame of the shot."""
    film = state["film"]
    return frame - film["offset"]


def shifted_since(state: Mapping, row) -> int:
    """By how much a shot has been shifted since a render was made: its frames are now called so
    much more than their files say."""
    return state["shift"] - row.shift


def frames_now(state: Mapping, row) -> list[int]:
    """The frames of a render as they are called now; none of a still."""
    shift = shifted_since(state, row)
    return [frame + shift for frame in row.frames]
