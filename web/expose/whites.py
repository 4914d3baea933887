"""Which white the plate was balanced for, by each way of knowing it, and what takes it to the
show's white."""

from dataclasses import dataclass

import numpy as np

from aperture.errors import Problem
from aperture.light.metering import patch_of
from aperture.light.white import D65, White, adaptation, grey_world, white_of
from web.expose import maps
from web.expose.models import ShowLight
from web.plates.models import metadata_of, plate_of, require_plate
from web.shows.history import edit
from web.shows.models import Shot


@dataclass(frozen=True)
class Way:
    """One way of knowing the plate's white. `problem`: why it doesn't say any."""

    by: str
    says: str
    white: White | None
    problem: str = ""


def show_white(shot: Shot) -> White:
    """The white that the show's pictures are balanced to."""
    return ShowLight.of(shot.show)


def ways(shot: Shot) -> list[Way]:
    """All ways of knowing it, those that say nothing too."""
    if plate_of(shot) is None:
        return []
    out = []
    own = shot.state["white"]
    for by, says in (
        ("grey world", "the picture’s mean is grey"),
        ("picked", "a neutral patch"),
        ("file", "the file’s own word"),
    ):
        try:
            out.append(Way(by, says, _white(shot, by)))
        except Problem as problem:
            out.append(Way(by, says, None, problem.sentence))
    if own.get("by") == "typed":
        out.append(Way("typed", "typed here", White(own["kelvin"], own.get("tint", 0.0))))
    return out


def _white(shot: Shot, by: str) -> White:
    if by == "grey world":
        return white_of(grey_world(maps.small_plate(shot), maps.ceiling_of(shot)))
    if by == "picked":
        box = shot.state["white"].get("box")
        if box is None:
            raise Problem("Draw a box around something that is grey in life.")
        return white_of(picked_colour(shot, box))
    kelvin = metadata_of(shot.state, plate_of(shot)).get("white_kelvin")
    if not kelvin:
        raise Problem("The file doesn’t say which white it was balanced for.")
    return White(float(kelvin))


def picked_colour(shot: Shot, box: list[float]) -> np.ndarray:
    """(3,) the mean of a patch of the plate, linear light; `box` in px of the plate."""
    linear = maps.small_plate(shot)
    scale = linear.shape[1] / require_plate(shot).width
    left, top, right, bottom = (side * scale for side in box)
    grown = (left, top, max(right, left + 2), max(bottom, top + 2))
    return patch_of(linear, grown).reshape(-1, 3).mean(axis=0)


@dataclass(frozen=True)
class Chosen:
    """The white that is in use, and the way by which it is known."""

    by: str
    says: str
    white: White


def chosen(shot: Shot) -> Chosen | None:
    """The white that is in use; None where none is."""
    by = shot.state["white"].get("by")
    for way in ways(shot) if by else ():
        if way.by == by and way.white:
            return Chosen(way.by, way.says, way.white)
    return None


def matrix_of(shot: Shot) -> np.ndarray | None:
    """(3, 3) what takes the plate's linear colours to the show's white; None where no way is in
    use.

    The plate's pixels are balanced for BT.709's own white, D65: a light that is neutral there
    stays.
    """
    way = chosen(shot)
    return None if way is None else adaptation(way.white, show_white(shot))


def gains_of(white: White) -> np.ndarray:
    """(3,) how bright red, green and blue become against green, where a white is balanced to
    D65."""
    own = adaptation(white, D65).diagonal()
    return own / own[1]


def set_white(shot: Shot, values: dict, base: int | None) -> Shot:
    """Keep which way is in use, and what it needs."""
    if values.get("by") == "typed":
        White(values["kelvin"], values.get("tint", 0.0))
    return edit(shot, "White balance", lambda state: state.update(white=values), base)
