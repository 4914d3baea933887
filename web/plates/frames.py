"""What is drawn on a frame of a filmed plate stays with that frame: here it is put aside and brought back."""

from collections.abc import MutableMapping


def go_to(state: MutableMapping, before: int, now: int) -> None:
    """Put the marks of picture `before` aside, with the lengths between its spots, and bring those of picture `now` back.

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


def frame_at(state: MutableMapping, number: int | None = None) -> int:
    """The shot's frame of a picture number; of the picture that is worked on where none is given."""
    film = state["film"]
    return (film["shown"] if number is None else number) + film["offset"]


def number_of(state: MutableMapping, frame: int) -> int:
    """The picture number of a frame of the shot."""
    film = state["film"]
    return frame - film["offset"]
