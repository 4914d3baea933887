"""The shapes of stand-ins, each in a box of one unit that stands on the floor: x and z from −½ to
½, y from 0 to 1.

A Solid's faces are polygons, anticlockwise seen from outside, each of which a fan from its first
corner fills.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem

AROUND = 48  # sides of what is round
STAIR_M = 0.18  # a step's height where none is told; common practice for stairs indoors, no source
_CORNERS = np.array(
    [[-1, 0, 1], [1, 0, 1], [1, 0, -1], [-1, 0, -1], [-1, 1, 1], [1, 1, 1], [1, 1, -1], [-1, 1, -1]]
) * [0.5, 1, 0.5]
_FACES = ((3, 2, 1, 0), (4, 5, 6, 7), (0, 1, 5, 4), (1, 2, 6, 5), (2, 3, 7, 6), (3, 0, 4, 7))


@dataclass(frozen=True, eq=False)
class Solid:
    """vertices (V, 3) in the unit box; faces: tuples of vertex indices, or for meshes of many
    triangles an array (T, 3)."""

    vertices: Array
    faces: tuple[tuple[int, ...], ...] | Array

    @cached_property
    def triangles(self) -> Array:
        """(T, 3) vertex indices, the faces' fans one after the other."""
        if isinstance(self.faces, np.ndarray):
            return self.faces
        return np.array(
            [
                (face[0], face[i], face[i + 1])
                for face in self.faces
                for i in range(1, len(face) - 1)
            ],
            int,
        ).reshape(-1, 3)

    @cached_property
    def edges(self) -> tuple[Array, Array]:
        """(E, 2) vertex indices of every edge once, and (E, 2) the faces on its two sides; −1 where
        there is none."""
        if isinstance(self.faces, np.ndarray):
            every = np.sort(self.faces[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
            edges, first, which = np.unique(every, axis=0, return_index=True, return_inverse=True)
            sides = np.full((len(edges), 2), -1)
            sides[:, 0] = first // 3
            again = np.arange(len(every)) != first[which.ravel()]
            sides[which.ravel()[again], 1] = np.flatnonzero(again) // 3
            return edges, sides
        found: dict[tuple[int, int], list[int]] = {}
        for number, face in enumerate(self.faces):
            for a, b in zip(face, face[1:] + face[:1]):
                found.setdefault((min(a, b), max(a, b)), []).append(number)
        sides = np.array(
            [(beside[0], beside[1] if len(beside) > 1 else -1) for beside in found.values()], int
        )
        return np.array(list(found), int).reshape(-1, 2), sides.reshape(-1, 2)

    @cached_property
    def first_corners(self) -> Array:
        """(F,) the vertex index with which each face begins."""
        if isinstance(self.faces, np.ndarray):
            return self.faces[:, 0]
        return np.array([face[0] for face in self.faces], int)

    @cached_property
    def _rings(self) -> tuple[Array, Array, Array]:
        """All corners of all faces one after the other, for each the next one around its face, and
        where each face begins."""
        here = np.concatenate(self.faces)
        after = np.concatenate([face[1:] + face[:1] for face in self.faces])
        lengths = [len(face) for face in self.faces]
        return here, after, np.cumsum([0, *lengths[:-1]])

    def face_normals(self, vertices: Array) -> Array:
        """(F, 3) unit normals of the faces where its vertices stand at `vertices` (V, 3); Newell's
        method, so that any polygon will do."""
        if isinstance(self.faces, np.ndarray):
            a, b, c = (vertices[self.faces[:, index]] for index in range(3))
            normals = np.cross(b - a, c - a)
            return normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-300)
        here, after, starts = self._rings
        normals = np.add.reduceat(np.cross(vertices[here], vertices[after]), starts)
        return normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-300)


def box() -> Solid:
    """Six faces."""
    return Solid(_CORNERS, _FACES)


def plane() -> Solid:
    """A level rectangle that faces upward."""
    return Solid(_CORNERS[:4], ((0, 1, 2, 3),))


def _ring(count: int, radius: float = 0.5, y: float = 0.0) -> Array:
    angle = np.arange(count) * 2 * np.pi / count
    return np.stack(
        [radius * np.sin(angle), np.full(count, y), radius * np.cos(angle)], -1
    )  # anticlockwise from above, from the front


def cylinder(around: int = AROUND, top: float = 0.5) -> Solid:
    """Upright; `top`: the radius of its upper end, the lower's is 0.5."""
    n = around
    walls = tuple((i, (i + 1) % n, n + (i + 1) % n, n + i) for i in range(n))
    return Solid(
        np.concatenate([_ring(n), _ring(n, top, 1.0)]),
        (*walls, tuple(reversed(range(n))), tuple(range(n, 2 * n))),
    )


def cone() -> Solid:
    """Upright, its point above the middle."""
    walls = tuple((i, (i + 1) % AROUND, AROUND) for i in range(AROUND))
    return Solid(
        np.concatenate([_ring(AROUND), [[0, 1.0, 0]]]), (*walls, tuple(reversed(range(AROUND))))
    )


def sphere(around: int = AROUND) -> Solid:
    """Resting on the floor."""
    n, rows = around, around // 2
    polar = np.arange(1, rows) * np.pi / rows
    rings = np.concatenate([_ring(n, 0.5 * np.sin(t), 0.5 - 0.5 * np.cos(t)) for t in polar])
    low, high = len(rings), len(rings) + 1
    faces: list[tuple[int, ...]] = [(low, (i + 1) % n, i) for i in range(n)]
    for row in range(rows - 2):
        faces += [
            (row * n + i, row * n + (i + 1) % n, (row + 1) * n + (i + 1) % n, (row + 1) * n + i)
            for i in range(n)
        ]
    last = (rows - 2) * n
    return Solid(
        np.concatenate([rings, [[0, 0, 0], [0, 1.0, 0]]]),
        (*faces, *((last + i, last + (i + 1) % n, high) for i in range(n))),
    )


def stairs(steps: int) -> Solid:
    """Rising away from the front, so many equal steps."""
    if not 1 <= steps <= 200:
        raise Problem("Stairs have from 1 to 200 steps.", "steps")
    profile = [(0.5, 0.0)]  # z, y: from the front's foot up and back
    for step in range(steps):
        z, y = 0.5 - step / steps, (step + 1) / steps
        profile += [(z, y), (z - 1 / steps, y)]
    profile = [(-0.5, 0.0), *profile]  # every corner is seen from the foot of the back
    n = len(profile)
    side = np.array([(x, y, z) for x in (-0.5, 0.5) for z, y in profile])
    faces = [tuple(range(n)), tuple(reversed(range(n, 2 * n)))]
    faces[1] = faces[1][-1:] + faces[1][:-1]  # begin at the foot of the back as well
    return Solid(side, (*faces, *((i, n + i, n + (i + 1) % n, (i + 1) % n) for i in range(n))))


def figure() -> Solid:
    """A standing person, made up of round pieces; proportions of common practice: the head about a
    seventh of the height."""

    def piece(solid: Any, across: Any, low: Any, high: Any, along: Any, middle: Any = 0.0) -> Any:
        return Solid(solid.vertices * (across, high - low, along) + (middle, low, 0), solid.faces)

    pieces = [
        piece(sphere(32), 0.26, 0.855, 1.0, 0.62),
        piece(cylinder(32, 0.4), 0.13, 0.82, 0.87, 0.3),
        piece(cylinder(32, 0.62), 0.52, 0.46, 0.83, 0.72),
    ]
    for side in (-1, 1):
        pieces += [
            piece(cylinder(32, 0.72), 0.22, 0.02, 0.48, 0.5, side * 0.16),
            piece(cylinder(32, 0.5), 0.16, 0.42, 0.82, 0.36, side * 0.40),
            piece(box(), 0.2, 0.0, 0.03, 1.0, side * 0.16),
        ]
    return joined(pieces)


def joined(pieces: Any) -> Solid:
    """Several as one."""
    starts = np.cumsum([0, *(len(piece.vertices) for piece in pieces)])
    return Solid(
        np.concatenate([piece.vertices for piece in pieces]),
        tuple(
            tuple(index + int(start) for index in face)
            for piece, start in zip(pieces, starts)
            for face in piece.faces
        ),
    )


def block(corners: tuple[tuple[float, float], ...], inside: bool = False) -> Solid:
    """A polygon on the floor, corners (N, 2) as (x, z) in the unit square, pulled up; `inside`: a
    room without a ceiling, seen from within.

    Raises Problem where the sides cross or it has no area.
    """
    import mapbox_earcut

    flat = np.asarray(corners, float).reshape(-1, 2)
    if len(flat) < 3 or not np.isfinite(flat).all():
        raise Problem("A floor plan needs three corners or more.", "corners")
    x, z = flat.T
    area = (x * np.roll(z, -1) - np.roll(x, -1) * z).sum() / 2
    if area > 0:  # anticlockwise seen from above is clockwise in (x, z)
        flat = flat[::-1]
    if abs(area) < 1e-9 or _crosses(flat):
        raise Problem(
            "The sides of this floor plan cross, or it has no area: set its corners in order"
            " around.",
            "corners",
        )
    n = len(flat)
    cap = mapbox_earcut.triangulate_float64(flat, np.array([n], np.uint32)).reshape(-1, 3).tolist()
    upward = [tuple(t) if _turns(flat[t]) < 0 else tuple(reversed(t)) for t in cap]
    vertices = np.array([(px, y, pz) for y in (0.0, 1.0) for px, pz in flat])
    walls = [(i, (i + 1) % n, n + (i + 1) % n, n + i) for i in range(n)]
    if inside:
        return Solid(vertices, (*upward, *(tuple(reversed(wall)) for wall in walls)))
    return Solid(
        vertices,
        (*(tuple(reversed(t)) for t in upward), *(tuple(n + i for i in t) for t in upward), *walls),
    )


def _turns(triangle: Any) -> float:
    (ax, az), (bx, bz), (cx, cz) = triangle
    return (bx - ax) * (cz - az) - (bz - az) * (cx - ax)


def _crosses(flat: Array) -> bool:
    n = len(flat)
    for i in range(n):
        for j in range(i + 2, n - (i == 0)):
            a, b, c, d = flat[i], flat[(i + 1) % n], flat[j], flat[(j + 1) % n]
            if (
                _turns((a, b, c)) * _turns((a, b, d)) < 0
                and _turns((c, d, a)) * _turns((c, d, b)) < 0
            ):
                return True
    return False


# What each kind is called, its size in metres when it is new (across, up, along), and how it is
# made.
KINDS: dict[str, tuple[str, tuple[float, float, float], Callable[..., Any]]] = {
    "plane": ("Plane", (2.0, 0.0, 2.0), plane),
    "box": ("Box", (1.0, 1.0, 1.0), box),
    "cylinder": ("Cylinder", (0.5, 1.0, 0.5), cylinder),
    "cone": ("Cone", (0.5, 1.0, 0.5), cone),
    "sphere": ("Sphere", (1.0, 1.0, 1.0), sphere),
    "stairs": ("Stairs", (1.0, 1.08, 1.74), stairs),
    "figure": ("Figure", (0.5, 1.75, 0.3), figure),
    "block": ("Block", (1.0, 1.0, 1.0), block),
    "room": ("Room", (4.0, 2.5, 4.0), block),
    "mesh": ("Mesh", (1.0, 1.0, 1.0), box),
}


@lru_cache(maxsize=256)
def made(kind: str, steps: int = 0, corners: tuple[Any, ...] = ()) -> Solid:
    """The solid of a kind; stairs with so many steps, a block or room over floor corners. Raises
    Problem."""
    if kind == "stairs":
        return stairs(steps)
    if kind in ("block", "room"):
        return block(corners, inside=kind == "room")
    if kind not in KINDS or kind == "mesh":
        raise Problem(f"There is no stand-in called “{kind}”.", "kind")
    return KINDS[kind][2]()
