"""How far the plate's own edges lie from where the stand-ins' edges are seen: does the thing in the
picture stand where its stand-in does?"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.camera import Camera
from aperture.errors import Problem
from aperture.match.refine import refine_edge
from aperture.match.sampling import SEARCH_PX
from aperture.plates.film import Pictures
from aperture.plates.way_in import WayIn
from aperture.render.offsets import LEAST, Offsets, explained
from aperture.render.tracer import MISSED, Look, Scene
from aperture.scene.frustum import from_json
from aperture.scene.overlay import drawn_edges, runs
from aperture.scene.stand_in import StandIn

POINTS = 41  # along each edge, to tell where it is seen
# A longer stretch is measured in pieces, so that what bends or is covered in part does little harm.
PIECE_PX = 60.0
SHORTEST_PX = 24.0
MOST_MOVED_PX = 0.9 * SEARCH_PX


def measure(
    pixels: Array, camera: Camera, items: list[StandIn], which: list[int], transfer: str = "srgb"
) -> tuple[Offsets | None, int]:
    """Offsets of the plate's edges, to the right of how each stand-in's edge runs, and how many
    pieces had no edge in the picture.

    pixels: (H, W, 3), may be memory-mapped; `transfer`: their curve; `which`: indices of the
    stand-ins that are measured, the others only hide. None where too little was found.
    """
    scene, at, normals, off, refused = (
        Scene(camera, [(item, Look()) for item in items]),
        [],
        [],
        [],
        0,
    )
    for index in which:
        for piece in _pieces(scene, camera, items[index]):
            try:
                found = refine_edge(pixels, piece, transfer)
            except Problem:
                refused += 1
                continue
            along = (piece[1] - piece[0]) / np.linalg.norm(piece[1] - piece[0])
            normal = np.array([-along[1], along[0]])
            moved = (found.points[[0, -1]] - piece) @ normal
            if found.moved > MOST_MOVED_PX:
                refused += 1
                continue
            for share in (0.25, 0.75):
                at.append(piece[0] + share * (piece[1] - piece[0]))
                normals.append(normal)
                off.append((1 - share) * moved[0] + share * moved[1])
    if len(at) < LEAST:
        return None, refused
    return explained(
        np.array(at), np.array(normals), np.array(off), (camera.grid.height, camera.grid.width)
    ), refused


def measure_film(
    folder: Path,
    way: WayIn,
    cameras: dict[int, dict[str, Any]],
    items: list[StandIn],
    which: list[int],
    transfer: str,
    count: Path,
) -> dict[int, Offsets | None]:
    """`measure` on pictures of a film in its folder; None where too little was found, or the
    picture can't be read.

    cameras: of each picture's number its camera, as `frustum.to_json` has it. items: their ways go
    by those numbers too. count: a file that holds how many are done.
    """
    out: dict[int, Offsets | None] = {}

    def one(pictures: Pictures, number: int) -> Offsets | None:
        try:
            pixels, linear = pictures[number]
        except Problem:
            return None
        pixels = way.apply(pixels)
        own = "linear" if linear else transfer
        there = [item.at(number) for item in items]
        return measure(pixels, from_json(cameras[number]), there, which, own)[0]

    with Pictures(folder) as pictures:
        for done, number in enumerate(sorted(cameras)):
            count.write_text(str(done))
            out[number] = one(pictures, number)
    return out


def _pieces(scene: Scene, camera: Camera, item: StandIn) -> Iterator[Array]:
    """Stretches (2, 2) px of a stand-in's drawn edges that are seen, each nearly straight."""
    ends = drawn_edges(camera.position, item)
    share = np.linspace(0, 1, POINTS)[:, None]
    size = np.array([camera.grid.width, camera.grid.height])
    for start, end in ends:
        points = start * (1 - share) + end * share
        px = camera.project(points)
        with np.errstate(invalid="ignore"):
            inside = (
                np.isfinite(px).all(axis=1)
                & (px > SEARCH_PX).all(axis=1)
                & (px < size - SEARCH_PX).all(axis=1)
            )
        for run in runs(
            np.concatenate([px, points], axis=1), inside & _seen(scene, camera, points)
        ):
            length = np.concatenate(
                [[0], np.cumsum(np.linalg.norm(np.diff(run[:, :2], axis=0), axis=1))]
            )
            if length[-1] < SHORTEST_PX:
                continue
            # Near a corner other edges disturb: the ends are left out.
            stops = np.linspace(
                0.08 * length[-1], 0.92 * length[-1], max(1, round(length[-1] / PIECE_PX)) + 1
            )
            places = np.stack([np.interp(stops, length, run[:, axis]) for axis in range(2)], -1)
            yield from (
                pair
                for pair in np.stack([places[:-1], places[1:]], axis=1)
                if np.linalg.norm(pair[1] - pair[0]) > SHORTEST_PX * 0.8
            )


def _seen(scene: Scene, camera: Camera, points: Array) -> Array:
    """(N,) whether nothing stands before points on an edge; the edge's own faces may be met at
    once, or just missed."""
    away = points - camera.position
    distance = np.linalg.norm(away, axis=1)
    hits = scene.hit(away / distance[:, None])
    return (hits.item == MISSED) | (hits.distance > distance * (1 - 1e-3))
