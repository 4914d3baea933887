"""A stand-in: a simple solid, or a mesh, of a size, somewhere in the world."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.geometry.rotation import angles_from_rotation, rotation_from_angles
from aperture.scene import solids
from aperture.scene.way import Way

LEAST_M, LARGEST_M = 1e-4, 1e5
BIG_M, SMALL_M = 1e3, 1e-3  # beyond these the unit is probably wrong


@dataclass(frozen=True)
class StandIn:
    """size: across, up, along in metres; base: (3,) metres, the middle of its underside, about
    which it turns.

    turn, tilt, roll: radians, as a camera's pan, tilt and roll. steps: of stairs. corners: (x, z)
    of a block's or room's floor in the unit square. mesh: the solid of kind "mesh". way: over time,
    where it moves. Raises Problem where a value can't be.
    """

    size: tuple[float, float, float]
    base: tuple[float, float, float] = (0.0, 0.0, 0.0)
    turn: float = 0.0
    tilt: float = 0.0
    roll: float = 0.0
    kind: str = "box"
    steps: int = 0
    corners: tuple[tuple[float, float], ...] = ()
    mesh: solids.Solid | None = None
    way: Way | None = None

    def __post_init__(self) -> None:
        flat = self.kind == "plane"
        for index, (value, name) in enumerate(zip(self.size, ("width", "height", "depth"))):
            if not (np.isfinite(value) and (flat and index == 1 or LEAST_M <= value <= LARGEST_M)):
                raise Problem(f"A stand-in needs a {name} above 0.1 mm and at most 100 km.", "size")
        if (
            not all(np.isfinite(v) and abs(v) <= LARGEST_M for v in self.base)
            or not np.isfinite([self.turn, self.tilt, self.roll]).all()
        ):
            raise Problem("The stand-in's place must be finite, and within 100 km.", "base")
        _ = self.solid  # a shape that can't be is refused at once

    @cached_property
    def solid(self) -> solids.Solid:
        """Its shape in the unit box."""
        if self.kind == "mesh" and self.mesh is not None:
            return self.mesh
        steps = self.steps or max(1, min(200, round(self.size[1] / solids.STAIR_M)))
        return solids.made(self.kind, steps if self.kind == "stairs" else 0, self.corners)

    @property
    def rotation(self) -> Array:
        """(3, 3) world from its own axes."""
        return rotation_from_angles(self.turn, self.tilt, self.roll)

    @property
    def pose(self) -> Array:
        """(4, 4) world from its own axes, metres."""
        pose = np.eye(4)
        pose[:3, :3], pose[:3, 3] = self.rotation, self.base
        return pose

    @property
    def moves(self) -> bool:
        """Whether it is elsewhere at another time."""
        return self.way is not None and self.way.moves

    def at(self, moment: float) -> StandIn:
        """As it stands at a moment, in frames."""
        if self.way is None or not self.moves:
            return self
        pose = self.way.pose(moment)
        turn, tilt, roll = angles_from_rotation(pose[:3, :3])
        base = tuple(pose[:3, 3].tolist())
        return replace(self, base=base, turn=turn, tilt=tilt, roll=roll)

    def placed(self, points: Array) -> Array:
        """(N, 3) metres of points (N, 3) in the unit box."""
        return np.asarray(points, float) * self.size @ self.rotation.T + self.base

    def vertices(self) -> Array:
        """(V, 3) metres."""
        return self.placed(self.solid.vertices)

    def own_vertices(self) -> Array:
        """(V, 3) metres, in its own axes, from the middle of its underside."""
        return np.asarray(self.solid.vertices, float) * self.size

    def bounds(self) -> Array:
        """(8, 3) metres, the corners of its own box: the underside's four from the front left on,
        anticlockwise from above, then those above them."""
        return self.placed(solids.box().vertices)

    def moved(
        self, rotation: Array, about: tuple[float, float, float], to: tuple[float, float, float]
    ) -> StandIn:
        """Turned by `rotation` (3, 3) about the point `about` (3,), which then is put at `to`
        (3,)."""
        turn, tilt, roll = angles_from_rotation(rotation @ self.rotation)
        base = rotation @ (np.array(self.base) - about) + to
        return replace(self, base=tuple(base.tolist()), turn=turn, tilt=tilt, roll=roll)

    def oddity(self) -> str | None:
        """A sentence where its size makes one think of another unit; None otherwise."""
        largest = max(self.size)
        if largest > BIG_M:
            return (
                f"It is {largest / 1000:.1f} km large. If that isn't meant, its file was in another"
                " unit."
            )
        if largest < SMALL_M:
            return (
                f"It is {largest * 1000:.2f} mm large. If that isn't meant, its file was in another"
                " unit."
            )
        return None


def mesh_of(stand_ins: Any) -> Any:
    """One trimesh of them all; `mesh.metadata["owner"]` is (T,), the stand-in that each triangle
    belongs to."""
    import trimesh

    solids_, owner, start = [item.solid for item in stand_ins], [], 0
    faces = []
    for index, solid in enumerate(solids_):
        faces.append(solid.triangles + start)
        owner.append(np.full(len(solid.triangles), index))
        start += len(solid.vertices)
    mesh = trimesh.Trimesh(
        np.concatenate([item.vertices() for item in stand_ins]),
        np.concatenate(faces),
        process=False,
    )
    mesh.metadata["owner"] = np.concatenate(owner)
    return mesh
