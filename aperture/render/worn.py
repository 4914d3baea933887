"""The plate on a stand-in: its surface cut so finely that each corner's place on the plate serves
as its texture coordinate, with what is seen stretched, and what the plate doesn't show at all.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.render.tracer import MISSED, Look, Scene
from aperture.scene.stand_in import StandIn

if TYPE_CHECKING:
    from aperture.geometry.grid import Grid

SEEN, STRETCHED, UNSEEN = 0, 1, 2
# How far a place within a triangle may be from where straight interpolation of its corners has it.
TOLERANCE_PX = 0.25
BROAD_PX = 48.0  # what is larger is cut anyway, or what hides a part of it would be missed
CELL_PX = 6.0  # how finely the border between seen and unseen is cut
# A pixel that covers so many times more one way than the other is stretched: seen at less than
# 14.5° to the surface.
STRETCH = 4.0
ROUNDS = 20
MOST = 40_000  # triangles


@dataclass(frozen=True, eq=False)
class Worn:
    """points (V, 3) metres; at (V, 2) px on the plate, NaN where it doesn't show them; triangles
    (T, 3); mark (T,) SEEN, STRETCHED or UNSEEN."""

    points: Array
    at: Array
    triangles: Array
    mark: Array

    @property
    def areas(self) -> Array:
        """(T,) square metres."""
        a, b, c = (self.points[self.triangles[:, index]] for index in range(3))
        return np.linalg.norm(np.cross(b - a, c - a), axis=1) / 2

    @property
    def shares(self) -> tuple[float, float, float]:
        """The shares of the surface that are seen well, stretched, and not at all."""
        areas = self.areas
        well, stretched, unseen = (
            float(areas[self.mark == mark].sum() / max(areas.sum(), 1e-300))
            for mark in (SEEN, STRETCHED, UNSEEN)
        )
        return well, stretched, unseen


def wear(camera: Camera, items: list[StandIn], index: int) -> Worn:
    """The plate of `camera` on `items[index]`, with the others in its way."""
    item, scene = items[index], Scene(camera, [(one, Look()) for one in items])
    points, triangles = item.vertices(), item.solid.triangles
    for _ in range(ROUNDS):
        if len(triangles) > MOST:
            break
        at, (edges, which) = _places(camera, points), _edges(triangles)
        cut = _wanted(camera, points, at, edges)
        if not cut.any():
            seen = np.stack(
                [_seen(scene, camera, points[triangles], index, weights) for weights in _PROBES]
            )
            cut = _borders(at, edges, which, np.any(seen, axis=0) & ~np.all(seen, axis=0))
        if not cut.any():
            break
        points, triangles = _split(points, triangles, edges, which, cut)
    at, mark = (
        _places(camera, points),
        np.where(_seen(scene, camera, points[triangles], index, _PROBES[0]), SEEN, UNSEEN),
    )
    mark[(mark == SEEN) & (_stretch(points, at, triangles) > STRETCH)] = STRETCHED
    return Worn(points, at, triangles, mark)


def _places(camera: Camera, points: Array) -> Array:
    """(V, 2) px, NaN where the plate doesn't show a point."""
    at, grid = camera.project(points), camera.grid
    outside = ~np.all((at >= 0) & (at <= (grid.width, grid.height)), axis=1)
    return np.where(outside[:, None] & ~_near(at, grid)[:, None], np.nan, at)


def _near(at: Array, grid: Grid) -> Array:
    """Whether a place is at most a picture's size outside it: it then still serves for cutting
    triangles at the picture's border."""
    size = np.array([grid.width, grid.height])
    with np.errstate(invalid="ignore"):
        return np.asarray(np.all(np.abs(at - size / 2) <= 1.5 * size, axis=1))


# Where in a triangle is looked whether it is seen, as weights of its corners: in its middle, and
# around.
_PROBES = np.array(
    [[1, 1, 1], [8, 1, 1], [1, 8, 1], [1, 1, 8], [5, 5, 1], [1, 5, 5], [5, 1, 5]], float
)
_PROBES /= _PROBES.sum(axis=1, keepdims=True)


def _seen(scene: Scene, camera: Camera, corners: Array, index: int, weights: Array) -> Array:
    """(T,) whether the plate shows one place of each triangle (T, 3, 3)."""
    places = np.einsum("tcx,c->tx", corners, weights)
    at, grid = camera.project(places), camera.grid
    with np.errstate(invalid="ignore"):
        inside = ((at >= 0) & (at <= (grid.width, grid.height))).all(axis=1)
    out, which = np.zeros(len(corners), bool), np.flatnonzero(inside)
    if len(which):
        away = places[which] - camera.position
        distance = np.linalg.norm(away, axis=1)
        hits = scene.hit(away / distance[:, None])
        # Its own surface may be met a little sooner: the place lies on it only to rounding. What
        # another has flat on it, it hides.
        clear = (hits.item == MISSED) | (hits.distance >= distance * (1 - 1e-5) - 1e-6)
        out[which] = clear | (hits.item == index) & (
            np.abs(hits.distance - distance) < 1e-4 * distance
        )
    return out


def _edges(triangles: Array) -> tuple[Array, Array]:
    """(E, 2) every edge once, and (T, 3) which of them each triangle's sides 01, 12, 20 are."""
    low, high = np.sort(triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1).T
    count = int(triangles.max(initial=0)) + 1
    codes, which = np.unique(low * count + high, return_inverse=True)
    return np.stack([codes // count, codes % count], -1), which.reshape(-1, 3)


def _wanted(camera: Camera, points: Array, at: Array, edges: Array) -> Array:
    """(E,) whether an edge is too broad, its middle is seen elsewhere than halfway between where
    its ends are, or one end isn't seen."""
    a, b = edges.T
    middle = camera.project((points[a] + points[b]) / 2)
    with np.errstate(invalid="ignore"):
        off = np.linalg.norm(middle - (at[a] + at[b]) / 2, axis=1)
        cut = (off > TOLERANCE_PX) | (np.linalg.norm(at[a] - at[b], axis=1) > BROAD_PX)
    one = np.isfinite(at[a, 0]) != np.isfinite(at[b, 0])
    lost = ~np.isfinite(at[a, 0]) & ~np.isfinite(at[b, 0]) & _near(middle, camera.grid)
    long = np.linalg.norm(points[a] - points[b], axis=1) > 0.02 * np.linalg.norm(
        points[a] - camera.position, axis=1
    )
    return cut | (one | lost) & long


def _borders(at: Array, edges: Array, which: Array, mixed: Array) -> Array:
    """(E,) whether an edge longer than CELL_PX belongs to a triangle that is seen in part."""
    near = np.zeros(len(edges), bool)
    near[which[mixed].ravel()] = True
    with np.errstate(invalid="ignore"):
        return near & (np.linalg.norm(at[edges[:, 0]] - at[edges[:, 1]], axis=1) > CELL_PX)


# How a triangle with some of its sides 01, 12, 20 cut is made of corners 0 1 2 and those sides'
# middles 3 4 5.
_PIECES = {
    0: ((0, 1, 2),),
    1: ((0, 3, 2), (3, 1, 2)),
    2: ((0, 1, 4), (0, 4, 2)),
    4: ((0, 1, 5), (5, 1, 2)),
    3: ((3, 1, 4), (0, 3, 2), (3, 4, 2)),
    6: ((4, 2, 5), (0, 1, 4), (0, 4, 5)),
    5: ((0, 3, 5), (3, 1, 2), (3, 2, 5)),
    7: ((0, 3, 5), (3, 1, 4), (4, 2, 5), (3, 4, 5)),
}


def _split(
    points: Array, triangles: Array, edges: Array, which: Array, cut: Array
) -> tuple[Array, Array]:
    """Points and triangles with the edges in `cut` (E,) halved; neighbours stay joined."""
    middle = np.full(len(edges), -1)
    middle[cut] = len(points) + np.arange(cut.sum())
    points = np.concatenate([points, points[edges[cut]].mean(axis=1)])
    corners = np.concatenate([triangles, middle[which]], axis=1)
    kind = (cut[which] * [1, 2, 4]).sum(axis=1)
    return points, np.concatenate(
        [corners[kind == code][:, piece] for code, pieces in _PIECES.items() for piece in pieces]
    )


def _stretch(points: Array, at: Array, triangles: Array) -> Array:
    """(T,) how many times more of the surface a pixel covers one way than the other; 1 where a
    triangle isn't seen."""
    a, b, c = (points[triangles[:, index]] for index in range(3))
    ab, ac = b - a, c - a
    first = ab / np.maximum(np.linalg.norm(ab, axis=1, keepdims=True), 1e-300)
    normal = np.cross(ab, ac)
    second = np.cross(
        normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300), first
    )
    surface = np.stack(
        [
            np.stack([(ab * first).sum(1), (ac * first).sum(1)], -1),
            np.stack([(ab * second).sum(1), (ac * second).sum(1)], -1),
        ],
        1,
    )
    plate = np.stack(
        [at[triangles[:, 1]] - at[triangles[:, 0]], at[triangles[:, 2]] - at[triangles[:, 0]]], -1
    )
    sound = np.isfinite(plate).all(axis=(1, 2)) & (np.abs(np.linalg.det(surface)) > 1e-18)
    out = np.ones(len(triangles))
    if sound.any():
        values = np.linalg.svd(plate[sound] @ np.linalg.inv(surface[sound]), compute_uv=False)
        out[sound] = values[:, 0] / np.maximum(values[:, 1], 1e-12)
    return out


def texture(worn: Worn, plate: Array, mask: Array) -> tuple[Array, Array]:
    """(h, w, 4) 8-bit: the part of a plate (H, W, 3) 8-bit that a stand-in wears, opaque where
    `mask` (H, W) is true; and its texture coordinates (V, 2), to the right and up as OBJ and glTF's
    readers count them, 0 where the plate doesn't show a point.
    """
    high, wide = plate.shape[:2]
    there = (
        worn.at[np.unique(worn.triangles[worn.mark != UNSEEN])]
        if (worn.mark != UNSEEN).any()
        else np.zeros((0, 2))
    )
    if not len(there):
        return np.zeros((1, 1, 4), np.uint8), np.zeros((len(worn.points), 2))
    left, top = np.floor(np.clip(np.nanmin(there, axis=0) - 2, 0, None)).astype(int)
    right, bottom = np.ceil(np.minimum(np.nanmax(there, axis=0) + 2, (wide, high))).astype(int)
    alpha = mask[top:bottom, left:right, None] * 255
    picture = np.concatenate([plate[top:bottom, left:right, :3], alpha.astype(np.uint8)], axis=2)
    at = (worn.at - (left, top)) / (right - left, bottom - top)
    return picture, np.nan_to_num(np.clip(np.stack([at[:, 0], 1 - at[:, 1]], -1), 0, 1))
