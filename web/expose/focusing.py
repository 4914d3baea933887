"""What the shot's camera is focused on, on any frame, and which of several wishes that comes
from."""

import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.light.focus import ThinLens, circle_mm
from aperture.scene.stand_in import StandIn
from web.catalogue.models import CatalogueLens
from web.expose.exposure import of_camera
from web.match.path_fits import camera_of_state, served
from web.plates.models import frame_of, metadata_of, plate_of
from web.shows.history import edit
from web.shows.models import Shot
from web.stage.cameras import MATCHED, Planes
from web.stage.places import corner_names, places_of, points_of
from web.stage.stand_ins import stand_ins_of

USUAL_CIRCLE = {"basis": "frame"}
MOST_OFFERED = 300


@dataclass(frozen=True)
class Wish:
    """One way in which the focus is known.

    metres : None where it says nothing on this frame.
    why : why not, in words.
    """

    kind: str
    says: str
    metres: float | None
    why: str = ""


@dataclass(frozen=True)
class Focus:
    """The focus on a frame: the wish that is in use, and those that it overrides."""

    metres: float | None
    used: Wish | None
    others: tuple[Wish, ...]

    @property
    def origin(self) -> str:
        """As a row of the report has it."""
        if self.used is None:
            return ""
        return {"file": "file", "move": "file", "follow": "solved"}.get(self.used.kind, "typed")


# Where something is on a frame, metres: a point (3,), or a stand-in's corners (N, 3).
Target = Callable[[int], np.ndarray]


def targets(shot: Shot) -> dict[str, Target]:
    """What can be followed, by name: stand-ins by their corners, points of the set, and last the
    tracked points that have no name.
    """
    items = stand_ins_of(shot.state)
    named: dict[str, Target] = {name: _bounds(item) for name, item in items.items()}
    named |= {name: _still(np.array(at, float)) for name, at in places_of(shot).items()}
    for name, item in items.items():
        if item.moves:
            for index, corner in enumerate(corner_names(name, item)):
                named[corner] = _corner(item, index)
    for id_, world in points_of(shot).items():
        if None not in world:
            named.setdefault(f"track {id_}", _still(np.array(world, float)))
    return named


def nearest(shot: Shot, at: tuple[float, float], reach_px: float) -> str | None:
    """The point of the set that is seen nearest to a place of the plate, within `reach_px`."""
    camera, frame = camera_of_state(shot.state), frame_of(shot)
    if camera is None:
        return None
    there = {name: target(frame) for name, target in targets(shot).items()}
    points = {name: at for name, at in there.items() if at.ndim == 1}
    if not points:
        return None
    world = np.array(list(points.values()))
    ahead = camera.to_camera_space(world)[:, 2] < 0
    away = np.linalg.norm(camera.project(world) - at, axis=1)
    away = np.where(ahead & np.isfinite(away), away, np.inf)
    best = int(away.argmin())
    return list(points)[best] if away[best] <= reach_px else None


def _still(at: np.ndarray) -> Target:
    return lambda _: at


def _bounds(item: StandIn) -> Target:
    return lambda frame: item.at(frame).bounds()


def _corner(item: StandIn, index: int) -> Target:
    return lambda frame: item.at(frame).vertices()[index]


def distance_to(camera: Camera, target: np.ndarray) -> float:
    """Metres along the lens axis to a point (3,), or to the nearest end of what has corners (N,
    3)."""
    away = -camera.to_camera_space(np.atleast_2d(target))[:, 2]
    ahead = away[away > 0]
    return float(ahead.min()) if len(ahead) else float(away.max())


def focus_at(
    shot: Shot, frame: int | None = None, known: Mapping[str, Target] | None = None
) -> Focus:
    """The focus of the shot's camera on a frame; on the one that is worked on, if none is given.

    Following comes before keys, keys before what is typed; then what the Set step's sheet of the
    camera has, what a move that serves says, and the plate's file. `known`: the `targets`, found
    once by whoever asks about many frames.
    """
    wishes = _wishes(shot, frame_of(shot) if frame is None else frame, known)
    said = [wish for wish in wishes if wish.kind]
    used = next((wish for wish in said if wish.metres is not None), None)
    rest = tuple(wish for wish in said if wish is not used)
    return Focus(used.metres if used else None, used, rest)


def _wishes(shot: Shot, frame: int, known: Mapping[str, Target] | None) -> list[Wish]:
    state, own = shot.state, shot.state["focus"]
    out = []
    if own.get("follow"):
        out.append(_followed(shot, own["follow"], frame, known))
    if own.get("keys"):
        at = between_keys(own["keys"], frame - state["shift"])
        many = len(own["keys"])
        says = f"keyed over frames ({many} {'key' if many == 1 else 'keys'})"
        out.append(Wish("keys", says, at))
    if own.get("metres"):
        out.append(Wish("typed", "typed here", own["metres"]))
    sheet = state.get("camera_looks", {}).get(MATCHED, {}).get("focus_m")
    if sheet:
        out.append(Wish("sheet", "typed on the Set step", sheet))
    move = served(state)
    if move is not None and frame in move.focus_m:
        out.append(Wish("move", f"of the move {move.name}", move.focus_m[frame]))
    told = metadata_of(state, plate_of(shot)).get("focus_m")
    if told:
        out.append(Wish("file", "of the plate’s file", float(told)))
    return out


def _followed(shot: Shot, name: str, frame: int, known: Mapping[str, Target] | None) -> Wish:
    says = f"follows {name}"
    target = (targets(shot) if known is None else known).get(name)
    if target is None:
        return Wish("follow", says, None, "it is gone from the set")
    camera = camera_of_state(shot.state, frame)
    if camera is None:
        return Wish("follow", says, None, "there is no camera on this frame")
    away = distance_to(camera, target(frame))
    if away <= 0:
        return Wish("follow", says, None, "it lies behind the camera on this frame")
    return Wish("follow", says, away)


def between_keys(keys: list[list[float]], frame: float) -> float:
    """Metres between keys (frame, metres), along a straight line of 1 / distance, as a focus ring
    turns."""
    frames, metres = np.array(sorted(keys), float).T
    return float(1 / np.interp(frame, frames, 1 / metres))


def lens_at(shot: Shot, frame: int | None = None) -> ThinLens | None:
    """The focused lens of the shot's camera; None where stop, focus, gate or camera isn't known.

    Raises Problem where the lens can't be focused so near.
    """
    camera = camera_of_state(shot.state, frame)
    stop, focus = stop_at(shot, frame), focus_at(shot, frame).metres
    if camera is None or stop is None or focus is None or not shot.state["gate"]:
        return None
    return ThinLens(camera.lens.focal_mm, stop, focus)


def stop_at(shot: Shot, frame: int | None = None) -> float | None:
    """The f-number on a frame: as it is typed here, or else as a move says it, or the plate's."""
    given = of_camera(shot)["f_number"]
    move = served(shot.state)
    at = frame_of(shot) if frame is None else frame
    if "f_number" not in shot.state["exposure"] and move is not None and at in move.f_number:
        return move.f_number[at]
    return given.value


def circle_of(shot: Shot, camera: Camera) -> tuple[float, str]:
    """(mm, basis) the blur circle that still counts as sharp."""
    own = shot.state["focus"].get("circle", USUAL_CIRCLE)
    width, _ = camera.grid.gate_mm
    px_mm = width / camera.grid.width
    return circle_mm(own["basis"], camera.grid.gate_mm, px_mm, own.get("mm", 0.03)), own["basis"]


def catalogued(shot: Shot) -> dict:
    """What the house's catalogue knows of the shot's lens; empty where it isn't there."""
    name = shot.state["lens"].get("name")
    row = CatalogueLens.objects.offered().filter(name=name).first() if name else None
    return row.data if row else {}


def set_focus(shot: Shot, label: str, base: int | None, **changes: object) -> Shot:
    """Change some of the focus; None takes it out."""

    def change(state):
        kept = {**state["focus"], **changes}
        state["focus"] = {name: value for name, value in kept.items() if value not in (None, [])}

    return edit(shot, label, change, base)


def checked(shot: Shot, metres: float) -> float:
    """A distance to focus at. Raises Problem where the lens can't."""
    if not math.isfinite(metres) or metres <= 0:
        raise Problem("The focus must lie before the camera, above zero.", "metres")
    near = catalogued(shot).get("close_focus_m")
    if near and metres < near:
        raise Problem(
            f"{shot.state['lens']['name']} can’t be focused nearer than "
            f"{shot.show.length(near)[0]}: its close focus in the catalogue.",
            "metres",
        )
    camera = camera_of_state(shot.state)
    if camera is not None and shot.state["gate"]:
        ThinLens(camera.lens.focal_mm, 1.0, metres)
    return metres


def keyed(keys: list[list[float]], frame: int, metres: float | None) -> list[list[float]]:
    """Focus keys with another one on a frame, or without the one there."""
    rest = [key for key in keys if key[0] != frame]
    return sorted(rest + ([[frame, metres]] if metres is not None else []))


def over_time(shot: Shot, frames: Iterable[int]) -> tuple[dict[int, float], dict[int, float]]:
    """Focus in metres and f-number by frame, as far as they are known."""
    frames = list(frames)
    known = targets(shot) if shot.state["focus"].get("follow") else {}
    every = {frame: focus_at(shot, frame, known).metres for frame in frames}
    focus = {frame: metres for frame, metres in every.items() if metres is not None}
    stop = {frame: at for frame in frames if (at := stop_at(shot, frame)) is not None}
    return focus, stop


def planes(shot: Shot) -> Planes | None:
    """What the set view draws of the shot's own camera; None where nothing is known of its
    focus."""
    metres = focus_at(shot).metres
    if metres is None or math.isinf(metres):
        return None
    try:
        lens = lens_at(shot)
    except Problem:
        lens = None
    camera = camera_of_state(shot.state)
    if lens is None or camera is None:
        return Planes(metres)
    circle, _ = circle_of(shot, camera)
    near, far = lens.limits(circle)
    return Planes(metres, near, far if math.isfinite(far) else None)
