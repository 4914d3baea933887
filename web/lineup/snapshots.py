"""Snapshots: what is on the table, kept as a picture, foldered by show, shot, camera, kind and time, with the facts burnt in if wanted."""

import re
from pathlib import Path

import numpy as np
from django.conf import settings
from django.utils import timezone

from aperture.errors import Problem
from aperture.render import compose, returned
from web.elements.actions import linear_plate
from web.lineup.models import Snapshot
from web.match.fits import camera_of_state
from web.plates.models import plate_of
from web.ui.folders import write

FONT = Path(__file__).parents[1] / "ui/static/fonts/atkinson-hyperlegible-mono-latin-wght-normal.woff2"
FRAME = 1  # a photograph is a plate of one frame


def facts(shot, at) -> list[str]:
    """The lines that are burnt in."""
    camera, state = camera_of_state(shot.state), shot.state
    lens = state["lens"].get("name")
    first = f"{shot.show.name} · {shot.code} · frame {FRAME} · revision {shot.head.number} · {at:%Y-%m-%d %H:%M}"
    if camera is None:
        return [first]
    gate, body = (camera.grid.gate_mm, state["gate"].get("name")) if state["gate"] else (None, "")
    second = [body, f"gate {gate[0]:.2f} × {gate[1]:.2f} mm" if gate else "gate unknown", lens, f"{camera.lens.focal_mm:.2f} mm" if gate else "",
              f"lens {shot.show.length(float(camera.position[1]))[0]} above the floor"]
    return [first, " · ".join(part for part in second if part)]


def keep(shot, kind: str, burn_in: bool, render=None, name: str = "") -> Snapshot:
    """Keep a picture. `render`: the folder of the render that is on the table. Raises Problem."""
    plate = plate_of(shot)
    if kind not in compose.KINDS:
        raise Problem("There is no such kind of snapshot.")
    if plate is None or kind != "plate" and render is None:
        raise Problem("There is nothing to keep yet: a snapshot needs a plate, and a render for all but the plate alone.")
    picture, shadow = None, None
    if kind != "plate":
        found = returned.read(render / ("render.exr" if (render / "render.exr").exists() else "render.png"))
        picture = found.rgba if found.linear else found.rgba * _spread(found.rgba)
        shadow = _shadow(render)
    at = timezone.localtime()
    camera = f"{shot.code} camera r{shot.head.number}"
    home, place = settings.DATA / "snapshots", Path(*map(_safe, (shot.show.slug, shot.code, camera, kind)))
    stem = f"{at:%Y-%m-%d_%H-%M-%S}"
    place = next(one for number in range(1, 10000) if not (home / (one := place / f"{stem}{f'_{number}' if number > 1 else ''}.png")).exists())
    write(home / place, lambda path: compose.write_png(path, compose.composite(kind, linear_plate(plate), picture, shadow),
                                                       facts(shot, at) if burn_in else (), FONT))
    return Snapshot.objects.create(shot=shot, kind=kind, camera=camera, render=name[:255], revision=shot.head.number, path=str(place))


def _spread(rgba):
    """Alpha for the colours, 1 for the alpha: what makes a straight picture premultiplied."""
    return np.concatenate([np.repeat(rgba[..., 3:], 3, axis=2), np.ones_like(rgba[..., 3:])], axis=2)


def _shadow(folder):
    """The share of the light that a render takes from the plate, where it was rendered."""
    from PIL import Image

    path = folder / "shadow.png"
    if not path.exists():
        return None
    with Image.open(path) as picture:
        return np.asarray(picture, np.float32) / 255


def _safe(text: str) -> str:
    return re.sub(r"[^\w.-]+", "_", text).strip("._") or "_"
