"""What dragging a stand-in's handle on the plate does to it: the camera's ray says where the
pointer is in the world."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.match.facts import AXES
from aperture.scene.overlay import BOX_EDGES
from aperture.scene.stand_in import StandIn

HANDLES = ("move", "corner", "top", "turn", *AXES)
LEAST_M = 1e-3
SNAP_PX = 14.0


def places(item: StandIn) -> dict[str, Array]:
    """World positions (3,) of a stand-in's handles: its foot, a floor corner, the middle of its
    top, a point before its front, the tips of its arrows."""
    width, height, depth = item.size
    front = np.array([np.sin(item.turn), 0.0, np.cos(item.turn)])
    base = np.array(item.base)
    out = {name: base + np.eye(3)[index] * arrow_length(item) for index, name in enumerate(AXES)}
    out |= {"move": base, "turn": base + front * (depth / 2 + 0.35 * max(width, depth))}
    if not (item.tilt or item.roll):  # leaning, it has no floor corner and no straight up
        out |= {"corner": item.bounds()[1]} | (
            {} if item.kind == "plane" else {"top": base + [0, height, 0]}
        )
    return out


def arrow_length(item: StandIn) -> float:
    """Metres from a stand-in's foot to the tips of the arrows along the world's axes."""
    return 0.15 + 0.75 * max(item.size)


def along_line(camera: Camera, at: list[float], point: Array, axis: Array) -> float:
    """How far along the line point + t · axis (3,), unit, the pixel `at` (2,) points nearest to.
    Raises Problem where the lens forms no picture."""
    ray, between = camera.rays([at])[0], np.asarray(point) - camera.position
    along = ray @ axis
    answer = (along * (ray @ between) - axis @ between) / max(1 - along**2, 1e-9)
    if not np.isfinite(answer):
        raise Problem("The lens forms no image there.")
    return float(np.clip(answer, -1e5, 1e5))


def on_floor(camera: Camera, at: list[float], height: float = 0.0) -> Array:
    """(3,) metres where the ray of pixel `at` (2,) meets the level plane y = height. Raises Problem
    above the horizon."""
    point = camera.on_plane([at], offset=height)[0]
    if not np.isfinite(point).all() or np.linalg.norm(point - camera.position) > 1e4:
        raise Problem(
            "That lies above the horizon, where there is no floor. Click lower on the plate."
        )
    return point


def on_surface(camera: Camera, at: list[float], stand_ins: list[StandIn]) -> Array:
    """(3,) metres where the ray of pixel `at` (2,) first meets one of the stand-ins, or else the
    floor. Raises Problem where it meets neither."""
    ray, nearest = camera.rays([at])[0], np.inf
    for item in stand_ins:
        a, b, c = (item.vertices()[item.solid.triangles[:, index]] for index in range(3))
        # Möller & Trumbore 1997, "Fast, minimum storage ray/triangle intersection".
        ab, ac = b - a, c - a
        across = np.cross(ray, ac)
        with np.errstate(all="ignore"):
            inverse = 1 / (ab * across).sum(axis=1)
            off = camera.position - a
            u = (off * across).sum(axis=1) * inverse
            around = np.cross(off, ab)
            v = around @ ray * inverse
            distance = (ac * around).sum(axis=1) * inverse
            hit = (u >= 0) & (v >= 0) & (u + v <= 1) & (distance > 1e-6)
        nearest = min(nearest, distance[hit].min(initial=np.inf))
    try:
        floor = on_floor(camera, at)
    except Problem:
        if not np.isfinite(nearest):
            raise
        floor = None
    if floor is not None and np.linalg.norm(floor - camera.position) < nearest:
        return floor
    return camera.position + nearest * ray


def snapped(
    camera: Camera,
    point: Array,
    at: list[float],
    stand_ins: Sequence[Any],
    spots: Sequence[Any] = (),
    reach_px: float = SNAP_PX,
) -> Array:
    """`point` (3,), or what is seen within `reach_px` of the pixel `at` (2,): the foot of a corner
    of another stand-in's box or one of the `spots`, or else the nearest place on a lower edge of
    such a box. At the point's height.
    """
    point = np.asarray(point, float)
    feet = [corner for item in stand_ins for corner in item.bounds()[:4]] + [
        np.asarray(spot, float) for spot in spots
    ]
    if not feet:
        return point
    edges = np.array([item.bounds()[BOX_EDGES[:4]] for item in stand_ins]).reshape(-1, 2, 3)
    for places in (np.array(feet), _nearest_on(edges, point)):
        places[:, 1] = point[1]
        apart = np.linalg.norm(camera.project(places) - at, axis=1)
        if np.isfinite(apart).any() and np.nanmin(apart) <= reach_px:
            return places[np.nanargmin(apart)]
    return point


def _nearest_on(ends: Array, point: Array) -> Array:
    """(N, 3) the places on segments (N, 2, 3) nearest to a point (3,), heights left aside."""
    along = ends[:, 1] - ends[:, 0]
    flat = along * [1.0, 0.0, 1.0]
    share = ((point - ends[:, 0]) * flat).sum(axis=1) / np.maximum((flat**2).sum(axis=1), 1e-12)
    return ends[:, 0] + np.clip(share, 0, 1)[:, None] * along


def drag(
    camera: Camera,
    item: StandIn,
    handle: str,
    at: list[float],
    snap_to: Sequence[Any] = (),
    spots: Sequence[Any] = (),
) -> StandIn:
    """The stand-in after its `handle` was dragged to the pixel `at` (2,); its foot and its corner
    snap to corners and edges of `snap_to` and to `spots`, (3,) each.

    Raises Problem where the pointer meets no floor.
    """
    base = np.array(item.base)
    if handle == "top":
        height = along_line(camera, at, base, np.array([0.0, 1.0, 0.0]))
        return replace(item, size=(item.size[0], max(height, LEAST_M), item.size[2]))
    if handle in AXES:
        axis = np.eye(3)[AXES.index(handle)]
        return replace(
            item,
            base=tuple(
                (base + axis * (along_line(camera, at, base, axis) - arrow_length(item))).tolist()
            ),
        )
    point = on_floor(camera, at, item.base[1])
    if handle in ("move", "corner"):
        point = snapped(camera, point, at, snap_to, spots)
    if handle == "move":
        return replace(item, base=tuple(point.tolist()))
    if handle == "turn":
        return replace(item, turn=float(np.arctan2(point[0] - base[0], point[2] - base[2])))
    if handle != "corner":
        raise Problem(f"A stand-in has no handle “{handle}”.")
    opposite = item.bounds()[3]
    c, s = np.cos(item.turn), np.sin(item.turn)
    apart = point - opposite
    width, depth = abs(c * apart[0] - s * apart[2]), abs(s * apart[0] + c * apart[2])
    middle = (point + opposite) / 2
    return replace(
        item,
        size=(max(float(width), LEAST_M), item.size[1], max(float(depth), LEAST_M)),
        base=(float(middle[0]), item.base[1], float(middle[2])),
    )
