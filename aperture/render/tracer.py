"""Rays against stand-ins: where they meet, and how bright it is there. Shading is simple and
honest: no tricks to look better.

Everything is measured from the camera, so that embree's single precision is spent near it; where a
ray meets a plane is worked out again in double precision.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.scene.stand_in import StandIn

ALBEDO = 0.6
DARK = 0.12  # the dark squares of a checker
MIRROR = 0.9
MISSED = -1


@dataclass(frozen=True)
class Look:
    """How one stand-in is rendered. material: matte, mirror, plate or checker; part_of_plate: it is
    in the plate already, and only catches."""

    name: str = ""
    material: str = "matte"
    checker_m: float = 0.25
    part_of_plate: bool = False


@dataclass(frozen=True)
class Light:
    """The sun, an even sky and one square lamp. Angles in degrees: the sun's bearing from along
    toward across, and its height.

    Strengths are of the light that a white surface facing it would send back.
    """

    sun_bearing: float = 45.0
    sun_height: float = 50.0
    sun: float = 0.8
    # Degrees across, as from the earth (Allen's Astrophysical Quantities; cited from memory).
    sun_size: float = 0.53
    ambient: float = 0.35
    lamp: float = 0.0  # at 1 m
    lamp_at: tuple[float, float, float] = (0.0, 2.5, 0.0)
    lamp_m: float = 0.5
    shadow_rays: int = 1

    @property
    def toward_sun(self) -> Array:
        """(3,) unit."""
        bearing, height = np.radians([self.sun_bearing, self.sun_height])
        return np.array(
            [np.cos(height) * np.sin(bearing), np.sin(height), np.cos(height) * np.cos(bearing)]
        )


@dataclass(frozen=True, eq=False)
class Hits:
    """Where rays met: item (N,) index or MISSED; triangle (N,) index over all; distance (N,)
    metres; point, normal (N, 3), facing the ray."""

    item: Array
    triangle: Array
    distance: Array
    point: Array
    normal: Array

    @property
    def met(self) -> Array:
        """(N,) whether there is anything."""
        return self.item != MISSED


class Scene:
    """Stand-ins with their looks, seen from a camera. `plate`: (H, W, 3) linear, as `plate_camera`
    saw it, for what wears the plate.

    `back`: turns (I, 3, 3) and shifts (I, 3) that bring each stand-in, measured from the camera, to
    where it is on the plate; None: it is there.
    """

    def __init__(
        self,
        camera: Camera,
        items: list[tuple[StandIn, Look]],
        light: Light | None = None,
        plate: Any = None,
        plate_camera: Camera | None = None,
        back: tuple[Array, Array] | None = None,
    ) -> None:
        self.back = back
        self.camera, self.items, self.light, self.plate, self.plate_camera = (
            camera,
            items,
            light or Light(),
            plate,
            plate_camera or camera,
        )
        corners = [item.vertices() - camera.position for item, _ in items]
        self.corners = [
            vertices[item.solid.triangles] for vertices, (item, _) in zip(corners, items)
        ]
        every = np.concatenate(self.corners) if items else np.zeros((0, 3, 3))
        normals = np.cross(every[:, 1] - every[:, 0], every[:, 2] - every[:, 0])
        self.normals = normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-300)
        self.offsets = _dot(every[:, 0], self.normals)
        self.starts = np.cumsum([0, *(len(triangles) for triangles in self.corners)])
        self.looks = [look for _, look in items]
        self.catches = np.array([look.part_of_plate for look in self.looks], bool)
        self.reach = float(np.abs(every).max(initial=1.0))

    def _embree(self, which: Any) -> tuple[Any, ...]:
        from embreex.mesh_construction import TriangleMesh
        from embreex.rtcore_scene import EmbreeScene

        scene = EmbreeScene()
        return (
            scene,
            [TriangleMesh(scene, self.corners[index].astype(np.float32)) for index in which],
            np.array(which, int),
        )

    @cached_property
    def _all(self) -> tuple[Any, ...]:
        return self._embree(range(len(self.items)))

    @cached_property
    def _parts(self) -> tuple[Any, list[Any], Array]:
        return self._embree(np.flatnonzero(self.catches).tolist())

    def ready(self) -> None:
        """Build what rays are asked of, before several threads ask."""
        for scene, meshes, _ in (self._all, self._parts):
            if meshes:
                scene.run(np.zeros((1, 3), np.float32), np.ones((1, 3), np.float32))

    def hit(self, directions: Array, origins: Any = None) -> Hits:
        """What rays (N, 3), from the camera or from `origins` (N, 3) measured from it, meet
        first."""
        n = len(directions)
        scene, meshes, _ = self._all
        item, triangle = np.full(n, MISSED, np.int32), np.zeros(n, np.int32)
        seen = np.isfinite(directions[:, 0])
        if meshes and seen.all():
            item, prim = self._run(scene, directions, origins)
        elif meshes and seen.any():
            prim = np.zeros(n, np.int32)
            item[seen], prim[seen] = self._run(
                scene, directions[seen], None if origins is None else origins[seen]
            )
        met = np.flatnonzero(item != MISSED)
        distance, point, normal = np.full(n, np.inf), np.full((n, 3), np.nan), np.zeros((n, 3))
        if len(met):
            triangle[met] = which = self.starts[item[met]] + prim[met]
            flat, ray = self.normals.take(which, axis=0), directions.take(met, axis=0)
            facing, along = _dot(ray, flat), self.offsets[which]
            if origins is not None:
                start = origins.take(met, axis=0)
                along -= _dot(start, flat)
            along /= facing
            flat *= -np.sign(facing)[:, None]
            ray *= along[:, None]
            distance[met], point[met], normal[met] = (
                along,
                ray if origins is None else start + ray,
                flat,
            )
        return Hits(item, triangle, distance, point, normal)

    @staticmethod
    def _run(scene: Any, directions: Array, origins: Any) -> tuple[Array, Array]:
        starts = (
            np.zeros((len(directions), 3), np.float32)
            if origins is None
            else origins.astype(np.float32)
        )
        found = scene.run(starts, directions.astype(np.float32), output=1)
        return found["geomID"], found["primID"]

    def first(self, directions: Array, origins: Array) -> tuple[Array, Array]:
        """Items (N,), MISSED where there is none, and primitives (N,), of rays in single
        precision."""
        scene, meshes, _ = self._all
        if not meshes:
            return np.full(len(directions), MISSED, np.int32), np.zeros(len(directions), np.int32)
        found = scene.run(origins, directions, output=1)
        return found["geomID"], found["primID"]

    def blocked(
        self, points: Array, directions: Array, reach: Any = None, by_parts: bool = False
    ) -> Array:
        """(N,) whether anything (or only what is part of the plate) lies that way from the points;
        within `reach` (N,) metres where given."""
        scene, meshes, _ = self._parts if by_parts else self._all
        if not meshes or not len(points):
            return np.zeros(len(points), bool)
        far = None if reach is None else np.broadcast_to(reach, len(points)).astype(np.float32)
        return (
            scene.run(
                points.astype(np.float32),
                directions.astype(np.float32),
                dists=far,
                query="OCCLUDED",
            )
            != -1
        )

    def lifted(self, hits: Hits, which: Array) -> Array:
        """The points of some hits, off their faces by enough that rays from them don't meet the
        face itself."""
        points = hits.point[which]
        away = 4e-6 * np.maximum(np.sqrt(_dot(points, points)), 1e-3 * self.reach) + 1e-6
        return points + hits.normal[which] * away[:, None]

    def direct(self, hits: Hits, which: Array, by_parts: bool = False) -> Array:
        """(K,) what sun and lamp give at some hits (indices), shadows included."""
        light, points, normals = self.light, self.lifted(hits, which), hits.normal[which]
        total, rays = np.zeros(len(which)), max(light.shadow_rays, 1)
        for number in range(rays):
            soft = rays > 1 or light.lamp > 0
            aside = _disc(number, rays, len(which)) if soft else np.zeros((len(which), 2))
            if light.sun > 0 and rays == 1:
                way = light.toward_sun
                facing = (normals @ way).clip(0)
                lit = np.flatnonzero(facing)
                facing[lit] *= ~self.blocked(
                    points[lit], np.broadcast_to(way, (len(lit), 3)), by_parts=by_parts
                )
                total += light.sun * facing
            elif light.sun > 0:
                toward = light.toward_sun
                side = np.cross(toward, [0.0, 1.0, 0.0] if abs(toward[1]) < 0.9 else [1.0, 0, 0])
                side /= np.linalg.norm(side)
                spread = np.tan(np.radians(light.sun_size / 2))
                way = toward + spread * (
                    aside[:, :1] * side + aside[:, 1:] * np.cross(side, toward)
                )
                way /= np.sqrt(_dot(way, way))[:, None]
                facing = _dot(normals, way).clip(0)
                faces = facing > 0
                facing[faces] *= ~self.blocked(points[faces], way[faces], by_parts=by_parts)
                total += light.sun * facing / rays
            if light.lamp > 0:
                at = (
                    np.array(light.lamp_at)
                    - self.camera.position
                    + np.stack([aside[:, 0], np.zeros(len(which)), aside[:, 1]], -1)
                    * light.lamp_m
                    / 2
                )
                way = at - points
                apart = np.linalg.norm(way, axis=1)
                way /= apart[:, None]
                facing = _dot(normals, way).clip(0) / np.maximum(apart, 1e-3) ** 2
                lit = facing > 0
                facing[lit] *= ~self.blocked(
                    points[lit], way[lit], apart[lit] * (1 - 1e-4), by_parts=by_parts
                )
                total += light.lamp * facing / rays
        return total

    def sky(self, normals: Array) -> Array:
        """(K,) what the even sky gives: all of it from above, half as much to what faces the
        floor."""
        return self.light.ambient * (0.75 + 0.25 * normals[:, 1])

    def shade(self, hits: Hits, which: Array, directions: Array, bounces: int = 1) -> Array:
        """(K, 3) linear light that some hits (indices) send back along their rays (N, 3)."""
        out = np.zeros((len(which), 3))
        kinds = np.array([look.material for look in self.looks])[hits.item[which]]
        soft = np.isin(kinds, ("matte", "checker"))
        if soft.any():
            chosen = which[soft]
            light = self.sky(hits.normal[chosen]) + self.direct(hits, chosen)
            out[soft] = (self._albedo(hits, chosen) * light)[:, None]
        worn = kinds == "plate"
        if worn.any():
            chosen = which[worn]
            points = hits.point[chosen]
            if self.back is not None:
                turns, shifts = (part[hits.item[chosen]] for part in self.back)
                points = np.einsum("nij,nj->ni", turns, points) + shifts
            out[worn] = self._worn(points)
        mirror = kinds == "mirror"
        if mirror.any():
            chosen = which[mirror]
            out[mirror] = MIRROR * self.reflected(hits, chosen, directions, bounces)[0]
        return out

    def reflected(
        self, hits: Hits, which: Any, directions: Any, bounces: int = 1
    ) -> tuple[Array, Array]:
        """(K, 3) what some hits would reflect as mirrors, the sky where nothing is there; (K,) the
        item met."""
        normals, rays = hits.normal[which], directions[which]
        away = rays - 2 * _dot(rays, normals)[:, None] * normals
        out = np.repeat((self.light.ambient * (0.75 + 0.25 * away[:, 1]))[:, None], 3, axis=1)
        again = self.hit(away, self.lifted(hits, which))
        if bounces > 0:
            met = np.flatnonzero(again.met)
            out[met] = self.shade(again, met, away, bounces - 1)
        return out, again.item

    def occlusion(self, hits: Hits, which: Any, reach: float, rays: int = 16) -> Array:
        """(K,) the share of the sky, weighted by the cosine, that is open within `reach` metres at
        some hits."""
        points, normals = self.lifted(hits, which), hits.normal[which]
        helper = np.where(np.abs(normals[:, 1:2]) < 0.9, [[0.0, 1.0, 0.0]], [[1.0, 0.0, 0.0]])
        side = np.cross(normals, helper)
        side /= np.linalg.norm(side, axis=1, keepdims=True)
        other, closed = np.cross(normals, side), np.zeros(len(which))
        for number in range(rays):
            a, b = _disc(
                number, rays, len(which)
            ).T  # points of a disc, lifted onto the half sphere: Malley's method
            way = (
                a[:, None] * side
                + b[:, None] * other
                + np.sqrt((1 - a * a - b * b).clip(0))[:, None] * normals
            )
            closed += self.blocked(points, way, reach)
        return 1 - closed / rays

    def _albedo(self, hits: Hits, which: Array) -> Array:
        out = np.full(len(which), ALBEDO)
        for index, look in enumerate(self.looks):
            mine = hits.item[which] == index
            if look.material == "checker" and mine.any():
                item = self.items[index][0]
                local = (hits.point[which[mine]] + self.camera.position - item.base) @ item.rotation
                # A face's own normal leaves the square's side open along it: shift a little inward
                # so that it doesn't flicker.
                local -= 1e-6 * (hits.normal[which[mine]] @ item.rotation)
                dark = np.floor(local / look.checker_m).astype(int).sum(axis=1) % 2 == 1
                out[mine] = np.where(dark, DARK, ALBEDO)
        return out

    def _worn(self, points: Any) -> Array:
        """(K, 3) the plate where points, measured from the camera, are seen on it; mid-grey
        outside."""
        import cv2

        if self.plate is None:
            return np.full((len(points), 3), 0.18)
        at, grid = self.plate_camera.project(points + self.camera.position), self.plate_camera.grid
        high, wide = self.plate.shape[:2]
        inside = (
            np.isfinite(at).all(axis=1)
            & (at >= 0).all(axis=1)
            & (at <= (grid.width, grid.height)).all(axis=1)
        )
        out = np.full((len(points), 3), 0.18)
        where = (at[inside] * (wide / grid.width, high / grid.height) - 0.5).astype(np.float32)
        step = 30_000  # cv2.remap takes pictures of fewer than 32,768 rows
        parts = [
            cv2.remap(
                self.plate,
                part[:, None, 0].copy(),
                part[:, None, 1].copy(),
                cv2.INTER_LINEAR,
                borderMode=cv2.BORDER_REPLICATE,
            )[:, 0]
            for part in (where[start : start + step] for start in range(0, len(where), step))
        ]
        if parts:
            out[inside] = np.concatenate(parts)
        return out


def _dot(a: Array, b: Array) -> Array:
    """(N,) products row by row."""
    return np.einsum("ij,ij->i", a, b)


def _disc(number: int, rays: int, count: int) -> Array:
    """(count, 2) points of the unit disc, the `number`-th of `rays` for each; turned from one to
    the next, always the same ones.

    Vogel's spiral (1979), "A better way to construct the sunflower head"; cited from memory.
    """
    radius = np.sqrt((number + 0.5) / rays)
    angle = number * 2.399963229728653 + np.arange(count) * 3.883222077450933
    return radius * np.stack([np.cos(angle), np.sin(angle)], -1)
