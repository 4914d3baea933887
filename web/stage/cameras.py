"""The cameras of a shot: the matched one, those of the drafts put aside, and such as were copied or
typed in here.

Copied and typed ones are kept in the state's `cameras`; how any of them is drawn, and its focus and
stop, in `camera_looks` by id.
"""

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.scene.frustum import from_json, to_json
from web.gates.gate import gate_words
from web.match.fits import still_camera_of
from web.match.leaves import state_of_draft
from web.match.path_fits import camera_of_state
from web.shows.history import edit
from web.shows.models import Shot
from web.stage.stand_ins import counted

MATCHED = "match"
DRAFT = "draft:"
MOST = 50
# How a camera is drawn in the set view, and what else is known of it; lengths in metres, None: as
# is of use.
LOOKS = {
    "length_m": None,
    "opacity": 0.12,
    "focus_m": None,
    "stop": None,
    "facts": "viewer",
    "hidden": False,
}
SIDES = {
    "none": "not shown",
    "viewer": "whoever looks",
    "front": "the front",
    "back": "the back",
    "left": "the left",
    "right": "the right",
    "above": "above",
}


@dataclass(frozen=True, eq=False)
class ShotCamera:
    """One camera of a shot. `kind`: solved, copied or typed; `looks` as in LOOKS."""

    id: str
    name: str
    kind: str
    camera: Camera
    locked: bool
    looks: dict = field(default_factory=lambda: dict(LOOKS))

    @property
    def own(self) -> bool:
        """Whether it is kept here, and so can be changed here."""
        return self.kind != "solved"


def cameras_of(shot: Shot) -> list[ShotCamera]:
    """All of them, the matched one first; a draft without a camera is left out."""
    state, looks = shot.state, shot.state.get("camera_looks", {})
    found = []

    def add(id_: str, name: str, kind: str, camera: Camera | None, locked: bool) -> None:
        if camera is not None:
            found.append(ShotCamera(id_, name, kind, camera, locked, LOOKS | looks.get(id_, {})))

    add(MATCHED, "Matched camera", "solved", camera_of_state(state), shot.locked)
    for name in sorted(state.get("drafts", {})):
        camera = still_camera_of(state_of_draft(shot, name))
        add(DRAFT + name, f"Draft {name}", "solved", camera, name in state.get("draft_locks", []))
    for item in state.get("cameras", []):
        add(item["id"], item["name"], item["kind"], from_json(item), item.get("locked", False))
    return found


def matched_of(cameras: list[ShotCamera]) -> ShotCamera | None:
    """The matched one among them."""
    return next((one for one in cameras if one.id == MATCHED), None)


def camera_called(shot: Shot, id_: str | None) -> ShotCamera | None:
    """One of them by its id; the matched one without; None where there is none such."""
    return next((one for one in cameras_of(shot) if one.id == (id_ or MATCHED)), None)


def copy_camera(shot: Shot, id_: str, base: int | None) -> Shot:
    """A copy of one, its name counted on, that stays where it is when the match changes."""
    source = camera_called(shot, id_)
    if source is None:
        raise Problem("There is no such camera to copy.")
    return add_camera(
        shot,
        source.camera,
        source.name if source.own else "Camera 1",
        "copied",
        base,
        f"Copied {source.name}",
    )


def type_camera(shot: Shot, base: int | None) -> Shot:
    """A camera to be typed: it begins two metres back from the origin at eye height, with the
    matched one's gate where there is one."""
    matched = camera_called(shot, MATCHED)
    if matched:
        begun = Camera.at(
            Grid.from_gate(
                matched.camera.grid.width, matched.camera.grid.height, *matched.camera.grid.gate_mm
            ),
            Lens(round(matched.camera.lens.focal_mm), matched.camera.lens.squeeze),
            (0.0, 1.6, max(3.0, float(matched.camera.position[2]))),
        )
    else:
        begun = Camera.at(Grid.from_gate(1920, 1080, 36.0, 20.25), Lens(35.0), (0.0, 1.6, 5.0))
    return add_camera(shot, begun, "Camera 1", "typed", base, "Typed a camera")


def add_camera(
    shot: Shot, camera: Camera, name: str, kind: str, base: int | None, label: str
) -> Shot:
    """Put a camera into the set; its name is counted on where it is taken."""

    def change(state):
        cameras = state.setdefault("cameras", [])
        if len(cameras) >= MOST:
            raise Problem(f"A shot holds {MOST} cameras beside its matched one. Remove one first.")
        taken = {one["id"] for one in cameras}
        id_ = next(id_ for number in range(1, 1000) if (id_ := f"c{number}") not in taken)
        cameras.append(
            {
                "id": id_,
                "name": counted(name, {one["name"] for one in cameras}),
                "kind": kind,
                "locked": False,
            }
            | to_json(camera)
        )

    return edit(shot, label, change, base)


def set_camera(shot: Shot, item: dict, base: int | None) -> Shot:
    """A copied or typed camera as it should become. Raises Problem where it is locked or gone, or a
    value can't be."""
    from_json(item)

    def change(state):
        kept = _own(state, item["id"])
        if kept.get("locked") and item.get("locked"):
            raise Problem(f"“{kept['name']}” is locked. Unlock it first.")
        state["cameras"] = [item if one["id"] == item["id"] else one for one in state["cameras"]]

    return edit(shot, f"Changed {item['name']}", change, base)


def lock_camera(shot: Shot, id_: str, base: int | None) -> Shot:
    """Lock or unlock a copied or typed one."""
    item = _own(shot.state, id_)
    return set_camera(shot, item | {"locked": not item.get("locked", False)}, base)


def remove_camera(shot: Shot, id_: str, base: int | None) -> Shot:
    """Take a copied or typed one out."""

    def change(state):
        if (kept := _own(state, id_)).get("locked"):
            raise Problem(f"“{kept['name']}” is locked. Unlock it first.")
        state["cameras"] = [one for one in state["cameras"] if one["id"] != id_]
        state.get("camera_looks", {}).pop(id_, None)

    return edit(shot, "Removed a camera", change, base)


def set_looks(shot: Shot, id_: str, looks: dict, base: int | None) -> Shot:
    """How a camera is drawn, its focus and stop: some of LOOKS."""
    if camera_called(shot, id_) is None:
        raise Problem("There is no such camera.")

    def change(state):
        kept = state.setdefault("camera_looks", {})
        kept[id_] = {
            name: value
            for name, value in (LOOKS | kept.get(id_, {}) | looks).items()
            if value != LOOKS[name]
        }
        if not kept[id_]:
            del kept[id_]

    return edit(shot, "Changed how a camera is shown", change, base)


def _own(state, id_) -> dict:
    item = next((one for one in state.get("cameras", []) if one["id"] == id_), None)
    if item is None:
        raise Problem("That camera is gone, or belongs to the match: the Match step changes it.")
    return item


@dataclass(frozen=True)
class Planes:
    """Distances along the axis of what a camera has in focus, metres: near and far limit, None
    where they aren't known."""

    focus: float
    near: float | None = None
    far: float | None = None


# Gives the planes of the shot's own camera; the step that knows its focus registers it.
_planes: list[Callable[[Shot], Planes | None]] = []


def register_planes(find: Callable[[Shot], Planes | None]) -> None:
    """Add what knows the planes of the shot's own camera; called by its app."""
    _planes[:] = [find]


def planes_of(shot: Shot, one: ShotCamera) -> Planes | None:
    """The planes of focus of a camera: of the matched one as the shot is focused, of others as
    typed."""
    found = _planes[0](shot) if _planes and one.id == MATCHED else None
    if found is None and one.looks["focus_m"]:
        return Planes(one.looks["focus_m"])
    return found


def f_number(one: ShotCamera, known: dict) -> float | None:
    """What the plate's file says of the matched camera's lens. A T-stop that was typed is of light,
    not of depth, and doesn't change it."""
    return known.get("f_number") if one.id == MATCHED else None


def stop_and_focus(looks: dict, f_number: float | None, show) -> list[str]:
    """In words, those that are known: the T-stop that was typed, or else the f-number; the focus
    distance."""
    words = []
    if looks.get("stop"):
        words.append(f"T {looks['stop']:g}")
    elif f_number:
        words.append(f"f/{f_number:g}")
    if looks.get("focus_m"):
        words.append(f"focus {show.length(looks['focus_m'])[0]}")
    return words


def facts_of(one: ShotCamera, show, known: dict, planes: Planes | None = None) -> list[str]:
    """The lines of a camera's plate of facts: name, lens and gate, focus and stop, height above the
    floor and tilt."""
    camera, looks = one.camera, one.looks
    if planes is not None:
        looks = looks | {"focus_m": planes.focus}
    pan, tilt, roll = np.degrees(camera.angles)
    third = " · ".join(stop_and_focus(looks, f_number(one, known), show))
    return [
        part
        for part in (
            one.name,
            gate_words(camera),
            third,
            f"{show.length(float(camera.position[1]))[0]} above the floor · tilt {tilt:.1f}°",
        )
        if part
    ]
