"""Cameras and sets as a receiver wants them in scene files: what a format or a program can't take
is baked.

A camera sees the same after it was baked, in a picture that is larger or has another gate:

- *Distortion baked*: the camera is without distortion, and its picture has the overscan that the
  plate needs once it is straightened (`lens_maps`).
- *Offsets baked*: pixels are added on one side, until the lens's axis meets the middle of the
  picture; whole pixels, so that it lies within a quarter of one.
- *Fitted to one side*: a receiver that takes the gate's width (or height) and the picture's aspect
  gets a gate whose other side follows from both; where pixels aren't square, that side is another
  one, and by how much is said.

All lengths of the set, and the camera's places, are multiplied by the recipe's scale.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from aperture.camera import Camera
from aperture.formats.extras import Extras
from aperture.formats.lens_maps import lens_maps
from aperture.formats.recipe import Recipe
from aperture.geometry.grid import Grid
from aperture.scene.stand_in import StandIn

CENTRED_PX = 0.5  # so near the middle a lens's axis needs no pixels added


@dataclass(frozen=True)
class Added:
    """Pixels that a prepared camera's picture has more than the plate, on its four sides."""

    left: int = 0
    right: int = 0
    top: int = 0
    bottom: int = 0

    @property
    def any(self) -> bool:
        """Whether there are any."""
        return bool(self.left or self.right or self.top or self.bottom)


def prepared(camera: Camera, recipe: Recipe) -> Camera:
    """Return a camera as a recipe wants it.

    Raises Problem where its distortion is to be baked, and no straight picture holds the plate.
    """
    if recipe.distortion == "baked" and camera.lens.bends:
        camera = lens_maps(camera).plain
    if recipe.offsets == "baked":
        camera = _centred(camera)
    if recipe.fit != "both":
        camera = replace(camera, grid=_fitted(camera, recipe.fit))
    return scaled(camera, recipe.scale)


class Prepared:
    """Cameras as a recipe wants them, one after the other: what a lens's grid becomes is worked out
    once."""

    def __init__(self, recipe: Recipe) -> None:
        self.recipe = recipe
        self._of: tuple[object, Camera] | None = None

    def of(self, camera: Camera) -> Camera:
        """One of them. Raises Problem as `prepared` does."""
        if self._of is None or self._of[0] != camera.lens:
            self._of = (camera.lens, prepared(camera, self.recipe))
        made = self._of[1]
        pose = camera.world_from_camera
        return scaled(replace(made, world_from_camera=pose), self.recipe.scale)


def _centred(camera: Camera) -> Camera:
    grid = camera.grid
    x, y = camera.principal_point_px
    right, down = 2 * x - grid.width, 2 * y - grid.height
    added = [
        round(max(0.0, off)) if abs(off) > CENTRED_PX else 0 for off in (-right, right, -down, down)
    ]
    if not any(added):
        return camera
    return replace(camera, grid=grid.overscan(*added))


def _fitted(camera: Camera, side: str) -> Grid:
    """The grid with pixels that are square as seen, as wide or as high in millimetres as it was."""
    grid, (focal_x, focal_y) = camera.grid, camera.focal_px
    across, down = (1.0, focal_y / focal_x) if side == "width" else (focal_x / focal_y, 1.0)
    linear = np.asarray(grid.linear) * [across, down]
    middle = np.array(grid.centre_mm) - linear @ [grid.width / 2, grid.height / 2]
    rows = np.concatenate([linear, middle[:, None]], axis=1).tolist()
    return Grid(grid.width, grid.height, tuple(tuple(row) for row in rows))


def added(plate: Camera, made: Camera) -> Added:
    """How many pixels a prepared picture has more than the plate's, by where both grids begin."""
    corner = made.grid.to_px(plate.grid.to_mm([[0.0, 0.0]]))[0]
    left, top = (int(round(float(value))) for value in corner)
    return Added(
        left,
        made.grid.width - plate.grid.width - left,
        top,
        made.grid.height - plate.grid.height - top,
    )


def off_by_fit(camera: Camera, recipe: Recipe) -> float:
    """By how many px the picture's other edge lies off where its gate is fitted to one side."""
    if recipe.fit == "both":
        return 0.0
    focal_x, focal_y = camera.focal_px
    if recipe.fit == "width":
        return abs(focal_x / focal_y - 1) * camera.grid.height / 2
    return abs(focal_y / focal_x - 1) * camera.grid.width / 2


def scaled(camera: Camera, scale: float) -> Camera:
    """The camera in a set that is so many times as large."""
    if scale == 1:
        return camera
    pose = camera.world_from_camera.copy()
    pose[:3, 3] *= scale
    return replace(camera, world_from_camera=pose)


def scaled_set(items: Mapping[str, StandIn], scale: float) -> dict[str, StandIn]:
    """The stand-ins so many times as large."""
    if scale == 1:
        return dict(items)
    out = {}
    for name, item in items.items():
        (across, up, along), (x, y, z) = item.size, item.base
        size = (scale * across, scale * up, scale * along)
        way = item.way.scaled(scale) if item.way else None
        out[name] = replace(item, size=size, base=(scale * x, scale * y, scale * z), way=way)
    return out


def scaled_extras(extras: Extras, scale: float) -> Extras:
    """Points, spots and card so many times as far away."""
    if scale == 1:
        return extras
    return replace(
        extras,
        points=scale * np.asarray(extras.points),
        spots={name: scale * np.asarray(at, float) for name, at in extras.spots.items()},
        card=None if extras.card is None else scale * extras.card,
    )


def losses(recipe: Recipe, camera: Camera) -> list[str]:
    """Sentences about what of a recipe scene files can't take, and what fitting costs."""
    out = []
    if recipe.handedness == "left":
        out.append(
            "OpenUSD, glTF, COLLADA and Alembic are right-handed: only the text table follows the "
            "recipe’s left-handed axes."
        )
    if recipe.unit != "cm" and not math.isclose(recipe.scale, 1.0):
        out.append(
            "OpenUSD declares centimetres and glTF metres, whatever the recipe’s unit is; its"
            f" scale of {recipe.scale:g} applies to all of them."
        )
    px = off_by_fit(camera, recipe)
    if px > 0.01:
        out.append(
            f"Fitted to the gate’s {recipe.fit}, the other edges of the picture lie {px:.2f} px"
            " off, as its pixels aren’t square."
        )
    return out
