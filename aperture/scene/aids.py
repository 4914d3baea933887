"""Things of known size for the eye: a person, a cube, a room, grids on walls; as they appear on the
plate, (N, 2) px polylines."""

from __future__ import annotations

from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.scene.overlay import polylines, runs, wire
from aperture.scene.stand_in import StandIn

FIGURE_M = 1.75
CUBE_M = 1.0
# A standing person facing the viewer, in shares of the height: x to the right, y up. Made up;
# proportions of common practice: the head a seventh.
_BODY = [
    [
        (0.09, 0.0),
        (0.075, 0.26),
        (0.085, 0.48),
        (0.11, 0.52),
        (0.115, 0.66),
        (0.15, 0.80),
        (0.10, 0.835),
        (0.035, 0.85),
    ],
    [(0.0, 0.46), (0.02, 0.26), (0.03, 0.0), (0.09, 0.0)],
    [(0.15, 0.80), (0.185, 0.64), (0.18, 0.44), (0.15, 0.44), (0.145, 0.62), (0.115, 0.72)],
]


def wall_grid(
    camera: Camera, axis: int, at: float, spacing: float, reach: int = 12, height: int = 4
) -> list[Array]:
    """A grid on the upright plane where the coordinate `axis` (0 across, 2 along) is `at` metres,
    from the floor up."""
    other = 2 - axis
    along, up = np.arange(-reach, reach + 1) * spacing, np.arange(0, height + 1) * spacing
    starts, ends = np.zeros((len(along) + len(up), 3)), np.zeros((len(along) + len(up), 3))
    starts[:, axis] = ends[:, axis] = at
    starts[: len(along), other] = ends[: len(along), other] = along
    ends[: len(along), 1] = height * spacing
    starts[len(along) :, 1] = ends[len(along) :, 1] = up
    starts[len(along) :, other], ends[len(along) :, other] = -reach * spacing, reach * spacing
    return polylines(camera, starts, ends)


def figure(camera: Camera, foot: Any, height: float = FIGURE_M) -> list[Array]:
    """A person of `height` metres standing at `foot` (3,), turned to the camera."""
    foot = np.asarray(foot, float)
    away = foot - camera.position
    right = np.array([-away[2], 0.0, away[0]])
    right /= max(np.linalg.norm(right), 1e-9)
    turn = np.linspace(0, 2 * np.pi, 21)
    head = np.stack([0.062 * np.sin(turn), 0.925 + 0.075 * np.cos(turn)], -1)
    lines = [head] + [np.array(line) * (side, 1) for line in _BODY for side in (1, -1)]
    out = []
    for line in lines:
        at = camera.project(
            foot + height * (line[:, :1] * right + line[:, 1:] * np.array([0.0, 1.0, 0.0]))
        )
        out += runs(at, np.all(np.isfinite(at), axis=1))
    return out


def cube(camera: Camera, foot: tuple[float, float, float], side: float = CUBE_M) -> list[Array]:
    """A cube standing with the middle of its base at `foot` (3,)."""
    return wire(camera, StandIn((side, side, side), tuple(np.asarray(foot, float))))


def room(
    camera: Camera, start: tuple[float, float], end: tuple[float, float], height: float
) -> list[Array]:
    """A room or block from one corner of its floor to the far one, (across, along) metres each, and
    its height."""
    (x0, z0), (x1, z1) = start, end
    size = (max(abs(x1 - x0), 1e-3), max(height, 1e-3), max(abs(z1 - z0), 1e-3))
    return wire(camera, StandIn(size, ((x0 + x1) / 2, 0.0, (z0 + z1) / 2)))
