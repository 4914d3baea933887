"""A render in passes: beauty, depth, position, normals, masks, occlusion, drawing, shadow and
reflection."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.lens.projections import Pieces
from aperture.render.blurred import Blurred, BlurredAround
from aperture.render.exposed import Blur, margin
from aperture.render.tracer import MIRROR, MISSED, Light, Look, Scene
from aperture.scene.overlay import CREASE, outline_points, wire
from aperture.scene.stand_in import StandIn

RAYS_A_BLOCK = 120_000  # what keeps the arrays of a block within the processor's reach
SHARP = {"shadow", "reflection", "lines"}  # soft passes that are made without blur
# What each pass is, for the page; beauty is always there.
PASSES = {
    "depth": "Depth, along the axis and by distance",
    "position": "World position",
    "normal": "Normals",
    "masks": "A mask for each stand-in, and as Cryptomatte",
    "occlusion": "Ambient occlusion",
    "lines": "Drawing of outlines and creases",
    "shadow": "Shadow on what is part of the plate",
    "reflection": "Reflection in what is part of the plate",
}


@dataclass(frozen=True)
class Wanted:
    """What is rendered, and how.

    samples × samples rays a pixel for what is softened at edges; occlusion_m: how far occlusion
    looks; region: left, top, right, bottom px. blur: the lens and the shutter of beauty and masks;
    every other pass is of the frame's own moment, and sharp.
    """

    passes: tuple[str, ...] = ()
    samples: int = 3
    occlusion_m: float = 1.0
    occlusion_rays: int = 16
    light: Light = field(default_factory=Light)
    region: tuple[int, int, int, int] | None = None
    blur: Blur | None = None


@dataclass(frozen=True, eq=False)
class Render:
    """Pictures (H, W[, C]) float32 by name. beauty: (H, W, 4) linear, premultiplied.

    depth (of a panorama the distance) and distance are inf, position and normal 0 where nothing is;
    shadow is the share of the light taken away; masks: (H, W, N), the share of each pixel that each
    stand-in covers, in the order of `names`.
    """

    layers: dict[str, Array]
    names: list[str]

    @property
    def rgba(self) -> Array:
        """The beauty."""
        return self.layers["beauty"]


def render(
    camera: Camera,
    items: list[tuple[StandIn, Look]],
    wanted: Wanted | None = None,
    plate: Any = None,
    plate_camera: Camera | None = None,
    progress: Callable[..., Any] | None = None,
) -> Render:
    """Render at the camera's grid size.

    `plate`: (H, W, 3) linear, as `plate_camera` saw it, for what wears it. `progress(done)` is
    called with 0 … 1 and may raise to stop.
    """
    wanted = wanted or Wanted()
    width, height, names = camera.grid.width, camera.grid.height, [look.name for _, look in items]
    layers = _empty(height, width, wanted.passes, len(items))
    stand_ins = [item for item, _ in items]
    reach = margin(camera, stand_ins, wanted.blur) if wanted.blur and stand_ins else 0
    rows, columns = _touched(camera, stand_ins, width, height, reach)
    if wanted.region:
        left, top, right, bottom = wanted.region
        rows, columns = (
            (max(rows[0], top), min(rows[1], bottom)),
            (max(columns[0], left), min(columns[1], right)),
        )
    if rows[1] <= rows[0] or columns[1] <= columns[0]:
        return Render(layers, names)
    scene = Scene(camera, items, wanted.light, plate, plate_camera)
    step = max(1, RAYS_A_BLOCK // ((columns[1] - columns[0]) * wanted.samples**2))

    blurred = None
    around = camera.lens.projection.wraps
    if wanted.blur or around:
        kind = BlurredAround if around else Blurred
        masks = "masks" in wanted.passes
        blurred = kind(scene, wanted.blur or Blur(), rows, columns, wanted.samples, masks)

    def block(top: int) -> None:
        here = (slice(top, min(top + step, rows[1])), slice(*columns))
        if blurred is None or SHARP & set(wanted.passes):
            _soft(scene, layers, here, wanted)
        if blurred is not None:
            beauty, masks = blurred.block(here[0].start, here[0].stop)
            layers["beauty"][here] = beauty
            if "masks" in wanted.passes:
                layers["masks"][here] = masks
        if {"depth", "position", "normal", "occlusion"} & set(wanted.passes):
            _hard(scene, layers, here, wanted)

    scene.ready()
    _in_threads(block, list(range(rows[0], rows[1], step)), progress)
    return Render(layers, names)


def _in_threads(
    block: Callable[[int], None], tops: list[int], progress: Callable[..., Any] | None
) -> None:
    """Render blocks by their first rows, on all cores: NumPy and embree work outside the
    interpreter's lock."""
    with ThreadPoolExecutor(os.cpu_count() or 1) as threads:
        running = [threads.submit(block, top) for top in tops]
        try:
            for number, one in enumerate(running, 1):
                one.result()
                if progress:
                    progress(number / len(tops))
        except BaseException:
            threads.shutdown(cancel_futures=True)
            raise


def first_met(camera: Camera, items: list[tuple[StandIn, Look]]) -> Array:
    """(H, W) int16: the index of the stand-in that is seen in the middle of each pixel, MISSED
    where none is."""
    scene = Scene(camera, items)
    rows, columns = _touched(
        camera, [item for item, _ in items], camera.grid.width, camera.grid.height
    )
    out = np.full((camera.grid.height, camera.grid.width), MISSED, np.int16)
    if rows[1] <= rows[0] or columns[1] <= columns[0]:
        return out

    def block(top: int) -> None:
        here = (top, min(top + step, rows[1]))
        directions = rays(camera, here, columns, 1)
        out[here[0] : here[1], columns[0] : columns[1]] = scene.hit(
            directions.reshape(-1, 3)
        ).item.reshape(directions.shape[:2])

    step = max(1, RAYS_A_BLOCK // (columns[1] - columns[0]))
    _shared(scene, block, range(rows[0], rows[1], step))
    return out


def coverage(camera: Camera, items: list[tuple[StandIn, Look]], samples: int = 4) -> Array:
    """(H, W) float32: the alpha that `render` gives, without its light. Only along edges more than
    one ray a pixel is asked for."""
    import cv2

    met, scene = first_met(camera, items), Scene(camera, items)
    out = ((met != MISSED) & ~np.append(scene.catches, True)[met]).astype(np.float32)
    kernel = np.ones((3, 3), np.uint8)
    near = cv2.dilate(out, kernel) != cv2.erode(out, kernel)
    lines = np.zeros(out.shape, np.uint8)  # what is thinner than a pixel may be met by no ray
    for item, _ in items:
        for piece in wire(camera, item):
            cv2.polylines(
                lines, [np.clip(np.round(piece - 0.5), -30000, 30000).astype(np.int32)], False, 1, 3
            )
    y, x = np.nonzero(near | lines.astype(bool))
    at, middle = np.stack([x, y], -1), (np.arange(samples) + 0.5) / samples
    offsets = np.stack(np.meshgrid(middle, middle), -1).reshape(-1, 2)

    def along(part: Any) -> None:
        hits = scene.hit(camera.rays((part[:, None, :] + offsets).reshape(-1, 2)))
        out[part[:, 1], part[:, 0]] = (
            (hits.met & ~scene.catches[np.maximum(hits.item, 0)])
            .reshape(len(part), -1)
            .mean(axis=1)
        )

    share = max(1, RAYS_A_BLOCK // samples**2)
    _shared(scene, along, [at[start : start + share] for start in range(0, len(at), share)])
    return out


def _shared(scene: Scene, work: Callable[..., Any], parts: Any) -> None:
    """Do `work` on each part, on all cores."""
    scene.ready()
    with ThreadPoolExecutor(os.cpu_count() or 1) as threads:
        list(threads.map(work, parts))


def _empty(height: int, width: int, passes: tuple[str, ...], count: int) -> dict[str, Array]:
    def blank(*channels: Any, value: float = 0.0) -> Array:
        return np.full((height, width, *channels), value, np.float32)

    out = {"beauty": blank(4)}
    if "depth" in passes:
        out |= {"depth": blank(value=np.inf), "distance": blank(value=np.inf)}
    for name, channels in (
        ("position", 3),
        ("normal", 3),
        ("lines", 2),
        ("shadow", 0),
        ("reflection", 4),
    ):
        if name in passes:
            out[name] = blank(*([channels] if channels else []))
    if "occlusion" in passes:
        out["occlusion"] = blank(value=1.0)
    if "masks" in passes:
        out["masks"] = blank(count)
    return out


def rays(camera: Camera, rows: tuple[int, int], columns: tuple[int, int], samples: int) -> Array:
    """(R · samples, C · samples, 3) unit world directions through the pixels' samples, evenly
    spaced.

    Where the lens bends, those within a pixel are interpolated between its corners: off by some
    1e-5 px.
    """
    offsets = (np.arange(samples) + 0.5) / samples
    parted = isinstance(
        camera.lens.projection, Pieces
    )  # between its pieces nothing is interpolated
    if samples == 1 or not camera.lens.bends or parted:
        xs, ys = (np.arange(*span)[:, None] + offsets for span in (columns, rows))
        return camera.rays(
            np.stack(np.meshgrid(xs.ravel(), ys.ravel()), -1).reshape(-1, 2)
        ).reshape(ys.size, xs.size, 3)
    corners = np.stack(
        np.meshgrid(np.arange(columns[0], columns[1] + 1), np.arange(rows[0], rows[1] + 1)), -1
    ).astype(float)
    at = camera.rays(corners.reshape(-1, 2)).reshape(*corners.shape[:2], 3)
    across = (
        at[:, :-1, None] * (1 - offsets[:, None]) + at[:, 1:, None] * offsets[:, None]
    )  # (R + 1, C, s, 3)
    across = across.reshape(len(at), -1, 3)
    out = (
        across[:-1, None] * (1 - offsets[:, None, None]) + across[1:, None] * offsets[:, None, None]
    ).reshape(-1, across.shape[1], 3)
    return out / np.linalg.norm(out, axis=2, keepdims=True)


def _soft(scene: Scene, layers: dict[str, Array], here: tuple[Any, Any], wanted: Wanted) -> None:
    """What is averaged over a pixel's samples."""
    rows, columns = (here[0].start, here[0].stop), (here[1].start, here[1].stop)
    s, high, wide = wanted.samples, rows[1] - rows[0], columns[1] - columns[0]
    directions = rays(scene.camera, rows, columns, s)
    shape = directions.shape[:2]
    directions = directions.reshape(-1, 3)
    hits = scene.hit(directions)

    def averaged(values: Array) -> Array:
        return values.reshape(high, s, wide, s, *values.shape[1:]).mean(axis=(1, 3))

    element = hits.met & ~scene.catches[np.maximum(hits.item, 0)] if len(scene.items) else hits.met
    which = np.flatnonzero(element)
    values = np.zeros((len(directions), 4), np.float32)
    values[which, :3], values[which, 3] = scene.shade(hits, which, directions), 1.0
    layers["beauty"][here] = averaged(values)
    if "masks" in wanted.passes:
        for index in range(len(scene.items)):
            layers["masks"][(*here, index)] = averaged((hits.item == index).astype(np.float32))
    parts = np.flatnonzero(hits.met & ~element)
    if "shadow" in wanted.passes and len(parts):
        open_ = scene.direct(hits, parts, by_parts=True)
        taken = np.zeros(len(directions), np.float32)
        taken[parts] = (open_ - np.minimum(scene.direct(hits, parts), open_)) / np.maximum(
            open_ + scene.sky(hits.normal[parts]), 1e-6
        )
        layers["shadow"][here] = averaged(taken)
    if "reflection" in wanted.passes and len(parts):
        mirrors = parts[
            np.array([look.material == "mirror" for look in scene.looks])[hits.item[parts]]
        ]
        colour, met = scene.reflected(hits, mirrors, directions)
        there = (met != MISSED) & ~scene.catches[np.maximum(met, 0)]
        values = np.zeros((len(directions), 4), np.float32)
        values[mirrors[there]] = np.concatenate(
            [MIRROR * colour[there], np.full((int(there.sum()), 1), MIRROR)], axis=1
        )
        layers["reflection"][here] = averaged(values)
    if "lines" in wanted.passes:
        drawn = _edges(hits.item.reshape(shape), hits.normal.reshape(*shape, 3), s)
        layers["lines"][here] = np.stack(
            [averaged(drawn.reshape(-1).astype(np.float32)), averaged(hits.met.astype(np.float32))],
            -1,
        )


def _edges(item: Any, normal: Any, samples: Any) -> Array:
    """(H, W) whether a sample lies on an outline or a crease, about one pixel wide."""
    edge = np.zeros(item.shape, bool)
    for axis in (0, 1):
        a: Any = tuple(slice(None, -1) if axis == k else slice(None) for k in (0, 1))
        b: Any = tuple(slice(1, None) if axis == k else slice(None) for k in (0, 1))
        apart = (item[a] != item[b]) | (np.einsum("ijk,ijk->ij", normal[a], normal[b]) < CREASE) & (
            item[a] != MISSED
        )
        for _ in range(max(1, samples // 2)):
            edge[a] |= apart
            edge[b] |= apart
    return edge


def _hard(scene: Any, layers: Any, here: Any, wanted: Any) -> None:
    """What would mean nothing if it were averaged: taken at the pixel's middle."""
    rows, columns = (here[0].start, here[0].stop), (here[1].start, here[1].stop)
    directions = rays(scene.camera, rows, columns, 1)
    shape = directions.shape[:2]
    directions = directions.reshape(-1, 3)
    hits = scene.hit(directions)
    which = np.flatnonzero(hits.met)
    if "depth" in wanted.passes:
        layers["distance"][here] = hits.distance.reshape(shape)
        along = np.full(len(directions), np.inf)
        axis = -(directions[which] @ scene.camera.rotation[:, 2])
        if scene.camera.lens.projection.around:  # there is no axis: depth is the distance
            axis = np.ones(len(which))
        along[which] = hits.distance[which] * axis
        layers["depth"][here] = along.reshape(shape)
    if "position" in wanted.passes:
        layers["position"][here] = np.where(
            hits.met[:, None], hits.point + scene.camera.position, 0
        ).reshape(*shape, 3)
    if "normal" in wanted.passes:
        layers["normal"][here] = hits.normal.reshape(*shape, 3)
    if "occlusion" in wanted.passes:
        open_ = np.ones(len(directions), np.float32)
        open_[which] = scene.occlusion(hits, which, wanted.occlusion_m, wanted.occlusion_rays)
        layers["occlusion"][here] = open_.reshape(shape)


def _touched(
    camera: Camera, stand_ins: list[StandIn], width: int, height: int, reach: int = 0
) -> tuple[tuple[int, int], tuple[int, int]]:
    """Pixel rows and columns that the stand-ins can reach, `reach` px beyond their outlines;
    everything where a corner isn't imaged."""
    if not stand_ins:
        return (0, 0), (0, 0)
    corners = np.concatenate([item.bounds() for item in stand_ins])
    points = camera.project(np.concatenate([outline_points(item) for item in stand_ins]))
    if (camera.to_camera_space(corners)[:, 2] > -1e-3).any() or not np.isfinite(points).all():
        return (0, height), (0, width)
    low, high = (
        np.floor(points.min(axis=0)).astype(int) - 3 - reach,
        np.ceil(points.max(axis=0)).astype(int) + 3 + reach,
    )
    return tuple(np.clip([low[1], high[1]], 0, height)), tuple(np.clip([low[0], high[0]], 0, width))
