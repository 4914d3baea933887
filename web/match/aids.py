"""Aids for the eye over the plate: grids on walls, a person, a cube, a room, how far the floor can be trusted. As paths and labels for the page.

What is shown is the page's wish, sent with each question: {"walls": bool, "figures": [[x, z]], "cubes": [[x, z]], "room": {…}, "map": bool}.
"""

import numpy as np

from aperture.errors import Problem
from aperture.match.reach import Reach
from aperture.match.solve import find
from aperture.scene import aids
from aperture.units import METRES
from web.match.overlay import label, path_of, spacing_for

MOST = 12
MAP_ACROSS = 7


def wanted_from(data) -> dict:
    """The wish, checked. Raises Problem."""
    data = data if isinstance(data, dict) else {}
    try:
        out = {"walls": bool(data.get("walls")), "map": bool(data.get("map"))}
        for key in ("figures", "cubes"):
            out[key] = [(float(x), float(z)) for x, z in list(data.get(key) or [])[:MOST]]
        room = data.get("room")
        out["room"] = (
            None
            if not room
            else {
                "from": tuple(map(float, room["from"])),
                "to": tuple(map(float, room["to"])),
                "height": float(room["height"]),
            }
        )
        values = [v for key in ("figures", "cubes") for pair in out[key] for v in pair] + (
            [*room["from"], *room["to"], room["height"]] if room else []
        )
        if not np.isfinite(np.array(values, float)).all():
            raise ValueError
    except (TypeError, ValueError, KeyError):
        raise Problem("The page asked for an aid that can't be drawn.") from None
    return out


def draw(camera, fit, wanted, show, document) -> dict:
    """{"paths", "labels"} for a camera with a place in the world; empty without one."""
    paths, labels = [], []
    if camera is None or None in fit["camera"]["position_m"]:
        return {"paths": paths, "labels": labels}
    scaled = fit["determined"]["scale"] != "no"
    unit = METRES[show.length_unit] if scaled else 1.0
    if wanted["walls"]:
        spacing = spacing_for(camera, unit)
        paths += [
            {"class": "wall", "d": path_of(aids.wall_grid(camera, axis, 0.0, spacing))}
            for axis in (0, 2)
        ]
    if scaled:
        for kind, make, size in (
            ("figures", aids.figure, aids.FIGURE_M),
            ("cubes", aids.cube, aids.CUBE_M),
        ):
            for x, z in wanted[kind]:
                pieces = make(camera, (x, 0.0, z))
                if pieces:
                    paths.append({"class": "aid", "d": path_of(pieces)})
                    labels.append(label(pieces[0][0], show.length(size, places=2)[0], "grid"))
    if wanted["room"]:
        room = wanted["room"]
        pieces = aids.room(camera, room["from"], room["to"], room["height"])
        if pieces:
            paths.append({"class": "aid room", "d": path_of(pieces)})
            across, along = (abs(b - a) for a, b in zip(room["from"], room["to"]))
            told = (
                " × ".join(
                    show.length(value, places=2)[0] for value in (across, along, room["height"])
                )
                if scaled
                else "size unknown"
            )
            labels.append(label(pieces[-1][-1], told, "grid"))
    if wanted["map"] and scaled:
        more = floor_map(camera, fit, document, show)
        paths, labels = paths + more["paths"], labels + more["labels"]
    return {"paths": paths, "labels": labels}


def floor_map(camera, fit, document, show) -> dict:
    """Over a raster of the plate: how far the floor's point that is seen there may be off, in px as a circle's radius × 10 and in words with cm."""
    width, height = camera.grid.width, camera.grid.height
    step = width / MAP_ACROSS
    x, y = np.meshgrid((np.arange(MAP_ACROSS) + 0.5) * step, np.arange(step / 2, height, step))
    pixels = np.stack([x.ravel(), y.ravel()], -1)
    found = Reach.of(*find(document, fit, own=True)).on_floor(pixels)
    paths, labels = [], []
    for at, px, metres in zip(pixels, found["px"], found["metres"]):
        if not np.isfinite(px) or metres > 1000:
            continue
        r = min(px * 10, step * 0.45)
        paths.append(
            {
                "class": "trust",
                "d": f"M{at[0] - r:.1f} {at[1]:.1f}a{r:.1f} {r:.1f} 0 1 0 {2 * r:.1f} 0a{r:.1f} {r:.1f} 0 1 0 {-2 * r:.1f} 0",
            }
        )
        value = f"{metres * 100:.1f} cm" if metres < 1 else f"{metres:.1f} m"
        if show.length_unit in ("ft", "in"):
            value = show.length(metres)[0]
        labels += [label(at, f"{px:.1f} px", "trust"), label(at, value, "trust below")]
    return {"paths": paths, "labels": labels}
