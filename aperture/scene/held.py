"""A shot whose pictures are held, as one at another speed that shows its nearest frames: its camera
and stand-ins by what was filmed."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from aperture.arrays import Array
from aperture.camera import CameraPath
from aperture.scene.way import Way


@dataclass(frozen=True, eq=False)
class Steps:
    """The time of a shot that shows the nearest frames: each of its pictures is held until the next
    one is nearer.

    Its camera and its stand-ins rest with the picture, and go on by leaps. What is smeared on the
    picture is what moved while the frame was filmed: so motion blur is that of the path over the
    moments that were filmed.

    Parameters
    ----------
    first : int
        What the first new frame is called.
    at : ndarray, shape (N,)
        The moment, a whole one, that each new frame shows; never falling.
    """

    first: int
    at: Array

    def moment(self, frame: int) -> int:
        """The moment that a new frame shows; before the first and after the last one it goes on
        frame by frame."""
        inside = min(max(frame - self.first, 0), len(self.at) - 1)
        return round(float(self.at[inside])) + frame - self.first - inside

    def _once(self, frames: Array) -> tuple[Array, Array]:
        """The moments of new frames, each once, and where in `frames` each comes first."""
        moments, index = np.unique([self.moment(int(frame)) for frame in frames], return_index=True)
        return np.asarray(moments), np.asarray(index)

    def path(self, path: CameraPath) -> CameraPath:
        """The path by moments instead of new frames."""
        frames, kept = self._once(path.frames)
        held = (path.rotations[kept], path.positions[kept], path.focal_mm[kept])
        return CameraPath(path.grid, path.lens, frames, *held)

    def way(self, way: Way) -> Way:
        """The way of a stand-in by moments instead of new frames."""
        frames, kept = self._once(way.frames)
        on = self.way(way.on) if way.on else None
        return replace(
            way, frames=frames, bases=way.bases[kept], rotations=way.rotations[kept], on=on
        )
