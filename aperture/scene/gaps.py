"""Where neighbouring stand-ins nearly meet but don't: light, a shadow or a reflection would leak
through."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.scene.overlay import CREASE
from aperture.scene.stand_in import StandIn

CLOSED_M = 5e-4  # nearer than this they meet
WIDE = 0.08  # share of the smaller one's size up to which they count as neighbours
POINTS = 49  # along each edge
# Of several edges along one gap, nearly as long as the longest, the nearest tells its width.
LONG = 0.8
MOST_TRIANGLES = 2000  # what has more is a mesh of its own, not a wall


@dataclass(frozen=True)
class Gap:
    """Between two stand-ins, by index: its greatest width and its length in metres; `shift`: (3,)
    metres by which moving the second closes it, None where it isn't even."""

    first: int
    second: int
    width: float
    length: float
    shift: tuple[float, float, float] | None


def find(items: list[StandIn]) -> list[Gap]:
    """The gaps between stand-ins, widest first."""
    usable = [
        index
        for index, item in enumerate(items)
        if len(item.solid.triangles) <= MOST_TRIANGLES
        and item.kind not in ("figure", "mesh", "sphere")
    ]
    found = []
    for order, a in enumerate(usable):
        for b in usable[order + 1 :]:
            reach = WIDE * min(max(items[a].size), max(items[b].size))
            if _apart(items[a], items[b]) > reach:
                continue
            # The second is moved to close it: toward the first, whichever of them an edge belongs
            # to.
            ways = [*_along(items[a], items[b], reach, -1), *_along(items[b], items[a], reach, 1)]
            longest = max((length for _, length, _ in ways), default=0.0)
            if longest:
                width, length, toward = min(
                    (one for one in ways if one[1] > LONG * longest), key=lambda one: one[0]
                )
                even = np.ptp(toward, axis=0).max() < CLOSED_M
                found.append(
                    Gap(a, b, width, length, tuple(toward.mean(axis=0).tolist()) if even else None)
                )
    return sorted(found, key=lambda gap: -gap.width)


def _apart(one: StandIn, other: StandIn) -> float:
    """A lower bound of their distance, from boxes along the world's axes."""
    a, b = one.bounds(), other.bounds()
    return float(
        np.linalg.norm(
            np.maximum(0, np.maximum(a.min(axis=0) - b.max(axis=0), b.min(axis=0) - a.max(axis=0)))
        )
    )


def _along(
    one: StandIn, other: StandIn, reach: float, sign: int
) -> Iterator[tuple[float, float, Array]]:
    """(width, length, (N, 3) the steps from points of the edge to the other, times `sign`) of the
    gap along each sharp edge of `one` that has one."""
    share = (np.arange(POINTS) + 0.5)[:, None] / POINTS
    for start, end in zip(*_sharp(one)):
        points = start * (1 - share) + end * share
        nearest, distance = closest(other, points)
        # Where the other runs through this one, its own nearest place is none of a gap's two sides.
        open_ = (distance > CLOSED_M) & (distance <= reach) & (closest(one, nearest)[1] > CLOSED_M)
        length = float(open_.mean() * np.linalg.norm(end - start))
        # An edge that merely ends near the other, like a table's leg beside a wall, passes it over
        # its width: that is no gap along it.
        if length > 3 * float(distance[open_].max(initial=0.0)):
            yield float(distance[open_].max()), length, sign * (nearest[open_] - points[open_])


def _sharp(item: StandIn) -> tuple[Array, Array]:
    """(E, 3), (E, 3) metres: the ends of its borders and creases."""
    vertices = item.vertices()
    edges, sides = item.solid.edges
    normals = item.solid.face_normals(vertices)
    sharp = (sides[:, 1] < 0) | ((normals[sides[:, 0]] * normals[sides[:, 1]]).sum(axis=1) < CREASE)
    return vertices[edges[sharp, 0]], vertices[edges[sharp, 1]]


def closest(item: StandIn, points: Array) -> tuple[Array, Array]:
    """(N, 3) the places on a stand-in's surface nearest to points (N, 3), and (N,) how far they
    are."""
    from trimesh.triangles import closest_point

    triangles, count = item.vertices()[item.solid.triangles], len(points)
    near = closest_point(
        np.tile(triangles, (count, 1, 1)), np.repeat(points, len(triangles), axis=0)
    ).reshape(count, len(triangles), 3)
    apart = np.linalg.norm(near - points[:, None], axis=2)
    which = apart.argmin(axis=1)
    return near[np.arange(count), which], apart[np.arange(count), which]
