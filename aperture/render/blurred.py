"""Renders as a lens and a shutter make them: depth of field with the blur's shape, motion blur,
exposure. The picture is the mean of the rays of `exposed`."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.lens.projections import named
from aperture.light.focus import ThinLens
from aperture.render import lens_rays
from aperture.render.exposed import PLACES, Blur, longest_way, moments_of, moving, span, tables
from aperture.render.tracer import MISSED, Look, Scene
from aperture.scene.stand_in import StandIn
from aperture.stereo.around import radius

# What moves by itself is placed anew for each half px of its way, so often at most; and no more
# triangles are laid out for that than so many.
MOST_PLACED, MOST_TRIANGLES = 64, 4_000_000
MATERIALS = {"matte": lens_rays.MATTE, "checker": lens_rays.CHECKER}


@dataclass(frozen=True, eq=False)
class Placed:
    """A scene as it stands at one of the moments of an exposure."""

    scene: Scene
    faces: tuple[Array, ...]
    back: Array  # (I, 3, 3) and (I, 3): what brings each stand-in back to where it is on the frame
    shift: Array


def _faces(scene: Scene) -> tuple[Array, ...]:
    return scene.starts, scene.normals, scene.offsets, scene.catches


def _placed(scene: Scene, moment: float) -> Placed:
    """The scene at a moment; measured from the same camera."""
    items = [(item.at(moment), look) for item, look in scene.items]
    eye = np.eye(4)
    eye[:3, 3] = scene.camera.position
    back = np.array(
        [
            np.linalg.inv(eye) @ now.pose @ np.linalg.inv(item.pose) @ eye
            for (now, _), (item, _) in zip(scene.items, items)
        ]
    )
    turns, shifts = back[:, :3, :3].copy(), back[:, :3, 3].copy()
    plate = (scene.plate, scene.plate_camera)
    then = Scene(scene.camera, items, scene.light, *plate, (turns, shifts))
    then.ready()
    return Placed(then, _faces(then), turns, shifts)


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
        items = [item for item, _ in scene.items]
        self.moving = moving(items, blur)
        self.tables = self._lay_out()
        self.over_time = self._over_time() if self.moving else []
        materials = [look.material for look in scene.looks]
        light = scene.light
        self.simple = light.shadow_rays == 1 and light.lamp == 0
        self.others = np.array([name not in MATERIALS for name in materials], bool)
        self.faces = _faces(scene)
        self.looks = (
            np.array([MATERIALS.get(name, lens_rays.OTHER) for name in materials], np.int64),
            np.array([look.checker_m for look in scene.looks], float),
            np.array([item.base - scene.camera.position for item, _ in scene.items], float),
            np.array([item.rotation for item, _ in scene.items], float),
        )

    def _lay_out(self) -> Any:
        """What the compiled rays are made of."""
        return tables(self.scene.camera, self.blur, self.rows, self.columns, bool(self.moving))

    def _over_time(self) -> list[Placed]:
        """The scene at moments from the first that is exposed to the last."""
        items = [self.scene.items[index][0] for index in self.moving]
        longest = min(longest_way(self.scene.camera, items, self.blur), 1e6)
        room = MOST_TRIANGLES // max(len(self.scene.normals), 1)
        count = int(np.clip(math.ceil(2 * longest), 8, max(4, min(MOST_PLACED, room))))
        moments = self.blur.frame + np.linspace(*span(self.blur.shutter), count)
        return [_placed(self.scene, moment) for moment in moments.tolist()]

    def block(self, top: int, bottom: int) -> tuple[Array, Array]:
        """(rows, columns, 4) the beauty of some rows, and (rows, columns, items) the masks."""
        many = (bottom - top, self.columns[1] - self.columns[0])
        count = many[0] * many[1] * self.side**2
        rays = (
            np.empty((count, 3), np.float32),
            np.empty((count, 3), np.float32),
            np.empty(count, np.float32),
            np.empty(count, np.float32),
        )
        self._make_rays(top, bottom, rays)
        pixels = many[0] * many[1]
        beauty = np.zeros((pixels, 4), np.float32)
        masks = np.zeros((pixels, len(self.scene.items) if self.with_masks else 0), np.float32)
        shared = self._shared(rays[3])
        (self._plainly if self.simple else self._fully)(rays[:3], shared, beauty, masks)
        return beauty.reshape(*many, 4), masks.reshape(*many, -1)

    def _make_rays(self, top: int, bottom: int, rays: tuple[Array, ...]) -> None:
        """Fill the origins, directions, weights and moments of the rays of some rows."""
        own = self.tables
        first = top - self.rows[0]
        lens_rays.make_rays(
            own.corners[first : first + bottom - top + 1],
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

    def _shared(self, moments: Array) -> list[tuple[Placed, Array]]:
        """The scene at its moments, with the rays (K,) that see it then; nothing where it stands
        still."""
        if not self.over_time:
            return []
        (least, most), last = span(self.blur.shutter), len(self.over_time) - 1
        nearest = np.rint((moments - least) / (most - least) * last).astype(int).clip(0, last)
        order = np.argsort(nearest, kind="stable")
        ends = np.searchsorted(nearest[order], np.arange(last + 2))
        parts = [order[first:end] for first, end in zip(ends, ends[1:])]
        return [(placed, part) for placed, part in zip(self.over_time, parts) if len(part)]

    def _plainly(
        self,
        rays: tuple[Array, ...],
        shared: list[tuple[Placed, Array]],
        beauty: Array,
        masks: Array,
    ) -> None:
        """By the compiled shading: matte and checkers under a sharp sun."""
        scene = self.scene
        if shared:
            met, seen = self._met_over_time(rays, shared)
        else:
            met, seen = self._met(scene, self.faces, rays)
        light = (scene.light.sun, scene.light.ambient, 2.0**self.blur.stops)
        if self.others.any():
            self._add_others(met[0], rays, shared, beauty)
        self._bring_along(met[0], rays, shared)
        lens_rays.shade(met, rays, self.faces, seen, self.looks, light, (beauty, masks))

    def _add_others(
        self,
        items: Array,
        rays: tuple[Array, ...],
        shared: list[tuple[Placed, Array]],
        beauty: Array,
    ) -> None:
        """What mirrors and what wears the plate send back, by the scene's own shading."""
        wanted = (items != MISSED) & self.others[items] & ~self.scene.catches[items]
        pixel = np.arange(len(items)) // self.side**2
        whole = [(self.scene, np.flatnonzero(wanted))]
        parts = [(placed.scene, part[wanted[part]]) for placed, part in shared]
        for scene, part in parts or whole:
            if not len(part):
                continue
            origins, directions, weights = (each[part].astype(float) for each in rays)
            hits = scene.hit(directions, origins)
            which = np.flatnonzero(hits.met)
            light = scene.shade(hits, which, directions) * weights[which, None]
            for channel in range(3):
                sums = np.bincount(pixel[part[which]], light[:, channel], len(beauty))
                beauty[:, channel] += 2.0**self.blur.stops * sums

    def _met(
        self, scene: Scene, faces: tuple[Array, ...], rays: tuple[Array, ...]
    ) -> tuple[tuple[Array, Array], tuple[Array, ...]]:
        """What rays meet first, and what `lens_rays.shade` wants to know of it."""
        count = len(rays[2])
        met = scene.first(rays[1], rays[0])
        seen = tuple(np.zeros(count, np.float32) for _ in range(3))
        points, which = np.empty((count, 3), np.float32), np.empty(count, np.int32)
        sun = scene.light.toward_sun
        listed = lens_rays.toward_sun(met, rays, faces, sun, scene.reach, (points, which, *seen))
        if listed and scene.light.sun > 0:
            ways = np.broadcast_to(sun.astype(np.float32), (listed, 3)).copy()
            dark = scene.blocked(points[:listed], ways)
            seen[2][which[:listed][dark]] = 0
        return met, seen

    def _met_over_time(
        self, rays: tuple[Array, ...], shared: list[tuple[Placed, Array]]
    ) -> tuple[tuple[Array, Array], tuple[Array, ...]]:
        """The same of a scene that moves."""
        count = len(rays[2])
        met = (np.empty(count, np.int32), np.empty(count, np.int32))
        seen = tuple(np.empty(count, np.float32) for _ in range(3))
        for placed, part in shared:
            own = tuple(each[part] for each in rays)
            found, told = self._met(placed.scene, placed.faces, own)
            for whole, piece in zip((*met, *seen), (*found, *told)):
                whole[part] = piece
        return met, seen

    def _bring_along(
        self, items: Array, rays: tuple[Array, ...], shared: list[tuple[Placed, Array]]
    ) -> None:
        """Take the rays that meet what moves to where it is on the frame, so that its checkers lie
        there."""
        for placed, part in shared:
            for index in self.moving:
                mine = part[items[part] == index]
                turn, shift = placed.back[index], placed.shift[index]
                rays[0][mine] = rays[0][mine] @ turn.T + shift
                rays[1][mine] = rays[1][mine] @ turn.T

    def _fully(
        self,
        rays: tuple[Array, ...],
        shared: list[tuple[Placed, Array]],
        beauty: Array,
        masks: Array,
    ) -> None:
        """By the scene's own shading: mirrors, what wears the plate, lamps and soft shadows."""
        origins, directions, weights = (each.astype(float) for each in rays)
        each = (len(beauty), self.side**2)
        values = np.zeros((len(weights), 4), np.float32)
        items = np.empty(len(weights), np.int32)
        whole = np.arange(len(weights))
        for scene, part in [(placed.scene, part) for placed, part in shared] or [
            (self.scene, whole)
        ]:
            hits = scene.hit(directions[part], origins[part])
            items[part] = hits.item
            element = hits.met & ~scene.catches[np.maximum(hits.item, 0)]
            which = np.flatnonzero(element)
            light = scene.shade(hits, which, directions[part])
            values[part[which], :3] = 2.0**self.blur.stops * light
            values[part[which], 3] = 1.0
        weighted = values * weights[:, None]
        beauty[:] = weighted.reshape(*each, 4).sum(axis=1)
        for index in range(masks.shape[1]):
            mine = (items == index) * weights
            masks[:, index] = mine.reshape(each).sum(axis=1)


class BlurredAround(Blurred):
    """The same of a panorama: with a shutter, but without depth of field, which has no one plane
    there.

    Raises Problem where a lens is wanted.
    """

    def _lay_out(self) -> Any:
        if self.blur.lens is not None:
            raise Problem(
                "Depth of field is drawn for pictures that see less than 180°; a panorama is"
                " focused by its views: see “ordinary views” on the Elements step."
            )
        return moments_of(self.scene.camera, self.blur, bool(self.moving))

    def _make_rays(self, top: int, bottom: int, rays: tuple[Array, ...]) -> None:
        camera, side = self.scene.camera, self.side
        within = (np.arange(side) + 0.5) / side
        x = (np.arange(*self.columns)[:, None] + within).ravel()
        y = (np.arange(top, bottom)[:, None] + within).ravel()
        turn = (x - camera.principal_point_px[0]) / camera.focal_px[0]
        middle = np.full_like(y, camera.principal_point_px[0])
        down = camera.lens.rays(camera.grid.to_mm(np.stack([middle, y], -1)))
        moments, times = self.tables
        latitude = np.arctan2(down[:, 1], -down[:, 2])
        lens_rays.make_rays_around(
            np.stack([np.sin(turn), np.cos(turn)], -1),
            np.stack([-down[:, 2], down[:, 1]], -1),
            np.sign(self.blur.aside_m) * radius(2 * abs(self.blur.aside_m), latitude),
            (top, self.columns[0]),
            side,
            moments,
            times,
            rays,
        )


def compile_all() -> None:
    """Compile what is compiled, by a picture of a few pixels: it is kept on disk."""
    camera = Camera.at(Grid.from_gate(4, 4, 36.0, 36.0), Lens(35.0), (0.0, 1.0, 2.0))
    scene = Scene(camera, [(StandIn((4.0, 2.0, 1.0), (0.0, 0.0, 0.0)), Look("box", "checker"))])
    for lens in (None, ThinLens(35.0, 2.0, 2.0)):
        Blurred(scene, Blur(lens), (0, 4), (0, 4), 2, True).block(0, 4)
    around = Camera.at(
        Grid.from_gate(8, 4, math.tau, math.pi),
        Lens(1.0, projection=named("equirectangular")),
        (0, 1, 2),
    )
    scene = Scene(around, scene.items)
    BlurredAround(scene, Blur(), (0, 4), (0, 8), 2, True).block(0, 4)
