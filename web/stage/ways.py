"""Stand-ins that move: the keys of their places over the pictures, and what stands where on one.

An item's `way` has `keys`, [picture number, [across, up, along], [turn, tilt, roll]] in metres and
degrees, and `smooth`. Its `base` and angles are those of its first key, and its keys are as if what
it hangs on stood at its own first key: so an item that hangs on a moving one needs no keys.
"""

from collections.abc import Callable, Iterable, Mapping

import numpy as np

from aperture.errors import Problem
from aperture.geometry.rotation import angles_from_rotation, rotation_from_angles
from aperture.scene.way import Way

ANGLES = ("turn_deg", "tilt_deg", "roll_deg")
MOST_KEYS = 1000
SAME_M, SAME_DEG = 2e-5, 2e-4  # what is rounded away where an item is kept


def own_keys(item: Mapping) -> list[list]:
    """Its keys in order; none of what doesn't move by itself."""
    return sorted(item.get("way", {}).get("keys", []))


def _place(item: Mapping) -> list[list[float]]:
    return [list(item["base"]), [float(item.get(name, 0.0)) for name in ANGLES]]


def _pose(base, angles) -> np.ndarray:
    pose = np.eye(4)
    pose[:3, :3], pose[:3, 3] = rotation_from_angles(*np.radians(angles)), base
    return pose


def _written(pose: np.ndarray) -> list[list[float]]:
    """A pose as base and angles, rounded to a hundredth of a millimetre."""
    angles = np.degrees(angles_from_rotation(pose[:3, :3]))
    # Adding 0 takes the sign of a zero away.
    return [(np.round(pose[:3, 3], 5) + 0.0).tolist(), (np.round(angles, 4) + 0.0).tolist()]


def put(item: dict, base: list[float], angles: list[float]) -> dict:
    """The item at another place."""
    out = item | {"base": list(base)}
    for name, value in zip(ANGLES, angles):
        if value or name == "turn_deg" or name in item:
            out[name] = value
    return out


def ways_of(items: Iterable[dict], offset: int = 0) -> dict[str, Way]:
    """The ways of those that move, by their ids; `offset`: what the shot's frames are more than
    numbers."""
    by_id, found = {item["id"]: item for item in items}, {}

    def way(id_: str | None, below: tuple[str, ...]) -> Way | None:
        item = by_id.get(id_)
        if id_ is None or item is None or id_ in below:
            return None
        if id_ not in found:
            keys = own_keys(item) or [[0, *_place(item)]]
            poses = np.array([_pose(base, angles) for _, base, angles in keys])
            found[id_] = Way(
                np.array([key[0] + offset for key in keys], float),
                poses[:, :3, 3],
                poses[:, :3, :3],
                bool(item.get("way", {}).get("smooth")),
                way(item.get("parent"), (*below, id_)),
            )
        return found[id_]

    if not any(own_keys(item) for item in by_id.values()):
        return {}
    for id_ in by_id:
        way(id_, ())
    return {id_: one for id_, one in found.items() if one.moves}


def retimed(items: Iterable[dict], made: Callable[[list[int], Callable], list]) -> list[dict]:
    """The items with other keys: those that `made` makes of their picture numbers and of what a key
    holds at a number."""
    out = []
    for item in items:
        keys = own_keys(item)
        if keys:
            way = ways_of([{**item, "parent": None}]).get(item["id"])
            value = (lambda at, way=way: _written(way.own_pose(at))) if way else None
            item = _keyed(item, made([key[0] for key in keys], value)) if value else item
        out.append(item)
    return out


def items_at(items: list[dict], number: int) -> list[dict]:
    """The items as they stand on a picture; the same ones where nothing moves."""
    ways = ways_of(items)
    if not ways:
        return items
    return [
        put(item, *_written(ways[item["id"]].pose(number))) if item["id"] in ways else item
        for item in items
    ]


def as_kept(items: list[dict], item: dict, number: int) -> dict:
    """An item as it is to be kept, from how it should stand on a picture: a key is set there where
    it moves by itself, and has changed its place.
    """
    before = next(one for one in items if one["id"] == item["id"])
    now = next(one for one in items_at(items, number) if one["id"] == item["id"])
    changed = [item if one["id"] == item["id"] else one for one in items]
    # What hangs on nothing has no parent, or the empty id.
    was_on = ways_of(items).get(before.get("parent") or "")
    on = ways_of(changed).get(item.get("parent") or "")
    keys = own_keys(before)
    if before.get("parent") != item.get("parent"):
        keys = [[key[0], *_written(_hung(on, key[0], was_on) @ _pose(*key[1:]))] for key in keys]
    place = _place(item)
    stays = _same(place, _place(now))
    if stays and keys:
        return _keyed(item, keys)
    if stays and before.get("parent") == item.get("parent"):
        return put(item, *_place(before))
    if on is not None:
        place = _written(_hung(on, number, None) @ _pose(*place))
    if not keys:
        return put(item, *place)
    return _keyed(item, [key for key in keys if key[0] != number] + [[number, *place]])


def _hung(on: Way | None, number: int, was_on: Way | None) -> np.ndarray:
    """(4, 4) what takes a place from hanging on `was_on`, or from the world, to hanging on `on`."""
    out = np.eye(4) if was_on is None else was_on.motion(number)
    return out if on is None else np.linalg.inv(on.motion(number)) @ out


def _same(one: list[list[float]], other: list[list[float]]) -> bool:
    """Whether two places are the same but for rounding."""
    near = np.allclose(one[0], other[0], rtol=0, atol=SAME_M)
    turned = (np.subtract(one[1], other[1]) + 180) % 360 - 180
    return near and bool((np.abs(turned) < SAME_DEG).all())


def _keyed(item: dict, keys: list[list]) -> dict:
    """The item with other keys, at the place of the first."""
    if len(keys) > MOST_KEYS:
        raise Problem(f"A stand-in has {MOST_KEYS} keys at most.")
    keys = sorted(keys)
    return put(item | {"way": item.get("way", {}) | {"keys": keys}}, *keys[0][1:])


def with_key(items: list[dict], item: dict, number: int) -> dict:
    """An item as it is kept, with a key on a picture at the place that it has there."""
    ways = ways_of(items)
    place = _place(item)
    if item["id"] in ways:
        place = _written(ways[item["id"]].own_pose(number))
    return _keyed(item, [key for key in own_keys(item) if key[0] != number] + [[number, *place]])


def without_key(item: dict, number: int) -> dict:
    """An item as it is kept, without its key on a picture. Raises Problem where there is none."""
    keys = own_keys(item)
    if number not in {key[0] for key in keys}:
        raise Problem(f"“{item['name']}” has no key there.")
    if len(keys) == 1:
        return {name: value for name, value in item.items() if name != "way"}
    return _keyed(item, [key for key in keys if key[0] != number])


def at_rest(items: list[dict], item: dict, number: int) -> dict:
    """An item as it is kept without keys, where it stands on a picture."""
    way = ways_of(items).get(item["id"])
    kept = {name: value for name, value in item.items() if name != "way"}
    return kept if way is None else put(kept, *_written(way.own_pose(number)))


def carried(item: dict, motion: np.ndarray) -> dict:
    """An item as it is kept, moved and turned (4, 4) as a whole, keys and all."""
    out = put(item, *_written(motion @ _pose(*_place(item))))
    if not own_keys(item):
        return out
    keys = [[key[0], *_written(motion @ _pose(*key[1:]))] for key in own_keys(item)]
    return _keyed(out, keys)


def shifted(item: dict, by: list[float]) -> dict:
    """An item as it is kept, at another place by so many metres, keys and all."""
    motion = np.eye(4)
    motion[:3, 3] = by
    return carried(item, motion)
