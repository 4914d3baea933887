"""The camera: a grid of pixels, a lens and a pose; and a path, one camera per frame."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from aperture.arrays import Array, ArrayLike
from aperture.errors import Problem
from aperture.geometry.angles import View
from aperture.geometry.grid import Grid
from aperture.geometry.rotation import angles_from_rotation, rotation_from_angles
from aperture.lens.lens import Lens


def border_points(grid: Grid) -> Array:
    """(6, 2) px: the middles of left and right, of top and bottom, and two opposite corners;
    between them lie the angles of view."""
    w, h = grid.width, grid.height
    return np.array([[0, h / 2], [w, h / 2], [w / 2, 0], [w / 2, h], [0, 0], [w, h]])


@dataclass(frozen=True, eq=False)
class Camera:
    """A grid of pixels, a lens and a pose. Camera space is X right, Y up, looking down −Z.

    Parameters
    ----------
    grid : Grid
        The pixels, and the millimetres of sensor that they cover.
    lens : Lens
    world_from_camera : ndarray, shape (4, 4)
        Rigid pose, metres.

    Raises
    ------
    Problem
        If the pose is not a rotation and a position.

    Examples
    --------
    A 50 mm lens on a gate of 36 × 20.25 mm, 1.5 m above the floor. A point 10 m ahead and 1 m to
    the right is imaged 5 mm, or 267 px, to the right of the middle.

    >>> camera = Camera.at(Grid.from_gate(1920, 1080, 36.0, 20.25), Lens(50.0), (0, 1.5, 0))
    >>> camera.project([[1.0, 1.5, -10.0]]).round(2)
    array([[1226.67,  540.  ]])
    >>> camera.on_plane([[960, 1080]]).round(2)  # where the floor enters the picture
    array([[ 0.  ,  0.  , -7.41]])
    """

    grid: Grid
    lens: Lens
    world_from_camera: Array

    def __post_init__(self) -> None:
        pose = np.array(self.world_from_camera, float)
        if (
            pose.shape != (4, 4)
            or not np.isfinite(pose).all()
            or np.abs(pose[:3, :3] @ pose[:3, :3].T - np.eye(3)).max() > 1e-6
        ):
            raise Problem("The camera's pose is not a rotation and a position.")
        pose.setflags(write=False)
        object.__setattr__(self, "world_from_camera", pose)

    @classmethod
    def at(
        cls,
        grid: Grid,
        lens: Lens,
        position: ArrayLike,
        pan: float = 0.0,
        tilt: float = 0.0,
        roll: float = 0.0,
    ) -> Camera:
        """Return a camera at a place, turned from looking down −Z.

        Parameters
        ----------
        grid, lens
            As for `Camera`.
        position : array_like, shape (3,)
            Metres.
        pan, tilt, roll : float
            Radians, in the order of docs/conventions.md.
        """
        pose = np.eye(4)
        pose[:3, :3], pose[:3, 3] = rotation_from_angles(pan, tilt, roll), position
        return cls(grid, lens, pose)

    @property
    def rotation(self) -> Array:
        """(3, 3) world-from-camera."""
        return self.world_from_camera[:3, :3]

    @property
    def position(self) -> Array:
        """(3,) metres."""
        return self.world_from_camera[:3, 3]

    def to_camera_space(self, points: ArrayLike) -> Array:
        """(N, 3) camera-space points of world points (N, 3) metres."""
        return (np.asarray(points, float) - self.position) @ self.rotation

    def project(self, points: ArrayLike) -> Array:
        """Return where world points are imaged.

        Parameters
        ----------
        points : array_like, shape (N, 3)
            Metres.

        Returns
        -------
        ndarray, shape (N, 2)
            Pixels; NaN behind the camera and where the lens forms no picture.
        """
        return self.grid.to_px(self.lens.project(self.to_camera_space(points)))

    def project_directions(self, directions: Array) -> Array:
        """(N, 2) px of points infinitely far away in the world directions (N, 3)."""
        return self.grid.to_px(self.lens.project(np.asarray(directions, float) @ self.rotation))

    def rays(self, pixels: ArrayLike) -> Array:
        """Return the directions that are imaged at pixel positions.

        Parameters
        ----------
        pixels : array_like, shape (N, 2)

        Returns
        -------
        ndarray, shape (N, 3)
            Unit vectors in the world; NaN where the lens forms no picture.
        """
        rays = self.lens.rays(self.grid.to_mm(pixels))
        rays /= np.linalg.norm(rays, axis=1, keepdims=True)
        return rays @ self.rotation.T

    def on_plane(
        self,
        pixels: ArrayLike,
        normal: Any = (0.0, 1.0, 0.0),
        offset: float = 0.0,
    ) -> Array:
        """Return where the rays of pixel positions meet a plane.

        Parameters
        ----------
        pixels : array_like, shape (N, 2)
        normal : array_like, shape (3,)
            Of the plane normal · P = offset. The floor, if not given.
        offset : float
            Metres.

        Returns
        -------
        ndarray, shape (N, 3)
            Metres; NaN where a ray doesn't meet the plane in front of the camera.
        """
        rays = self.rays(pixels)
        normal = np.array(normal, float)
        with np.errstate(all="ignore"):
            distance = (offset - normal @ self.position) / (rays @ normal)
        distance[~(distance > 0)] = np.nan
        return self.position + rays * distance[:, None]

    @property
    def focal_px(self) -> tuple[float, float]:
        """Focal length in pixels, along the rows and along the columns of the picture."""
        fx, fy = np.abs(self.grid.px_linear @ np.diag(self.lens.scale_mm)).max(axis=1)
        return float(fx), float(fy)

    @property
    def principal_point_px(self) -> tuple[float, float]:
        """Where the lens axis meets the picture, px."""
        x, y = self.grid.to_px([self.lens.centre_mm])[0]
        return float(x), float(y)

    @property
    def view(self) -> View:
        """Full angles between the middles of opposite sides, and between corners, lens distortion
        included; NaN where unseen."""
        if self.lens.projection.around:
            return self._view_around()
        rays = self.rays(border_points(self.grid))
        # Between unit vectors, the half angle from the chord: accurate for small angles and for
        # ones near 180°.
        a, b = rays[0::2], rays[1::2]
        apart, together = np.sqrt(((a - b) ** 2).sum(axis=1)), np.sqrt(((a + b) ** 2).sum(axis=1))
        return View(*(2 * np.arctan2(apart, together)).tolist())

    def _view_around(self) -> View:
        """Of a panorama: across by its longitudes, up to a whole turn; a diagonal it has none of
        its own."""
        if not self.lens.projection.wraps:  # laid out in pieces: it sees everything
            return View(math.tau, math.pi, math.tau)
        across = min(self.grid.width / self.focal_px[0], math.tau)
        x = self.principal_point_px[0]
        ends = self.lens.rays(self.grid.to_mm([[x, 0.0], [x, self.grid.height]]))
        up, down = np.arctan2(ends[:, 1], np.hypot(ends[:, 0], ends[:, 2]))
        return View(across, float(up - down), across)

    @property
    def angles(self) -> tuple[float, float, float]:
        """(pan, tilt, roll), radians."""
        return angles_from_rotation(self.rotation)

    @property
    def goes_around(self) -> bool:
        """Whether the picture goes on at its other side: all around, along its rows."""
        along = abs(self.grid.px_linear[0, 0]) > abs(self.grid.px_linear[0, 1])
        whole = abs(math.tau * self.focal_px[0] - self.grid.width) < 0.5
        return bool(self.lens.projection.wraps and along and whole)

    def intrinsic_matrix(self) -> Array:
        """(3, 3) as OpenCV writes it: x right, y down, z forward, origin at the outer corner as
        everywhere here."""
        out = np.eye(3)
        out[:2, :2] = self.grid.px_linear @ np.diag(self.lens.scale_mm)
        out[:2, 2] = self.principal_point_px
        return out


@dataclass(frozen=True, eq=False)
class CameraPath:
    """One camera per frame.

    Parameters
    ----------
    grid : Grid
    lens : Lens
        Of every frame, but for the focal length.
    frames : ndarray of int, shape (F,)
        In order; frames without a camera are left out.
    rotations, positions : ndarray, shapes (F, 3, 3) and (F, 3)
        World from camera; metres.
    focal_mm : ndarray, shape (F,)

    Examples
    --------
    >>> grid, lens = Grid.from_gate(1920, 1080, 36.0, 20.25), Lens(50.0)
    >>> turns, places = np.tile(np.eye(3), (2, 1, 1)), np.array([[0, 1.5, 0], [0, 1.5, -1]])
    >>> path = CameraPath(grid, lens, np.array([1001, 1002]), turns, places, np.array([50.0, 50.0]))
    >>> path.at(1002).position
    array([ 0. ,  1.5, -1. ])
    """

    grid: Grid
    lens: Lens
    frames: Array
    rotations: Array
    positions: Array
    focal_mm: Array

    @classmethod
    def still(cls, camera: Camera, frame: int) -> CameraPath:
        """The path of one frame of a camera."""
        focal = np.array([camera.lens.focal_mm])
        turns, places = camera.rotation[None].copy(), camera.position[None].copy()
        return cls(camera.grid, camera.lens, np.array([frame]), turns, places, focal)

    def __contains__(self, frame: int) -> bool:
        index = int(np.searchsorted(self.frames, frame))
        return index < len(self.frames) and int(self.frames[index]) == frame

    def at(self, frame: int) -> Camera:
        """Return the camera of a frame. Raises Problem if that frame has none."""
        if frame not in self:
            raise Problem(f"Frame {frame} has no camera.")
        index = int(np.searchsorted(self.frames, frame))
        pose = np.eye(4)
        pose[:3, :3], pose[:3, 3] = self.rotations[index], self.positions[index]
        lens = replace(self.lens, focal_mm=float(self.focal_mm[index]))
        return Camera(self.grid, lens, pose)
