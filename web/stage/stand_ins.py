"""The stand-ins of a shot's state: their JSON and back."""

import math
from collections.abc import MutableMapping
from dataclasses import replace

from aperture.scene.solids import KINDS
from aperture.scene.stand_in import StandIn
from web.plates.frames import number_now, offset_of
from web.shows.steps import Standing
from web.stage import meshes
from web.stage.ways import items_at, ways_of

# What an item says beyond its shape, and what holds where it doesn't.
EXTRAS = {
    "parent": None,
    "hidden": False,
    "locked": False,
    "part_of_plate": False,
    "material": "matte",
    "checker_m": 0.25,
}
MATERIALS = {"matte": "Matte", "mirror": "Mirror", "plate": "The plate on it", "checker": "Checker"}


def new(kind: str, name: str, **more) -> dict:
    """The JSON of a new stand-in of a kind, at the origin in its kind's size."""
    return {
        "name": name,
        "kind": kind,
        "size": list(KINDS[kind][1]),
        "base": [0.0, 0.0, 0.0],
        "turn_deg": 0.0,
    } | more


def stand_in_from(item: dict) -> StandIn:
    """A StandIn from its JSON. Raises Problem where a value can't be."""
    width, height, depth = map(float, item["size"])
    x, y, z = map(float, item["base"])
    turn, tilt, roll = (
        math.radians(float(item.get(f"{name}_deg", 0.0))) for name in ("turn", "tilt", "roll")
    )
    kind = item.get("kind", "box")
    return StandIn(
        (width, height, depth),
        (x, y, z),
        turn,
        tilt,
        roll,
        kind=kind,
        steps=int(item.get("steps", 0)),
        corners=tuple(map(tuple, item.get("corners", ()))),
        mesh=meshes.solid(item["mesh"]) if kind == "mesh" else None,
    )


def json_from(item: dict, placed: StandIn) -> dict:
    """The JSON of a changed stand-in, keeping what else its item says; rounded to a hundredth of a
    millimetre."""
    out = item | {
        "size": [round(v, 5) for v in placed.size],
        "base": [round(v, 5) for v in placed.base],
    }
    for name in ("turn", "tilt", "roll"):
        degrees = round(math.degrees(getattr(placed, name)), 4)
        if degrees or name == "turn" or f"{name}_deg" in item:
            out[f"{name}_deg"] = degrees
    return out


def extra(item: dict, name: str):
    """One of EXTRAS of an item."""
    return item.get(name, EXTRAS[name])


def shapes(items: list[dict]) -> list[dict]:
    """What of items says where their surfaces are, and nothing else: it is the same while only
    names and the like change."""
    return [
        {
            key: value
            for key, value in item.items()
            if key
            not in ("name", "locked", "parent", "material", "checker_m", "part_of_plate", "notes")
            and key != "way"  # they are told as they stand
        }
        for item in items
    ]


def standing_now(state: MutableMapping, number: int | None = None) -> list[dict]:
    """All items as they stand on a picture; on the one that is worked on where none is told."""
    items = state["stand_ins"]
    if not any("way" in item for item in items):
        return items
    return items_at(items, number_now(state) if number is None else number)


def what_stands(state: MutableMapping) -> list[dict]:
    """What of the stand-ins that aren't hidden is seen, on whatever frame: as they are kept, less
    what says nothing of it. What they hang on counts where anything moves.
    """
    items = state["stand_ins"]
    silent = (
        {"locked", "hidden"}
        if any("way" in item for item in items)
        else {"locked", "hidden", "parent"}
    )
    return [
        {key: value for key, value in item.items() if key not in silent}
        for item in items
        if not extra(item, "hidden")
    ]


def shown(state: MutableMapping, number: int | None = None) -> list[dict]:
    """The items that aren't hidden, as they stand on a picture; on the one that is worked on where
    none is told.
    """
    return [item for item in standing_now(state, number) if not extra(item, "hidden")]


def stand_ins_of(state: MutableMapping) -> dict[str, StandIn]:
    """The stand-ins that aren't hidden by name, each name once: as they stand now, with their ways
    by the shot's frames.
    """
    return {name: with_way(state, item) for name, item in named(state).items()}


def with_way(state: MutableMapping, item: dict) -> StandIn:
    """A stand-in from its JSON as it stands now, with its way by the shot's frames."""
    way = ways_of(state["stand_ins"], offset_of(state)).get(item["id"])
    return replace(stand_in_from(item), way=way)


def named(state: MutableMapping) -> dict[str, dict]:
    """The items that aren't hidden by name, each name once."""
    out: dict[str, dict] = {}
    for item in shown(state):
        name, number = item["name"], 2
        while name in out:
            name, number = f"{item['name']} {number}", number + 1
        out[name] = item
    return out


def free_name(state: MutableMapping, wanted: str) -> str:
    """The name, counted on where a stand-in has it."""
    return counted(wanted, {item["name"] for item in state["stand_ins"]})


def counted(wanted: str, taken: set[str]) -> str:
    """The name, with the first free number where it is taken; a number that it ends in is counted
    on."""
    if wanted not in taken:
        return wanted
    stem = wanted.rstrip("0123456789").rstrip() or wanted
    return next(name for number in range(2, 100000) if (name := f"{stem} {number}") not in taken)


def standing(shot) -> Standing:
    """Settled once something stands."""
    count = len(shot.state["stand_ins"])
    if not count:
        return Standing("nothing", "no stand-ins")
    plural = "s" if count > 1 else ""
    return Standing("settled", f"{count} stand-in{plural}")
