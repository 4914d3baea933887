"""Renders as a lens and a shutter make them: depth of field with the blur's shape, motion blur, exposure.

Each ray of a pixel leaves from another place of the lens opening, at another moment while the
shutter is open, and goes through the point of the plane of focus that the pixel sees. Their mean is
the picture. Places and moments are evenly spread, the same ones each time, and another part of them
in each pixel, so that too few rays look like grain and not like copies.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera, CameraPath
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.light.focus import ThinLens
from aperture.light.motion import Shutter, camera_between, streaks
from aperture.light.pupil import Pupil
from aperture.render import lens_rays
from aperture.render.tracer import Look, Scene
from aperture.scene.stand_in import StandIn

PLACES = 4096  # of the lens opening, shared out to the pixels
MOMENTS = 129  # while the shutter is open
MARGIN_PX = 3
MATERIALS = {"matte": lens_rays.MATTE, "checker": lens_rays.CHECKER}


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
    """

    lens: ThinLens | None = None
    pupil: Pupil = field(default_factory=Pupil)
    path: CameraPath | None = None
    frame: int = 0
    shutter: Shutter = Shutter(0.0)
    stops: float = 0.0

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


def tables(camera: Camera, blur: Blur, rows: Sequence[int], columns: Sequence[int]) -> Tables:
    """Lay out the rays of the pixels in some rows and columns.

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
        *_moments(camera, blur),
        (lens.pupil_mm / 2000, 1 / lens.focus_m) if lens else (0.0, 0.0),
        (pupil.cats_eye, pupil.onset, pupil.swirl, 1 / pupil.squeeze),
        (*middle, *one_px.tolist()),
    )


def _on_plane(camera: Camera, rows: Sequence[int], columns: Sequence[int]) -> Array:
    """(R + 1, C + 1, 2) where the rays of the pixels' corners meet the plane a metre before the camera."""
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


def _moments(camera: Camera, blur: Blur) -> tuple[tuple[Array, Array, Array], tuple[float, ...]]:
    height, shutter = float(camera.grid.height), blur.shutter
    if not blur.moves:
        still = (camera.rotation[None].copy(), np.zeros((1, 3)), np.ones(1))
        return still, (0.0, 0.0, 0.0, 0.0, 0.0, height)
    late = abs(shutter.readout_frames) / 2
    least, most = shutter.opens - late, shutter.closes + late
    there = camera_between(blur.path, blur.frame)
    rotations, positions, zooms = [], [], []
    for moment in np.linspace(least, most, MOMENTS):
        then = camera_between(blur.path, blur.frame + moment)
        # Relative to the path's own frame: what is rendered through may be another grid of it.
        rotations.append(then.rotation @ there.rotation.T @ camera.rotation)
        positions.append(then.position - there.position)
        zooms.append(there.lens.focal_mm / then.lens.focal_mm)
    times = (shutter.opens, shutter.open_frames, shutter.readout_frames, least, most, height)
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
    if blur.moves:
        found = streaks(blur.path, blur.frame, corners, blur.shutter)
        lengths = found.lengths + np.linalg.norm(found.skews, axis=1)
        scale = camera.grid.width / blur.path.grid.width
        longest = float(np.max(lengths)) * max(1.0, scale)
        reach += longest if math.isfinite(longest) else math.inf
    return int(min(reach, 1e6)) + MARGIN_PX


class Blurred:
    """A scene seen through a lens and a shutter; blocks of it may be traced by several threads."""

    def __init__(
        self,
        scene: Scene,
        blur: Blur,
        rows: Sequence[int],
        columns: Sequence[int],
        side: int,
        with_masks: bool,
    ) -> None:
        self.scene, self.blur, self.side, self.with_masks = scene, blur, side, with_masks
        self.rows, self.columns = rows, columns
        self.tables = tables(scene.camera, blur, rows, columns)
        materials = [look.material for look in scene.looks]
        light = scene.light
        self.simple = (
            all(name in MATERIALS for name in materials)
            and light.shadow_rays == 1
            and light.lamp == 0
        )
        self.faces = (scene.starts, scene.normals, scene.offsets, scene.catches)
        self.looks = (
            np.array([MATERIALS.get(name, 0) for name in materials], np.int64),
            np.array([look.checker_m for look in scene.looks], float),
            np.array([item.base - scene.camera.position for item, _ in scene.items], float),
            np.array([item.rotation for item, _ in scene.items], float),
        )

    def block(self, top: int, bottom: int) -> tuple[Array, Array]:
        """(rows, columns, 4) the beauty of some rows, and (rows, columns, items) the masks."""
        many = (bottom - top, self.columns[1] - self.columns[0])
        count = many[0] * many[1] * self.side**2
        rays = (
            np.empty((count, 3), np.float32),
            np.empty((count, 3), np.float32),
            np.empty(count, np.float32),
        )
        own = self.tables
        first = top - self.rows[0]
        lens_rays.make_rays(
            own.corners[first : first + many[0] + 1],
            (top, self.columns[0]),
            self.side,
            own.places[: PLACES // self.side**2 * self.side**2],
            own.moments,
            own.times,
            own.lens,
            own.optics,
            own.field,
            rays,
        )
        pixels = many[0] * many[1]
        beauty = np.zeros((pixels, 4), np.float32)
        masks = np.zeros((pixels, len(self.scene.items) if self.with_masks else 0), np.float32)
        (self._plainly if self.simple else self._fully)(rays, beauty, masks)
        return beauty.reshape(*many, 4), masks.reshape(*many, -1)

    def _plainly(self, rays: tuple[Array, ...], beauty: Array, masks: Array) -> None:
        """By the compiled shading: matte and checkers under a sharp sun."""
        scene, count = self.scene, len(rays[2])
        met = scene.first(rays[1], rays[0])
        seen = tuple(np.zeros(count, np.float32) for _ in range(3))
        points, which = np.empty((count, 3), np.float32), np.empty(count, np.int32)
        sun = scene.light.toward_sun
        listed = lens_rays.toward_sun(
            met, rays, self.faces, sun, scene.reach, (points, which, *seen)
        )
        if listed and scene.light.sun > 0:
            ways = np.broadcast_to(sun.astype(np.float32), (listed, 3)).copy()
            dark = scene.blocked(points[:listed], ways)
            seen[2][which[:listed][dark]] = 0
        light = (scene.light.sun, scene.light.ambient, 2.0**self.blur.stops)
        lens_rays.shade(met, rays, self.faces, seen, self.looks, light, (beauty, masks))

    def _fully(self, rays: tuple[Array, ...], beauty: Array, masks: Array) -> None:
        """By the scene's own shading: mirrors, what wears the plate, lamps and soft shadows."""
        scene = self.scene
        origins, directions, weights = (each.astype(float) for each in rays)
        hits = scene.hit(directions, origins)
        each = (len(beauty), self.side**2)
        element = hits.met & ~scene.catches[np.maximum(hits.item, 0)]
        which = np.flatnonzero(element)
        values = np.zeros((len(weights), 4), np.float32)
        values[which, :3] = 2.0**self.blur.stops * scene.shade(hits, which, directions)
        values[which, 3] = 1.0
        weighted = values * weights[:, None]
        beauty[:] = weighted.reshape(*each, 4).sum(axis=1)
        for index in range(masks.shape[1]):
            mine = (hits.item == index) * weights
            masks[:, index] = mine.reshape(each).sum(axis=1)


def compile_all() -> None:
    """Compile what is compiled, by a picture of a few pixels: it is kept on disk."""
    camera = Camera.at(Grid.from_gate(4, 4, 36.0, 36.0), Lens(35.0), (0.0, 1.0, 2.0))
    scene = Scene(camera, [(StandIn((4.0, 2.0, 1.0), (0.0, 0.0, 0.0)), Look("box", "checker"))])
    for lens in (None, ThinLens(35.0, 2.0, 2.0)):
        Blurred(scene, Blur(lens), (0, 4), (0, 4), 2, True).block(0, 4)
