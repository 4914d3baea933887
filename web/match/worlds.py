"""Edits of the whole world that a match stands in: axes renamed, a quarter turn, another floor.

What later steps keep in world coordinates (stand-ins, typed cameras) has to follow: their apps add
a function to `FOLLOWERS` when they are ready, so that this app needn't know them.
"""

from collections.abc import Callable

import numpy as np
from django.views.decorators.http import require_POST

from aperture.errors import Problem
from aperture.match import turning
from aperture.match.facts import AXES
from web.match import actions, report
from web.match.fits import fit_of
from web.shows.models import Shot
from web.shows.reading import base_of
from web.shows.views import find

# Each changes a state in place: (state, turn (3, 3), shift (3,) metres).
FOLLOWERS: list[Callable[[dict, np.ndarray, np.ndarray], None]] = []


def swap_axes(shot: Shot, first: str, second: str, base: int | None) -> Shot:
    """Exchange two axes on all edges; nothing else changes."""

    def change(state):
        state["marks"] = turning.swapped(state["marks"], first, second)

    return actions.edit_match(shot, f"Swapped {first} and {second}", change, base)


def turn_world(shot: Shot, label: str, turn, shift, base: int | None) -> Shot:
    """Turn and shift the world of the match, of its drafts, and of all that stands in it."""
    turn, shift = np.asarray(turn, float), np.asarray(shift, float)

    def change(state):
        state |= turning.turned(state, turn, shift)
        for draft in state.get("drafts", {}).values():
            parts = turning.turned(draft, turn, shift)
            draft |= {key: value for key, value in parts.items() if key != "survey"}
        for follow in FOLLOWERS:
            follow(state, turn, shift)

    # What was placed in the old world meanwhile has no place in the new one.
    return actions.edit_match(shot, label, change, base, alone=True)


def height_of_plane(shot: Shot, id_: str) -> tuple[dict, float]:
    """A plane of the match and where it lies, in metres; from the fit where it isn't known.

    Raises Problem where there is no such plane, or nothing tells where it lies.
    """
    plane = next((one for one in shot.state.get("planes", ()) if one["id"] == id_), None)
    if plane is None:
        raise Problem("There is no such plane.")
    if plane["metres"] is not None:
        return plane, plane["metres"]
    spots = (fit_of(shot.state) or {}).get("spots", {})
    axis = AXES.index(plane["axis"])
    for mark in shot.state["marks"]:
        if mark.get("on") == id_ and mark["id"] in spots:
            return plane, spots[mark["id"]]["world_m"][axis]
    raise Problem(
        f"Nothing tells yet where “{plane.get('name') or id_}” lies: match the camera first."
    )


@require_POST
def swap(request, show, shot):
    """Exchange two axes: `axes`, such as `across up`."""
    axes = tuple(request.POST.get("axes", "").split())
    if axes not in report.SWAPS:
        raise Problem("Choose two of across, up and along.")
    return report.answer(request, swap_axes(find(show, shot), *axes, base_of(request)))


@require_POST
def turn(request, show, shot):
    """A quarter turn about an axis."""
    axis = request.POST.get("axis")
    if axis not in AXES:
        raise Problem("Choose across, up or along.")
    quarters = -1 if request.POST.get("back") == "1" else 1
    label = f"World turned a quarter about {axis}"
    matrix = turning.quarter_turn(axis, quarters)
    shot = turn_world(find(show, shot), label, matrix, np.zeros(3), base_of(request))
    return report.answer(request, shot)


@require_POST
def floor(request, show, shot):
    """Make a plane of the match the floor."""
    shot = find(show, shot)
    plane, metres = height_of_plane(shot, request.POST.get("plane", ""))
    matrix, shift = turning.floor_from(plane["axis"], metres)
    label = f"“{plane.get('name') or plane['id']}” is the floor"
    return report.answer(request, turn_world(shot, label, matrix, shift, base_of(request)))
