"""The verbs of time: which frames the pictures are, what the shot's frames are called, and its
marked range."""

from aperture.errors import Problem
from web.plates.frames import ONE_FRAME, frame_at, frame_of_photograph
from web.shows.history import edit
from web.shows.models import Shot

FURTHEST = 999_999_999  # as the parts of the state have it


def _require_film(state) -> dict:
    if not state["film"]:
        raise Problem(ONE_FRAME)
    return state["film"]


def begin_pictures_at(shot: Shot, frame: int, base: int | None = None) -> Shot:
    """Shift the pictures only: the first of them is this frame of the shot, and all else stays
    where it is."""

    def change(state):
        film = _require_film(state)
        state["film"] = film | {"offset": frame - film["first"]}

    return edit(shot, f"Pictures from frame {frame}", change, base)


def begin_shot_at(shot: Shot, frame: int, base: int | None = None) -> Shot:
    """Shift the whole shot, so that its first picture is this frame: pictures with what is drawn on
    them, range, renders.

    Renders keep the numbers in their files, and are called otherwise: see `frames.shifted_since`.
    """

    def change(state):
        film = state["film"]
        first = frame_at(state, film["first"]) if film else frame_of_photograph(state)
        by = frame - first
        if abs(state["shift"] + by) > FURTHEST:
            raise Problem("That is too far: frames have nine digits at most.")
        state["shift"] += by
        if film:
            state["film"] = film | {"offset": film["offset"] + by}
        if state["range"]:
            state["range"] = [end + by for end in state["range"]]

    return edit(shot, f"Shot from frame {frame}", change, base)


def mark_range(shot: Shot, ends: tuple[int, int] | None, base: int | None = None) -> Shot:
    """Mark the shot's range, first and last frame; None: the whole plate."""
    if ends and ends[0] > ends[1]:
        raise Problem(f"The range ends at {ends[1]}, before it begins at {ends[0]}.")

    def change(state):
        _require_film(state)
        state["range"] = list(ends) if ends else None

    label = f"Range {ends[0]}–{ends[1]}" if ends else "The whole range"
    return edit(shot, label, change, base, run="range")
