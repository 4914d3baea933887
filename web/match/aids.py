"""Aids for the eye over the plate: grids on walls, a person, a cube, a room, how far the floor can
be trusted.

What is shown is the page's `Wish`, which it sends with every question; the answer is paths and
labels.
"""

from typing import Annotated

import msgspec
import numpy as np

from aperture.scene import aids
from aperture.units import METRES
from web.match.overlay import label, path_of, spacing_for
from web.shows.reading import Metres

MOST = 12
MAP_ACROSS = 7

OnFloor = tuple[Metres, Metres]  # x, z
Several = Annotated[tuple[OnFloor, ...], msgspec.Meta(max_length=MOST)]


class Room(msgspec.Struct, frozen=True):
    """A room on the floor between two opposite corners (x, z)."""

    start: OnFloor = msgspec.field(name="from")
    end: OnFloor = msgspec.field(name="to")
    height: Metres


class Wish(msgspec.Struct, frozen=True):
    """The aids that the page shows; `figures` and `cubes` by where they stand on the floor."""

    walls: bool = False
    map: bool = False
    figures: Several = ()
    cubes: Several = ()
    room: Room | None = None


def draw(camera, fit, wanted: Wish, show, reach_of) -> dict:
    """{"paths", "labels"} for a camera with a place in the world; empty without one.

    reach_of: gives the camera's `Reach` or `FrameReach`, or None where nothing is known of its ±;
    asked only if the map is wished for.
    """
    paths, labels = [], []
    if camera is None or None in fit["camera"]["position_m"]:
        return {"paths": paths, "labels": labels}
    scaled = fit["determined"]["scale"] != "no"
    unit = METRES[show.length_unit] if scaled else 1.0
    if wanted.walls:
        spacing = spacing_for(camera, unit)
        paths += [
            {"class": "wall", "d": path_of(aids.wall_grid(camera, axis, 0.0, spacing))}
            for axis in (0, 2)
        ]
    if scaled:
        for places, make, size in (
            (wanted.figures, aids.figure, aids.FIGURE_M),
            (wanted.cubes, aids.cube, aids.CUBE_M),
        ):
            for x, z in places:
                pieces = make(camera, (x, 0.0, z))
                if pieces:
                    paths.append({"class": "aid", "d": path_of(pieces)})
                    labels.append(label(pieces[0][0], show.length(size, places=2)[0], "grid"))
    if room := wanted.room:
        pieces = aids.room(camera, room.start, room.end, room.height)
        if pieces:
            paths.append({"class": "aid room", "d": path_of(pieces)})
            across, along = (abs(b - a) for a, b in zip(room.start, room.end))
            told = (
                " × ".join(
                    show.length(value, places=2)[0] for value in (across, along, room.height)
                )
                if scaled
                else "size unknown"
            )
            labels.append(label(pieces[-1][-1], told, "grid"))
    if wanted.map and scaled and (reach := reach_of()) is not None:
        more = floor_map(camera, reach, show)
        paths, labels = paths + more["paths"], labels + more["labels"]
    return {"paths": paths, "labels": labels}


def floor_map(camera, reach, show) -> dict:
    """Over a raster of the plate: how far the floor's point that is seen there may be off, in px as
    a circle's radius × 10 and in words with cm."""
    width, height = camera.grid.width, camera.grid.height
    step = width / MAP_ACROSS
    x, y = np.meshgrid((np.arange(MAP_ACROSS) + 0.5) * step, np.arange(step / 2, height, step))
    pixels = np.stack([x.ravel(), y.ravel()], -1)
    found = reach.on_floor(pixels)
    paths, labels = [], []
    for at, px, metres in zip(pixels, found["px"], found["metres"]):
        if not np.isfinite(px) or metres > 1000:
            continue
        r = min(px * 10, step * 0.45)
        paths.append(
            {
                "class": "trust",
                "d": (
                    f"M{at[0] - r:.1f} {at[1]:.1f}a{r:.1f} {r:.1f} 0 1 0 {2 * r:.1f} 0a{r:.1f}"
                    f" {r:.1f} 0 1 0 {-2 * r:.1f} 0"
                ),
            }
        )
        value = f"{metres * 100:.1f} cm" if metres < 1 else f"{metres:.1f} m"
        if show.length_unit in ("ft", "in"):
            value = show.length(metres)[0]
        labels += [label(at, f"{px:.1f} px", "trust"), label(at, value, "trust below")]
    return {"paths": paths, "labels": labels}
