"""The verbs of the Set step."""

import math
import time
from pathlib import Path

import numpy as np

from aperture.errors import Problem
from aperture.fence import run_fenced
from aperture.formats import meshes as files
from web.plates.frames import number_now
from web.shows.history import edit
from web.shows.models import Shot
from web.stage import meshes, ways
from web.stage.stand_ins import extra, free_name, new, stand_in_from, standing_now

BESIDE = 0.25  # a copy stands beside what it was made from, by this share of its width


def add_stand_in(shot: Shot, item: dict, base: int | None) -> Shot:
    """A new stand-in with an id of its own."""
    stand_in_from(item)

    def change(state):
        state["stand_ins"].append({"id": _free_id(state), **item})

    return edit(shot, f"Placed {item['name']}", change, base)


def bring_in_mesh(
    shot: Shot, name: str, path: Path, ending: str, unit: str, up_axis: str, base: int | None
) -> Shot:
    """A stand-in from a file, where the file has it; what is odd about it, and how long it took, is
    kept with it. Raises Problem."""
    began = time.monotonic()
    mesh = run_fenced(files.read_file, path, ending, unit, up_axis)
    digest = meshes.keep(mesh.vertices, mesh.triangles)
    notes = [
        f"{len(mesh.triangles):,} faces, brought in in {time.monotonic() - began:.1f} s.",
        *mesh.remarks,
    ]
    return add_stand_in(
        shot,
        new(
            "mesh",
            free_name(shot.state, name),
            size=list(mesh.size),
            base=list(mesh.base),
            mesh=digest,
            notes=notes,
        ),
        base,
    )


def set_stand_in(shot: Shot, item: dict, base: int | None, run: str = "") -> Shot:
    """A changed stand-in; what hangs on it moves and turns along.

    The item is as it should stand on the picture that is worked on: one that moves gets a key
    there. `run` as in `history.edit`: drags that follow each other. Raises Problem where it is
    locked or gone, or hangs on itself.
    """
    stand_in_from(item)

    def change(state):
        before = _find(state, item["id"])
        if extra(before, "locked") and extra(item, "locked"):
            raise Problem(f"“{before['name']}” is locked. Unlock it first.")
        if item["id"] in (above := _above(state, extra(item, "parent"))):
            raise Problem(
                f"“{item['name']}” can't hang on what hangs on it:"
                f" {' → '.join(_find(state, id_)['name'] for id_ in above)}.",
                "parent",
            )
        kept = ways.as_kept(state["stand_ins"], item, number_now(state))
        state["stand_ins"] = with_what_hangs(state["stand_ins"], kept)

    return edit(shot, f"Changed {item['name']}", change, base, run=run)


def with_what_hangs(items: list[dict], item: dict) -> list[dict]:
    """The items, all as they are kept, once one of them is as `item` says: what hangs on it has
    moved and turned along.
    """
    was, placed = stand_in_from(_find({"stand_ins": items}, item["id"])), stand_in_from(item)
    motion = placed.pose @ np.linalg.inv(was.pose)
    still = np.allclose(motion, np.eye(4), atol=1e-9)
    below = set() if still else _below({"stand_ins": items}, item["id"])

    def after(other):
        if other["id"] == item["id"]:
            return item
        if other["id"] in below:
            return ways.carried(other, motion)
        return other

    return [after(other) for other in items]


def as_it_would_stand(state, item: dict) -> list[dict]:
    """All items on the picture that is worked on, once one of them stands there as `item` says."""
    items, number = state["stand_ins"], number_now(state)
    return ways.items_at(with_what_hangs(items, ways.as_kept(items, item, number)), number)


def flag(shot: Shot, id_: str, name: str, base: int | None) -> Shot:
    """Turn one of hidden, locked or part_of_plate over."""
    words = {
        "hidden": ("Showed", "Hid"),
        "locked": ("Unlocked", "Locked"),
        "part_of_plate": ("Took as an element", "Took as part of the plate"),
    }
    if name not in words:
        raise Problem("A stand-in has no such switch.")
    item = _find(shot.state, id_)

    def change(state):
        found = _find(state, id_)
        found[name] = not extra(found, name)

    return edit(shot, f"{words[name][not extra(item, name)]} {item['name']}", change, base)


def wear(shot: Shot, id_: str, base: int | None) -> Shot:
    """Put the plate on one, or take it off again."""
    item = _find({"stand_ins": standing_now(shot.state)}, id_)
    on = extra(item, "material") == "plate"
    return set_stand_in(shot, item | {"material": "matte" if on else "plate"}, base)


def key_stand_in(shot: Shot, id_: str, base: int | None) -> Shot:
    """A key of its place on the picture that is worked on: from then on it moves."""
    return _way(shot, id_, "A key of {}", base, ways.with_key)


def unkey_stand_in(shot: Shot, id_: str, number: int, base: int | None) -> Shot:
    """Take its key on a picture out. Raises Problem where there is none."""

    def without(items, item, _):
        return ways.without_key(item, number)

    return _way(shot, id_, "Took out a key of {}", base, without)


def rest_stand_in(shot: Shot, id_: str, base: int | None) -> Shot:
    """Take all its keys out: it stays where it is on the picture that is worked on."""
    return _way(shot, id_, "{} stands still", base, ways.at_rest)


def smooth_stand_in(shot: Shot, id_: str, smooth: bool, base: int | None) -> Shot:
    """Whether it goes smoothly through its keys, or straight from one to the next."""

    def change(items, item, number):
        return item | {"way": item.get("way", {"keys": []}) | {"smooth": smooth}}

    label = "{} goes smoothly" if smooth else "{} goes straight from key to key"
    return _way(shot, id_, label, base, change)


def _way(shot: Shot, id_: str, label: str, base: int | None, changed) -> Shot:
    """An edit of a stand-in's way; `changed(items, item, number)`: the item as it is kept then."""
    name = _find(shot.state, id_)["name"]

    def change(state):
        item = _find(state, id_)
        if extra(item, "locked"):
            raise Problem(f"“{item['name']}” is locked. Unlock it first.")
        kept = changed(state["stand_ins"], item, number_now(state))
        state["stand_ins"] = with_what_hangs(state["stand_ins"], kept)

    return edit(shot, label.format(name), change, base)


def duplicate(shot: Shot, id_: str, base: int | None) -> Shot:
    """A copy beside it, its number counted on."""
    item = _find(shot.state, id_)

    def change(state):
        found = _find(state, id_)
        aside = found["size"][0] * (1 + BESIDE)
        turn = math.radians(found.get("turn_deg", 0.0))
        beside = [aside * math.cos(turn), 0.0, -aside * math.sin(turn)]
        new = {"id": _free_id(state), "name": free_name(state, found["name"]), "locked": False}
        state["stand_ins"].append(ways.shifted(found, beside) | new)

    return edit(shot, f"Duplicated {item['name']}", change, base)


def remove_stand_in(shot: Shot, id_: str, base: int | None) -> Shot:
    """Take a stand-in out; what hung on it stays where it is."""

    def change(state):
        if any(item["id"] == id_ and extra(item, "locked") for item in state["stand_ins"]):
            raise Problem(f"“{_find(state, id_)['name']}” is locked. Unlock it first.")
        items, number = state["stand_ins"], number_now(state)
        for item in ways.items_at(items, number):
            if extra(item, "parent") == id_:
                kept = ways.as_kept(items, item | {"parent": None}, number)
                items = [kept if one["id"] == kept["id"] else one for one in items]
        state["stand_ins"] = [item for item in items if item["id"] != id_]

    return edit(shot, "Removed a stand-in", change, base)


def _find(state, id_) -> dict:
    item = next((item for item in state["stand_ins"] if item["id"] == id_), None)
    if item is None:
        raise Problem("That stand-in is gone already.")
    return item


def _free_id(state) -> str:
    taken = {item["id"] for item in state["stand_ins"]}
    return next(id_ for number in range(1, 100000) if (id_ := f"b{number}") not in taken)


def _above(state, id_) -> list[str]:
    """The ids from one up to what hangs on nothing."""
    parents, out = {item["id"]: extra(item, "parent") for item in state["stand_ins"]}, []
    while id_ in parents and id_ not in out:
        out.append(id_)
        id_ = parents[id_]
    return out


def _below(state, id_) -> set[str]:
    """The ids of all that hangs on one, directly or not."""
    return {item["id"] for item in state["stand_ins"] if id_ in _above(state, item["id"])[1:]}
