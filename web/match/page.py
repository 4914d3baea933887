"""What the script of the Match page needs: marks, overlay, residuals, surveyed points."""

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.gates.chain import straight
from aperture.match.reach import Reach, ellipse
from aperture.match.solve import camera_of, find
from web.match import aids
from web.match.fits import document_of, fit_of, optimum_of
from web.match.overlay import draw
from web.match.path_fits import determined, path_of_state, reach_at, solved_path
from web.plates.frames import frame_at
from web.shows.state import once


def overlay(shot, state, fit, wished=None, straightened=False) -> dict:
    """What is drawn over the plate: the camera's guides, and the aids that the page wishes for."""
    seen = _seen(state, fit)
    camera = seen.camera
    if camera and straightened:
        camera = Camera(camera.grid, straight(camera.lens), camera.world_from_camera)
    unit = shot.show.length_unit
    drawn = draw(camera, seen.told, state["marks"], unit, residuals=not straightened)
    if camera and wished:
        drawn = _both(drawn, aids.draw(camera, seen.told, wished, shot.show, seen.reach_of))
    return drawn


def overlay_at(shot, frame: int, wished=None) -> dict:
    """The same for the path's camera on any frame, without marks; empty where there is none."""
    seen = _along(shot.state, frame)
    if seen is None:
        return draw(None, {}, [], shot.show.length_unit)
    drawn = draw(seen.camera, seen.told, [], shot.show.length_unit, residuals=False)
    if wished:
        drawn = _both(drawn, aids.draw(seen.camera, seen.told, wished, shot.show, seen.reach_of))
    return drawn


def _both(drawn: dict, more: dict) -> dict:
    return drawn | {key: drawn[key] + more[key] for key in ("paths", "labels")}


class _Seen(NamedTuple):
    """A camera, what a fit tells of it, and what gives its reach."""

    camera: Camera | None
    told: dict
    reach_of: Callable[[], Any]


def _seen(state, fit) -> _Seen:
    """The camera of the marks of the frame that is worked on; the path's, where they don't give one
    a place."""
    document = document_of(state)
    camera = camera_of(fit, document) if fit and fit["ok"] else None
    placed = camera is not None and fit["determined"]["scale"] == "solved"
    if not placed and state["film"]:
        along = _along(state, frame_at(state))
        if along is not None and (camera is None or solved_path(state) is not None):
            return along
    return _Seen(camera, fit or {}, lambda: Reach.of(*find(document, fit, own=True)))


def _along(state, frame: int) -> _Seen | None:
    """The path's camera on a frame; None where there is none."""
    path = path_of_state(state)
    if path is None or frame not in path:
        return None
    camera = path.at(frame)
    told = {"camera": {"position_m": camera.position.tolist()}, "determined": determined(state)}
    return _Seen(camera, told, lambda: reach_at(state, frame))


@once
def _guides(state, length_unit: str) -> dict:
    """`overlay` of a saved state without aids, as most pages show it."""
    seen = _seen(state, fit_of(state))
    return draw(seen.camera, seen.told, state["marks"], length_unit)


def data(shot, wished=None, straightened=False) -> dict:
    """What the page's script needs."""
    fit = fit_of(shot.state)
    if wished or straightened:
        drawn = overlay(shot, shot.state, fit, wished, straightened)
    else:
        drawn = _guides(shot.state, shot.show.length_unit)
    return {
        "revision": shot.head.number,
        "locked": shot.locked or shot.state.get("draft") in shot.state.get("draft_locks", ()),
        "marks": shot.state["marks"],
        "facts": shot.state["facts"],
        "overlay": drawn,
        "residuals": (fit or {}).get("residuals", {}).get("marks", {}),
        "survey": survey(shot.state),
        "solved_path": bool(shot.state["path"]),
    }


@once
def survey(state) -> list[dict]:
    """The surveyed points: which are placed, and where each other should be seen: at px, and the
    ellipse of one σ."""
    points, fit = state["survey"], fit_of(state)
    if not points:
        return []
    placed = {mark.get("name") for mark in state["marks"] if mark["kind"] == "spot"}
    out = [{"name": point["name"], "placed": point["name"] in placed} for point in points]
    if (
        not fit
        or not fit["ok"]
        or fit["determined"]["scale"] == "no"
        or None in fit["camera"]["position_m"]
    ):
        return out
    try:
        reach = Reach.of(*optimum_of(state))
    except Problem:
        return out
    world, spread = (
        np.array([point["world"] for point in points]),
        np.array([point["plus_minus"] for point in points]),
    )
    at, covariance = reach.expected(world, spread)
    for one, place, own in zip(out, at, covariance):
        if (
            not one["placed"]
            and np.isfinite(place).all()
            and np.isfinite(own).all()
            and (place > 0).all()
            and (place < (reach.camera.grid.width, reach.camera.grid.height)).all()
        ):
            one |= {
                "at": [round(float(v), 2) for v in place],
                "ellipse": [round(v, 2) for v in ellipse(own)],
            }
    return out
