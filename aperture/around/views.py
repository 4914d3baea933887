"""Ordinary views out of a panorama: plain cameras at its place that together see all that it sees.

Any renderer can render them. Each is a camera without distortion, shift or squeeze; its gate is
GATE_MM wide, and its focal length gives the wanted angle.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.geometry.rotation import rotation_from_angles
from aperture.lens.lens import Lens
from aperture.lens.projections.pieces import WAYS

GATE_MM = 36.0
LEAST_PX, MOST_PX = 16, 16_384
LEAST_DEG, MOST_DEG = 1.0, 170.0
MOST_OVERLAP_DEG = 30.0
MOST = 64
# The six directions of a cube: pan and tilt in degrees, as a camera's (a pan to the left is above
# 0).
CUBE = WAYS


@dataclass(frozen=True)
class View:
    """A view from a panorama's place.

    Parameters
    ----------
    name : str
    pan_deg, tilt_deg, roll_deg : float
        Against the panorama's own axes.
    angle_deg : float
        From its left to its right border.
    width, height : int
        Px.

    Raises Problem where a value can't be.
    """

    name: str
    pan_deg: float
    tilt_deg: float
    angle_deg: float = 100.0
    width: int = 2048
    height: int = 2048
    roll_deg: float = 0.0

    def __post_init__(self) -> None:
        if not self.name:
            raise Problem("A view needs a name.")
        if not all(map(math.isfinite, (self.pan_deg, self.tilt_deg, self.roll_deg))):
            raise Problem(f"The view “{self.name}” needs angles in degrees.")
        if not LEAST_DEG <= self.angle_deg <= MOST_DEG:
            raise Problem(
                f"A view sees from {LEAST_DEG:.0f}° to {MOST_DEG:.0f}°: “{self.name}” can't see "
                f"{self.angle_deg:g}°."
            )
        if not all(LEAST_PX <= side <= MOST_PX for side in (self.width, self.height)):
            raise Problem(f"A view has {LEAST_PX} to {MOST_PX:,} px a side.")

    def camera(self, panorama: Camera) -> Camera:
        """The plain camera of this view, at the panorama's place in the world."""
        gate = (GATE_MM, GATE_MM * self.height / self.width)
        focal = GATE_MM / 2 / math.tan(math.radians(self.angle_deg) / 2)
        angles = np.radians([self.pan_deg, self.tilt_deg, self.roll_deg])
        pose = np.array(panorama.world_from_camera)
        pose[:3, :3] = pose[:3, :3] @ rotation_from_angles(*angles)
        return Camera(Grid.from_gate(self.width, self.height, *gate), Lens(focal), pose)

    def json(self) -> dict[str, Any]:
        """As it is kept."""
        return asdict(self)


def cube(size: int = 2048, overlap_deg: float = 5.0) -> list[View]:
    """Six views of `size` px a side, each of which sees `overlap_deg` beyond its face on every
    side.

    Raises Problem where a value can't be.
    """
    if not 0 <= overlap_deg <= MOST_OVERLAP_DEG:
        raise Problem(f"The views may overlap by 0° to {MOST_OVERLAP_DEG:.0f}° a side.")
    return [
        View(name, pan, tilt, 90 + 2 * overlap_deg, size, size)
        for name, (pan, tilt) in CUBE.items()
    ]


def checked(views: Sequence[View]) -> Sequence[View]:
    """The views. Raises Problem where there are none, too many, or two of one name."""
    if not 1 <= len(views) <= MOST:
        raise Problem(f"There are 1 to {MOST} views.")
    names = [view.name.lower() for view in views]
    for name in names:
        if names.count(name) > 1:
            raise Problem(f"Two views are called “{name}”.")
    return views


def unseen(views: Sequence[View], panorama: Camera, count: int = 20_000) -> float:
    """The share of what a panorama sees that none of the views does."""
    index = np.arange(count) + 0.5
    # Directions evenly over the sphere: a Fibonacci lattice (Gonzalez 2010, from memory).
    up, turn = 1 - 2 * index / count, math.pi * (1 + math.sqrt(5)) * index
    side = np.sqrt(1 - up**2)
    directions = np.stack([side * np.cos(turn), up, side * np.sin(turn)], -1)
    px = panorama.project_directions(directions)
    width, height = panorama.grid.width, panorama.grid.height
    inside = (
        np.isfinite(px).all(axis=1) & (px >= 0).all(axis=1) & (px <= (width, height)).all(axis=1)
    )
    covered = np.zeros(count, bool)
    for view in views:
        covered |= sees(view.camera(panorama), directions)
    return float((inside & ~covered).sum() / max(inside.sum(), 1))


def sees(camera: Camera, directions: Array) -> Array:
    """(N,) whether a plain camera's picture has world directions (N, 3)."""
    ahead = -(directions @ camera.rotation)[:, 2] > 1e-9
    px = camera.project_directions(np.where(ahead[:, None], directions, -camera.rotation[:, 2]))
    size = np.array([camera.grid.width, camera.grid.height])
    return ahead & (px >= 0).all(axis=1) & (px <= size).all(axis=1)


def outline(view: View, panorama: Camera, steps: int = 24) -> Array:
    """(4 · steps, 2) px of the panorama along a view's border, clockwise from its upper left
    corner."""
    camera = view.camera(panorama)
    t = np.arange(steps) / steps
    zero, one = np.zeros(steps), np.ones(steps)
    x = np.concatenate([t, one, 1 - t, zero]) * view.width
    y = np.concatenate([zero, t, one, 1 - t]) * view.height
    return panorama.project_directions(camera.rays(np.stack([x, y], -1)))
