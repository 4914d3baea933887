"""World lines as they appear on the plate: polylines in px, bent where the lens bends, cut where
nothing is imaged."""

from __future__ import annotations

from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.lens.projections import Pieces
from aperture.scene.stand_in import StandIn

NEAR_M = 1e-3
BENT_STEPS, AROUND_STEPS = 24, 4
MOST_DRAWN = 60_000
CREASE = np.cos(np.radians(25))  # faces that meet at a sharper angle show their edge
BOX_EDGES = np.array(
    [[0, 1], [1, 2], [2, 3], [3, 0], [4, 5], [5, 6], [6, 7], [7, 4], [0, 4], [1, 5], [2, 6], [3, 7]]
)


def drawn_edges(eye: Array, item: StandIn) -> Array:
    """(E, 2, 3) metres, the edges of a stand-in that a drawing shows from `eye` (3,): creases,
    borders, and where it turns away from the eye.

    Of a mesh of more than MOST_DRAWN triangles, its box.
    """
    if len(item.solid.triangles) > MOST_DRAWN:
        return item.bounds()[BOX_EDGES]
    vertices = item.vertices()
    edges, sides = item.solid.edges
    normals = item.solid.face_normals(vertices)
    first = vertices[item.solid.first_corners]
    toward = ((np.asarray(eye) - first) * normals).sum(axis=1) > 0
    a, b = sides.T
    shown = (b < 0) | (toward[a] != toward[b]) | ((normals[a] * normals[b]).sum(axis=1) < CREASE)
    return vertices[edges[shown]]


def wire(camera: Camera, item: StandIn) -> list[Array]:
    """A stand-in's drawn edges on the plate."""
    ends = drawn_edges(camera.position, item)
    return polylines(camera, ends[:, 0], ends[:, 1]) if len(ends) else []


def outline_points(item: StandIn, steps: int = 9) -> Array:
    """(12 · steps, 3) points along the edges of a stand-in's own box."""
    ends = item.bounds()[BOX_EDGES]
    t = np.linspace(0, 1, steps)[None, :, None]
    return (ends[:, :1] * (1 - t) + ends[:, 1:] * t).reshape(-1, 3)


def polyline(camera: Camera, start: Any, end: Any, margin: float = 4.0) -> list[Array]:
    """The world segment start → end on the plate: pieces (N, 2) px, without what is behind the
    camera or far outside.

    Follows the bend of lenses that bend. `margin`: how far outside to go on, in picture sizes.
    """
    return polylines(camera, [start], [end], margin)


def polylines(camera: Camera, starts: Any, ends: Any, margin: float = 4.0) -> list[Array]:
    """`polyline` for many segments, (N, 3) to (N, 3) metres, at once."""
    ends = np.stack([np.asarray(starts, float), np.asarray(ends, float)], axis=1)  # (N, 2, 3)
    if camera.lens.projection.straight:
        depth = -camera.to_camera_space(ends)[:, :, 2]
        near = np.maximum(NEAR_M, 1e-3 * np.abs(depth).max(axis=1))
        keep = (depth >= near[:, None]).any(axis=1)
        ends, depth, near = ends[keep], depth[keep], near[keep]
        for index in (0, 1):  # cut in front of the camera
            cut = depth[:, index] < near
            share = (near[cut] - depth[cut, index]) / (depth[cut, 1 - index] - depth[cut, index])
            ends[cut, index] += share[:, None] * (ends[cut, 1 - index] - ends[cut, index])
    bends = camera.lens.bends
    steps = BENT_STEPS if bends else 1
    if camera.lens.projection.around:
        steps *= AROUND_STEPS  # near its poles a panorama draws lines out widely
    t = np.linspace(0, 1, steps + 1)[:, None]
    along = ends[:, :1] * (1 - t) + ends[:, 1:] * t
    points = camera.project(along.reshape(-1, 3)).reshape(*along.shape[:2], 2)
    size = np.array([camera.grid.width, camera.grid.height])
    if not bends:
        finite = points[np.isfinite(points).all(axis=(1, 2))]
        return list(clip(finite, -margin * size, (1 + margin) * size))
    near = np.abs(points - size / 2) < (margin + 0.5) * size
    inside = np.all(np.isfinite(points) & near, axis=2)
    pieces = [piece for line, seen in zip(points, inside) for piece in runs(line, seen)]
    return parted_at_seam(camera, pieces)


def parted_at_seam(camera: Camera, pieces: list[Array]) -> list[Array]:
    """Polylines (N, 2) px, of a panorama parted where they leave it on one side and go on at the
    other.

    Of other pictures as they are.
    """
    if isinstance(layout := camera.lens.projection, Pieces):
        return _parted_at_pieces(camera, layout, pieces)
    if not camera.lens.projection.wraps:
        return pieces
    turn = 2 * np.pi * camera.focal_px[0]
    right = camera.principal_point_px[0] + turn / 2
    out = []
    for piece in pieces:
        steps = np.diff(piece[:, 0])
        begin = 0
        head: list[Array] = []
        for index in np.flatnonzero(np.abs(steps) > turn / 2).tolist():
            # Toward the right it leaves at the right border, and the next point lies a turn
            # farther.
            leaves = right if steps[index] < 0 else right - turn
            there = piece[index + 1] + [turn if steps[index] < 0 else -turn, 0.0]
            span = there[0] - piece[index, 0]
            share = (leaves - piece[index, 0]) / span if span else 0.0
            down = piece[index, 1] + share * (there[1] - piece[index, 1])
            out.append(np.concatenate([*head, piece[begin : index + 1], [[leaves, down]]]))
            head, begin = [np.array([[2 * right - turn - leaves, down]])], index + 1
        out.append(np.concatenate([*head, piece[begin:]]))
    return [piece for piece in out if len(piece) > 1]


def _parted_at_pieces(camera: Camera, layout: Pieces, lines: list[Array]) -> list[Array]:
    """Polylines parted where they go on in another piece of a panorama that doesn't lie beside."""
    lens = camera.lens
    out: list[Array] = []
    for line in lines:
        q = (camera.grid.to_mm(line) - lens.centre_mm) / lens.scale_mm
        out += np.split(line, np.flatnonzero(~layout.together(q)) + 1)
    return [line for line in out if len(line) > 1]


def runs(points: Array, seen: Array) -> list[Array]:
    """The stretches of two or more points in a row that are seen."""
    at = np.flatnonzero(seen)
    if len(at) == len(points) > 1:
        return [points]
    return [
        points[run] for run in np.split(at, np.flatnonzero(np.diff(at) > 1) + 1) if len(run) > 1
    ]


def clip(segments: Array, low: Array, high: Array) -> Array:
    """(M, 2, 2): what of straight segments (N, 2, 2) lies in the rectangle from `low` to `high`,
    after Liang and Barsky (1984)."""
    start = segments[:, 0]
    step = segments[:, 1] - start
    p = np.concatenate([-step, step], axis=1)  # (N, 4), one column for each side of the rectangle
    q = np.concatenate([start - low, high - start], axis=1)
    at = np.divide(q, p, out=np.zeros_like(p), where=p != 0)
    first = np.where(p < 0, at, 0.0).max(axis=1)
    last = np.where(p > 0, at, 1.0).min(axis=1)
    shares = np.stack([np.maximum(first, 0.0), np.minimum(last, 1.0)], axis=1)
    kept = (shares[:, 0] < shares[:, 1]) & ~((p == 0) & (q < 0)).any(axis=1)
    return start[kept, None] + shares[kept, :, None] * step[kept, None]


def floor_grid(
    camera: Camera, spacing: float, reach: int = 10, origin: tuple[float, float] = (0.0, 0.0)
) -> list[Array]:
    """Lines of a floor grid at y = 0, every `spacing` metres, `reach` cells each way around
    `origin` (across, along)."""
    half, at = spacing * reach, np.arange(-reach, reach + 1) * spacing
    starts, ends = np.zeros((2, 2, len(at), 3))
    for lines, sign in ((starts, -1), (ends, 1)):
        lines[0, :, 0] = lines[1, :, 2] = at
        lines[0, :, 2] = lines[1, :, 0] = sign * half
    shift = np.array([origin[0], 0, origin[1]])
    return polylines(camera, starts.reshape(-1, 3) + shift, ends.reshape(-1, 3) + shift)


def horizon(camera: Camera) -> list[Array]:
    """The horizon as pieces (N, 2) px: points infinitely far away at the camera's height."""
    pan = camera.angles[0]
    azimuth = np.linspace(-np.pi, np.pi, 721) + pan
    points = camera.project_directions(
        np.stack([-np.sin(azimuth), np.zeros_like(azimuth), -np.cos(azimuth)], -1)
    )
    size = np.array([camera.grid.width, camera.grid.height])
    inside = np.all(np.isfinite(points) & (np.abs(points - size / 2) < 3 * size), axis=1)
    return parted_at_seam(camera, runs(points, inside))


def vanishing_points(camera: Camera) -> dict[int, Array]:
    """Where the world's axes vanish, (2,) px by axis index, for those imaged at all."""
    out = {}
    middle = np.array([camera.grid.width, camera.grid.height]) / 2
    ends = camera.project_directions(np.concatenate([np.eye(3), -np.eye(3)]))
    for axis in range(3):
        both = ends[[axis, axis + 3]]
        seen = both[np.isfinite(both).all(axis=1)]
        if len(seen):
            out[axis] = seen[np.argmin(np.linalg.norm(seen - middle, axis=1))]
    return out


def edge_misses(camera: Camera, edges: list[tuple[Array, int]]) -> list[Array]:
    """For each edge (points (N, 2) px, world axis): the nearest points (N, 2) px on the line that
    the camera gives it."""
    if not edges:
        return []
    counts = [len(points) for points, _ in edges]
    rays = camera.rays(np.concatenate([points for points, _ in edges]))
    starts, normals = np.cumsum([0, *counts]), []
    for index, (_, axis) in enumerate(edges):
        b, c = (axis + 1) % 3, (axis + 2) % 3
        x, y = (
            rays[starts[index] : starts[index + 1], b],
            rays[starts[index] : starts[index + 1], c],
        )
        angle = 0.5 * np.arctan2(2 * (x @ y), x @ x - y @ y) + np.pi / 2
        normal = np.zeros(3)
        normal[b], normal[c] = np.cos(angle), np.sin(angle)
        normals.append(normal)
    normal = np.repeat(normals, counts, axis=0)
    feet = camera.project_directions(rays - np.einsum("ni,ni->n", rays, normal)[:, None] * normal)
    return np.split(feet, starts[1:-1])
