"""The shot's look: previewed on plate and render, kept by name on the show, written as JSON."""

import json
import math
from functools import lru_cache

import cv2
import numpy as np
from django.db import transaction

from aperture.errors import Problem
from aperture.light.character import grade, look
from aperture.light.character.look import Look
from aperture.light.character.pannini import Pannini, pannini
from web.blobs import store
from web.expose.models import MOST_LOOKS, ShowLook
from web.match.path_fits import camera_of_state
from web.plates.models import frame_of
from web.shows.history import edit
from web.shows.models import Shot

USUAL_TAN = 0.6  # of half the diagonal angle of view, where no camera is known


def look_of(shot: Shot) -> Look:
    """The shot's; a plain one where none was made."""
    return Look.from_json(shot.state["look"].get("look", {}))


def is_on(shot: Shot) -> bool:
    """Whether it goes into pictures that are delivered."""
    return bool(shot.state["look"].get("on")) and bool(names_of(shot))


def names_of(shot: Shot) -> list[str]:
    """What of it changes a picture, in words."""
    table = ["lookup table"] if "cube" in shot.state["look"] else []
    return look_of(shot).names + table


@lru_cache(maxsize=4)
def _table(digest: str):
    return grade.read_cube(store.get(digest))


def table_of(shot: Shot):
    """Its lookup table; None where it has none."""
    kept = shot.state["look"].get("cube")
    return _table(kept["blob"]) if kept else None


def tan_corner(shot: Shot) -> float:
    """Tangent of half the diagonal angle of view."""
    camera = camera_of_state(shot.state)
    if camera is None:
        return USUAL_TAN
    half = camera.view.diagonal / 2
    return math.tan(half) if half < 1.5 else USUAL_TAN


def applied(
    shot: Shot, linear: np.ndarray, frame: int | None = None, perspective: bool = False
) -> np.ndarray:
    """A picture (H, W, 3) of linear light with the shot's look.

    perspective : laid out anew too, which a picture that has to lie over the plate can't be.
    """
    own = look_of(shot)
    number = frame_of(shot) if frame is None else frame
    out = look.apply(linear, own, tan_corner(shot), number, table_of(shot))
    if not (perspective and own.perspective):
        return out
    found = laid_out(shot, out.shape[1], out.shape[0])
    if found is None:
        return out
    at = found.source.astype(np.float32) - 0.5
    return cv2.remap(out, at[..., 0], at[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)


def laid_out(shot: Shot, width: int = 320, height: int = 180) -> Pannini | None:
    """The shot's perspective; None without a camera. Raises Problem where it can't be laid out."""
    from dataclasses import replace

    camera, own = camera_of_state(shot.state), look_of(shot)
    if camera is None:
        return None
    camera = replace(camera, grid=camera.grid.resize(width, height))
    return pannini(camera, own.compression, own.vertical)


def set_look(shot: Shot, values: Look, base: int | None, label: str = "Look") -> Shot:
    """Keep the look's figures."""

    def change(state):
        state["look"] = state["look"] | {"look": values.to_json()}

    return edit(shot, label, change, base)


def switch(shot: Shot, on: bool, base: int | None) -> Shot:
    """Whether the look goes into pictures that are delivered."""
    label = "Look in what is delivered" if on else "Look only previewed"
    return edit(shot, label, lambda state: state.update(look=state["look"] | {"on": on}), base)


def set_table(shot: Shot, data: bytes | None, name: str, base: int | None) -> Shot:
    """Take a lookup table, or forget it. Raises Problem where it isn't one."""
    kept: dict = {}
    if data is not None:
        grade.read_cube(data)
        kept = {"cube": {"blob": store.put(data)}, "cube_name": name[:200]}

    def change(state):
        rest = {k: v for k, v in state["look"].items() if k not in ("cube", "cube_name")}
        state["look"] = rest | kept

    return edit(shot, "Lookup table" if data is not None else "No lookup table", change, base)


def take(shot: Shot, data: dict, name: str, base: int | None) -> Shot:
    """Take a look that was kept or written: figures, and the table where this house has it."""
    values = Look.from_json(data.get("look", data))
    kept: dict = {"look": values.to_json(), "name": name[:80]}
    if "cube" in data:
        kept |= {"cube": data["cube"], "cube_name": data.get("cube_name", "")}

    def change(state):
        state["look"] = kept | ({"on": True} if state["look"].get("on") else {})

    return edit(shot, f"Look {name}" if name else "Look", change, base)


def keep(shot: Shot, name: str) -> ShowLook:
    """Keep the shot's look on its show, under a name; one of that name is replaced."""
    own = shot.state["look"]
    data = {"look": look_of(shot).to_json()}
    data |= {key: own[key] for key in ("cube", "cube_name") if key in own}
    with transaction.atomic():
        if shot.show.looks.exclude(name=name).count() >= MOST_LOOKS:
            raise Problem(f"A show keeps {MOST_LOOKS} looks at most.")
        row, _ = ShowLook.objects.update_or_create(
            show=shot.show, name=name, defaults={"data": data}
        )
    return row


def written(shot: Shot) -> str:
    """The look's figures as a JSON file."""
    return json.dumps(look_of(shot).to_json(), indent=2)


def read_file(data: bytes) -> dict:
    """A look's JSON file. Raises Problem where it isn't one."""
    if len(data) > 1_000_000:
        raise Problem("A look’s file of more than 1 MB isn’t taken.")
    try:
        kept = json.loads(data)
    except (ValueError, RecursionError):
        raise Problem("That file isn’t JSON.") from None
    Look.from_json(kept)
    return {"look": kept}
