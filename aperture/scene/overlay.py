"""World lines as they appear on the plate: polylines in px, bent where the lens bends, cut where nothing is imaged."""

import numpy as np

from aperture.camera import Camera
from aperture.scene.box import EDGES, Box

NEAR_M = 1e-3


def outline_points(box: Box, steps: int = 9) -> np.ndarray:
    """(12 · steps, 3) points along a box's edges."""
    corners = box.corners()
    t = np.linspace(0, 1, steps)[:, None]
    return np.concatenate([corners[a] * (1 - t) + corners[b] * t for a, b in EDGES])


def polyline(camera: Camera, start, end, steps: int = 1, margin: float = 4.0) -> list[np.ndarray]:
    """The world segment start → end on the plate: pieces (N, 2) px, without what is behind the camera or far outside.

    Straight lenses need one step; `steps` > 1 follows the bend. `margin`: how far outside to go on, in picture sizes.
    """
    ends = np.array([start, end], float)
    depth = -camera.to_camera_space(ends)[:, 2]
    if camera.lens.projection == "rectilinear":
        if (depth < NEAR_M).all():
            return []
        near = max(NEAR_M, 1e-3 * abs(depth).max())
        for index in (0, 1):
            if depth[index] < near:
                share = (near - depth[index]) / (depth[1 - index] - depth[index])
                ends[index] = ends[index] + share * (ends[1 - index] - ends[index])
    if camera.lens.distorts or camera.lens.projection != "rectilinear":
        steps = max(steps, 24)
    t = np.linspace(0, 1, steps + 1)[:, None]
    points = camera.project(ends[0] * (1 - t) + ends[1] * t)
    size = np.array([camera.grid.width, camera.grid.height])
    inside = np.isfinite(points).all(axis=1)
    if steps > 1:
        inside &= (np.abs(points - size / 2) < (margin + 0.5) * size).all(axis=1)
    elif inside.all():
        clipped = _clip(points, -margin * size, (1 + margin) * size)
        return [clipped] if clipped is not None else []
    pieces, current = [], []
    for point, ok in zip(points, inside):
        if ok:
            current.append(point)
        elif current:
            pieces.append(current)
            current = []
    pieces.append(current)
    return [np.array(piece) for piece in pieces if len(piece) > 1]


def _clip(segment, low, high):
    """Liang–Barsky (1984) on one segment (2, 2); None where nothing is left."""
    a, d = segment[0], segment[1] - segment[0]
    t0, t1 = 0.0, 1.0
    for axis in range(2):
        for p, q in ((-d[axis], a[axis] - low[axis]), (d[axis], high[axis] - a[axis])):
            if p == 0:
                if q < 0:
                    return None
            elif p < 0:
                t0 = max(t0, q / p)
            else:
                t1 = min(t1, q / p)
    return np.array([a + t0 * d, a + t1 * d]) if t0 < t1 else None


def floor_grid(camera: Camera, spacing: float, reach: int = 10, origin=(0.0, 0.0)) -> list[np.ndarray]:
    """Lines of a floor grid at y = 0, every `spacing` metres, `reach` cells each way around `origin` (across, along)."""
    half, lines = spacing * reach, []
    for i in range(-reach, reach + 1):
        at = i * spacing
        lines += polyline(camera, [origin[0] + at, 0, origin[1] - half], [origin[0] + at, 0, origin[1] + half])
        lines += polyline(camera, [origin[0] - half, 0, origin[1] + at], [origin[0] + half, 0, origin[1] + at])
    return lines


def horizon(camera: Camera) -> list[np.ndarray]:
    """The horizon as pieces (N, 2) px: points infinitely far away at the camera's height."""
    pan = camera.angles[0]
    azimuth = np.linspace(-np.pi, np.pi, 721) + pan
    points = camera.project_directions(np.stack([-np.sin(azimuth), np.zeros_like(azimuth), -np.cos(azimuth)], -1))
    size = np.array([camera.grid.width, camera.grid.height])
    inside = np.isfinite(points).all(axis=1) & (np.abs(points - size / 2) < 3 * size).all(axis=1)
    runs = np.split(np.arange(len(points)), np.flatnonzero(~inside))
    return [points[run[inside[run]]] for run in runs if inside[run].sum() > 1]


def vanishing_points(camera: Camera) -> dict[int, np.ndarray]:
    """Where the world's axes vanish, (2,) px by axis index, for those imaged at all."""
    out = {}
    for axis in range(3):
        both = camera.project_directions(np.array([np.eye(3)[axis], -np.eye(3)[axis]]))
        seen = both[np.isfinite(both).all(axis=1)]
        if len(seen):
            middle = np.array([camera.grid.width, camera.grid.height]) / 2
            out[axis] = seen[np.argmin(np.linalg.norm(seen - middle, axis=1))]
    return out


def edge_misses(camera: Camera, points, axis: int) -> np.ndarray:
    """For the drawn points (N, 2) px of an edge along a world axis: the nearest points (N, 2) px on the line the camera gives it."""
    rays = camera.rays(points)
    basis = np.eye(3)[[(axis + 1) % 3, (axis + 2) % 3]]
    a, b = (rays @ basis.T).T
    angle = 0.5 * np.arctan2(2 * (a @ b), a @ a - b @ b) + np.pi / 2
    normal = np.cos(angle) * basis[0] + np.sin(angle) * basis[1]
    return camera.project_directions(rays - (rays @ normal)[:, None] * normal)
