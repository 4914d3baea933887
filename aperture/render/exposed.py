"""How a picture is taken: lens, shutter and exposure, and where the rays of its pixels begin.

Each ray of a pixel leaves from another place of the lens opening, at another moment while the
shutter is open, and goes through the point of the plane of focus that the pixel sees. Places and
moments are evenly spread, the same ones each time, and another part of them in each pixel, so that
too few rays look like grain and not like copies.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera, CameraPath
from aperture.errors import Problem
from aperture.light.focus import ThinLens
from aperture.light.motion import Shutter, camera_between, streaks
from aperture.light.pupil import Pupil
from aperture.scene.stand_in import StandIn

PLACES = 4096  # of the lens opening, shared out to the pixels
MOMENTS = 129  # while the shutter is open
MARGIN_PX = 3


@dataclass(frozen=True, eq=False)
class Blur:
    """How a picture is taken.

    Parameters
    ----------
    lens : ThinLens or None
        None: all is sharp.
    pupil : Pupil
        The blur's shape.
    path : CameraPath or None
        Where the camera is around the frame; None: it stands still.
    frame : int
    shutter : Shutter
    stops : float
        By how much the picture is brighter than the light that the stand-ins are lit with.
    aside_m : float
        Of a panorama: how far to the right of where it looks each column's eye stands (to the left
        below zero), as `aperture.stereo.around` has it.
    """

    lens: ThinLens | None = None
    pupil: Pupil = field(default_factory=Pupil)
    path: CameraPath | None = None
    frame: int = 0
    shutter: Shutter = Shutter(0.0)
    stops: float = 0.0
    aside_m: float = 0.0

    @property
    def moves(self) -> bool:
        """Whether the camera moves while the shutter is open, as far as is known."""
        rolls = bool(self.shutter.readout_frames)
        return self.path is not None and len(self.path.frames) > 1 and (self.open or rolls)

    @property
    def open(self) -> bool:
        """Whether the shutter is open for any time."""
        return self.shutter.open_frames > 0


@dataclass(frozen=True, eq=False)
class Tables:
    """What the compiled rays are made of, the same for all blocks of a picture."""

    corners: Array
    places: Array
    moments: tuple[Array, Array, Array]
    times: tuple[float, ...]
    lens: tuple[float, float]
    optics: tuple[float, ...]
    field: tuple[float, ...]


def tables(
    camera: Camera, blur: Blur, rows: Sequence[int], columns: Sequence[int], timed: bool = False
) -> Tables:
    """Lay out the rays of the pixels in some rows and columns; `timed`: over time even where the
    camera stands still.

    Raises Problem where the lens sees as wide as a thin lens can't: 180° and more.
    """
    plane = _on_plane(camera, rows, columns)
    lens, pupil = blur.lens, blur.pupil
    wide, high = camera.grid.width, camera.grid.height
    half = np.linalg.norm(np.diff(camera.grid.to_mm([[0, 0], [wide, high]]), axis=0)) / 2
    one_px = np.abs(np.diff(camera.grid.to_mm([[0.0, 0.0], [1.0, 1.0]]), axis=0))[0] / half
    middle = camera.principal_point_px
    return Tables(
        plane,
        pupil.samples(PLACES),
        *moments_of(camera, blur, timed),
        (lens.pupil_mm / 2000, 1 / lens.focus_m) if lens else (0.0, 0.0),
        (pupil.cats_eye, pupil.onset, pupil.swirl, 1 / pupil.squeeze),
        (*middle, *one_px.tolist()),
    )


def _on_plane(camera: Camera, rows: Sequence[int], columns: Sequence[int]) -> Array:
    """(R + 1, C + 1, 2) where the rays of the pixels' corners meet the plane a metre before the
    camera."""
    across = np.arange(columns[0], columns[1] + 1.0)
    down = np.arange(rows[0], rows[1] + 1.0)
    straight = not camera.lens.bends
    if straight:  # it goes evenly from corner to corner
        across_of, down_of = across[[0, -1]], down[[0, -1]]
    else:
        across_of, down_of = across, down
    at = np.stack(np.meshgrid(across_of, down_of), -1).reshape(-1, 2)
    own = camera.rays(at) @ camera.rotation
    if not np.isfinite(own).all() or (own[:, 2] > -1e-3).any():
        raise Problem(
            "Depth of field and motion blur are drawn for pictures that see less than 180°: this "
            "one sees wider, or has no picture in its corners."
        )
    plane = (own[:, :2] / -own[:, 2:]).reshape(len(down_of), len(across_of), 2)
    if not straight:
        return plane
    right = np.linspace(0, 1, len(across))[:, None]
    below = np.linspace(0, 1, len(down))[:, None, None]
    top, bottom = (row[0] + right * (row[1] - row[0]) for row in plane)
    return top + below * (bottom - top)


def span(shutter: Shutter) -> tuple[float, float]:
    """The first and the last moment that anything is exposed at, in frames from the frame's own."""
    late = abs(shutter.readout_frames) / 2
    return shutter.opens - late, shutter.closes + late


def moments_of(
    camera: Camera, blur: Blur, timed: bool
) -> tuple[tuple[Array, Array, Array], tuple[float, ...]]:
    """Where the camera is while the shutter is open, and when that is.

    First rotations (M, 3, 3), positions (M, 3) m and zooms (M,) at M even moments, relative to the
    frame's own; one that is no change where the camera stands still. Then, in frames from the
    frame's own: the shutter's opening, how long it is open, its readout, the first moment and the
    last; and the picture's height in px.
    """
    height, shutter = float(camera.grid.height), blur.shutter
    least, most = span(shutter)
    times = (shutter.opens, shutter.open_frames, shutter.readout_frames, least, most, height)
    path = blur.path if blur.moves else None
    if path is None:
        still = (camera.rotation[None].copy(), np.zeros((1, 3)), np.ones(1))
        return still, times if timed else (0.0, 0.0, 0.0, 0.0, 0.0, height)
    there = camera_between(path, blur.frame)
    rotations, positions, zooms = [], [], []
    for moment in np.linspace(least, most, MOMENTS):
        then = camera_between(path, blur.frame + moment)
        # Relative to the path's own frame: what is rendered through may be another grid of it.
        rotations.append(then.rotation @ there.rotation.T @ camera.rotation)
        positions.append(then.position - there.position)
        zooms.append(there.lens.focal_mm / then.lens.focal_mm)
    return (np.array(rotations), np.array(positions), np.array(zooms)), times


def margin(camera: Camera, items: Sequence[StandIn], blur: Blur) -> int:
    """By how many px stand-ins may reach beyond their outlines."""
    corners = np.concatenate([item.bounds() for item in items])
    away = -camera.to_camera_space(corners)[:, 2]
    reach = 0.0
    if blur.lens is not None:
        px = max(camera.focal_px) / camera.lens.focal_mm  # per mm
        wide = blur.lens.blur_mm(np.maximum(away, 1e-3)) / 2
        reach += px * float(wide.max()) * (1 + abs(blur.pupil.swirl))
        reach *= max(1.0, 1 / blur.pupil.squeeze)
    if blur.moves or moving(items, blur):
        longest = longest_way(camera, items, blur)
        reach += longest if math.isfinite(longest) else math.inf
    return int(min(reach, 1e6)) + MARGIN_PX


def moving(items: Sequence[StandIn], blur: Blur) -> list[int]:
    """Which of the stand-ins move while the picture is exposed."""
    if not (blur.open or blur.shutter.readout_frames):
        return []
    moments = blur.frame + np.array([0.0, *span(blur.shutter)])
    return [
        index
        for index, item in enumerate(items)
        if item.moves and len({item.at(moment).pose.tobytes() for moment in moments}) > 1
    ]


def longest_way(camera: Camera, items: Sequence[StandIn], blur: Blur) -> float:
    """Px of the longest way of a corner of the stand-ins, readout and all; infinite where one isn't
    seen all the time.
    """
    path = blur.path if blur.moves and blur.path else CameraPath.still(camera, blur.frame)

    def corners(moment: float) -> Array:
        return np.concatenate([item.at(moment).bounds() for item in items])

    found = streaks(path, blur.frame, corners, blur.shutter)
    lengths = found.lengths + np.linalg.norm(found.skews, axis=1)
    longest = float(np.max(lengths)) * max(1.0, camera.grid.width / path.grid.width)
    return longest if math.isfinite(longest) else math.inf
