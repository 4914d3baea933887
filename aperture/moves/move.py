"""A move: a camera per frame with an origin of its own, in this project's world, whatever plate it
is put on.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from aperture.arrays import Array
from aperture.camera import CameraPath
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens

MOST_FRAMES = 20_000
NO_DISTORTION: tuple[float, ...] = (0.0,) * 5


@dataclass(frozen=True, eq=False)
class Move:
    """A camera per frame.

    A file says how wide its camera sees, and rarely on which sensor: the view is kept as tangents,
    and the focal length in millimetres beside it.

    Parameters
    ----------
    frames : ndarray of int, shape (F,)
        In order.
    rotations, positions : ndarray, shapes (F, 3, 3) and (F, 3)
        World from camera; metres.
    half_view : ndarray, shape (F, 2)
        Tangents of half the horizontal and vertical angle of view; NaN where the file doesn't say.
    focal_mm : ndarray, shape (F,)
        As the file says it, on the file's own gate; NaN where it doesn't.
    shift : ndarray, shape (2,)
        By how much the picture's window is shifted to the right and up, in half widths and half
        heights.
    distortion : tuple of float
        Brown–Conrady k1 k2 k3 p1 p2.
    """

    frames: Array
    rotations: Array
    positions: Array
    half_view: Array
    focal_mm: Array
    shift: Array
    distortion: tuple[float, ...] = NO_DISTORTION

    def stood(self, world_from_move: Array) -> Move:
        """The move where a similarity (4, 4) of its space puts it: rigid, or with a scale, which is
        of its places only.
        """
        linear, shift = world_from_move[:3, :3], world_from_move[:3, 3]
        turn = linear / np.cbrt(np.linalg.det(linear))
        return replace(
            self, rotations=turn @ self.rotations, positions=self.positions @ linear.T + shift
        )

    def before_axis(self, metres: float) -> Move:
        """The move of the entrance pupil, where its positions are those of the axis that the rig
        turns about, so far behind it.
        """
        return replace(self, positions=self.positions - metres * self.rotations[:, :, 2])

    def held(self, first: int, last: int) -> Move:
        """The move at rest before its first frame and after its last one, from `first` to
        `last`."""
        begins, ends = int(self.frames[0]), int(self.frames[-1])
        frames = np.arange(min(first, begins), max(last, ends) + 1)
        if len(frames) > MOST_FRAMES:
            return self
        rows = np.clip(np.searchsorted(self.frames, frames), 0, len(self.frames) - 1)
        return replace(
            self,
            frames=frames,
            rotations=self.rotations[rows],
            positions=self.positions[rows],
            half_view=self.half_view[rows],
            focal_mm=self.focal_mm[rows],
        )

    def only(self, frame: int) -> Move:
        """The move on one of its frames. Raises Problem if it hasn't that frame."""
        rows = np.flatnonzero(self.frames == frame)
        if not len(rows):
            raise Problem(f"Frame {frame} has no camera.")
        return replace(
            self,
            frames=self.frames[rows],
            rotations=self.rotations[rows],
            positions=self.positions[rows],
            half_view=self.half_view[rows],
            focal_mm=self.focal_mm[rows],
        )

    @property
    def knows_view(self) -> bool:
        """Whether the file says how wide the camera sees, on every frame."""
        return bool(np.isfinite(self.half_view).all())

    def shifted(self, frames: int) -> Move:
        """The move with other frame numbers."""
        return replace(self, frames=self.frames + frames)

    def on(
        self,
        grid: Grid,
        squeeze: float = 1.0,
        focal_mm: float | None = None,
        fit: str = "width",
    ) -> CameraPath:
        """Return the move as cameras of a plate.

        Parameters
        ----------
        grid : Grid
            Of the plate.
        squeeze : float
            Of the plate's lens.
        focal_mm : float, optional
            For every frame, if the file doesn't say how wide the camera sees.
        fit : str
            Which side of the file's picture is as wide as the plate's: "width" or "height".

        Raises
        ------
        Problem
            If neither the file nor the caller knows the view.
        """
        side = 0 if fit == "width" else 1
        size_mm = grid.gate_mm[0] * squeeze if side == 0 else grid.gate_mm[1]
        if self.knows_view:
            focal = size_mm / 2 / self.half_view[:, side]
            half_px = np.array([grid.width, grid.height]) / 2
            centre = grid.to_mm([half_px * (1 - self.shift[0], 1 + self.shift[1])])[0]
        elif focal_mm:
            focal, centre = np.full(len(self.frames), focal_mm), np.zeros(2)
        else:
            raise Problem(
                "The file doesn't say how wide its camera sees: give the lens a focal length on "
                "the Match step."
            )
        lens = Lens(
            float(focal[0]),
            squeeze,
            centre_mm=(float(centre[0]), float(centre[1])),
            coefficients=self.distortion,
        )
        return CameraPath(grid, lens, self.frames, self.rotations, self.positions, focal)

    @classmethod
    def of(cls, path: CameraPath) -> Move:
        """The move of a plate's cameras: the way back from `on`. Raises Problem for a lens that
        isn't an ordinary one."""
        lens, grid = path.lens, path.grid
        if lens.projection.name != "rectilinear":
            raise Problem(
                f"A move’s camera has an ordinary lens: one that is {lens.projection.name} can’t be"
                " carried over."
            )
        size = np.array([grid.gate_mm[0] * lens.squeeze, grid.gate_mm[1]])
        half_px = np.array([grid.width, grid.height]) / 2
        middle = grid.to_px(np.array([lens.centre_mm]))[0] / half_px
        return cls(
            path.frames,
            path.rotations,
            path.positions,
            size / 2 / path.focal_mm[:, None],
            path.focal_mm,
            np.array([1 - middle[0], middle[1] - 1]),
            tuple(lens.coefficients),
        )

    def to_arrays(self) -> dict[str, Array]:
        """As arrays under names, to be stored."""
        return {
            "frames": self.frames.astype(np.int64),
            "rotations": self.rotations,
            "positions": self.positions,
            "half_view": self.half_view,
            "focal_mm": self.focal_mm,
            "shift": self.shift,
            "distortion": np.array(self.distortion),
        }

    @classmethod
    def from_arrays(cls, arrays: dict[str, Array]) -> Move:
        """The way back from `to_arrays`."""
        named = dict(arrays)
        bent = tuple(named.pop("distortion").tolist())
        return cls(**named, distortion=bent)
