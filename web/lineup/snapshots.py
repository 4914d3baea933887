"""Snapshots: what is on the table, kept as a picture, foldered by show, shot, camera, kind and
time, with the facts burnt in if wanted."""

import re
from functools import lru_cache
from pathlib import Path

import numpy as np
from django.conf import settings
from django.utils import timezone
from PIL import Image

from aperture.errors import Problem
from aperture.plates.colour import linear_light
from aperture.render import compose, returned
from aperture.render.alpha import alpha_report
from web.blobs.folders import reserve, write
from web.elements.queries import newest_whole
from web.expose import exposure, looks, whites
from web.expose.focusing import focus_at, stop_at
from web.expose.rendered import OverPlate
from web.gates.gate import gate_words
from web.lineup.models import Snapshot
from web.match.path_fits import camera_of_state
from web.plates.frames import frame_at, shifted_since
from web.plates.full_frames import frame_pixels, linear_frame
from web.plates.models import (
    frame_of,
    linear_plate,
    plate_of,
    transfer_of,
    working_pixels,
)
from web.stage.cameras import MATCHED

FONT = (
    Path(__file__).parents[1] / "ui/static/fonts/atkinson-hyperlegible-mono-latin-wght-normal.woff2"
)


def facts(shot, at, frame: int | None = None) -> list[str]:
    """The lines that are burnt in: what picture it is, and through which camera; focus and stop
    where they are known."""
    camera, state = camera_of_state(shot.state), shot.state
    lens = state["lens"].get("name")
    first = (
        f"{shot.show.name} · {shot.code} · frame {frame_of(shot) if frame is None else frame} ·"
        f" revision {shot.head.number} · {at:%Y-%m-%d %H:%M}"
    )
    if camera is None:
        return [first]
    body = state["gate"].get("name") if state["gate"] else ""
    second = [
        body,
        lens,
        gate_words(camera) if state["gate"] else "gate unknown",
        *_light(shot, frame),
        f"lens {shot.show.length(float(camera.position[1]))[0]} above the floor",
    ]
    return [first, " · ".join(part for part in second if part)]


def _light(shot, frame: int | None) -> list[str]:
    """Stop, focus, shutter, EV, white and look, where they are known."""
    words = []
    typed_t = shot.state.get("camera_looks", {}).get(MATCHED, {}).get("stop")
    stop, given = stop_at(shot, frame), exposure.of_camera(shot)
    own = exposure.camera_exposure(shot)
    if typed_t:
        words.append(f"T {typed_t:g}")
    elif stop:
        words.append(exposure.written(shot, "f_number", exposure.Given(stop, "")))
    if given["seconds"].value:
        words.append(exposure.written(shot, "seconds", given["seconds"]))
    if own:
        words.append(f"EV {own.light_ev100:.1f}")
    metres = focus_at(shot, frame).metres
    if metres:
        words.append(f"focus {shot.show.length(metres)[0]}")
    white = whites.chosen(shot)
    if white:
        words.append(f"{white.white.kelvin:.0f} K")
    if looks.is_on(shot):
        words.append(f"look: {', '.join(looks.names_of(shot))}")
    return words


def newest_over_plate(shot) -> OverPlate | None:
    """The newest render that lies over the plate, ours or one brought back."""
    own, back = newest_whole(shot), shot.returned.first()
    row = max((one for one in (own, back) if one), key=lambda one: one.created, default=None)
    if row is None:
        return None
    frame = frame_of(shot) - shifted_since(shot.state, row)
    name = getattr(row, "title", "") or row.name
    return OverPlate(name, lambda: picture_in(row.of_frame(frame)))


def keep(
    shot,
    kind: str,
    burn_in: bool,
    render=None,
    name: str = "",
    frame: int | None = None,
    number: int | None = None,
) -> Snapshot:
    """Keep a picture. Raises Problem.

    render : the folder of the render that is on the table, of a sequence's `frame`.
    number : the film's picture that is looked at; None: the one that is worked on.
    """
    plate = plate_of(shot)
    if kind not in compose.KINDS:
        raise Problem("There is no such kind of snapshot.")
    if plate is None or kind != "plate" and render is None:
        raise Problem(
            "There is nothing to keep yet: a snapshot needs a plate, and a render for all but the"
            " plate alone."
        )
    picture: np.ndarray | None = None
    shadow: np.ndarray | None = None
    if kind != "plate":
        picture, shadow = picture_in(render), _shadow(render)
    seen = linear_plate(shot) if number is None else linear_frame(shot, number)
    if number is not None and frame is None:
        frame = frame_at(shot.state, number)
    at = timezone.localtime()
    camera = f"{shot.code} camera r{shot.head.number}"
    made = compose.composite(kind, seen, picture, shadow)
    if looks.is_on(shot) and kind != "difference":
        made = looks.applied(shot, made, frame)
    home = settings.DATA / "snapshots"
    folder = Path(*map(_safe, (shot.show.slug, shot.code, camera, kind)))
    place = reserve(home, folder / f"{at:%Y-%m-%d_%H-%M-%S}", ".png")
    write(
        home / place,
        lambda path: compose.write_png(
            path,
            made,
            facts(shot, at, frame) if burn_in else (),
            FONT,
        ),
    )
    return Snapshot.objects.create(
        shot=shot,
        kind=kind,
        camera=camera,
        render=name[:255],
        revision=shot.head.number,
        path=str(place),
    )


def picture_in(folder):
    """(H, W, 4) linear, premultiplied: what a render's folder holds; an older one has only its
    PNG."""
    path = folder / ("render.exr" if (folder / "render.exr").exists() else "render.png")
    return _read(path, path.stat().st_mtime_ns)


@lru_cache(2)
def _read(path, _):
    found = returned.read(path)
    return (
        found.rgba
        if found.linear
        else found.rgba
        * np.concatenate(
            [np.repeat(found.rgba[..., 3:], 3, axis=2), np.ones_like(found.rgba[..., 3:])], axis=2
        )
    )


def alpha_of(folder) -> tuple[str, ...]:
    """Sentences about the alpha of a render of ours."""
    path = folder / "alpha.png"
    return _alpha(path, path.stat().st_mtime_ns) if path.exists() else ()


@lru_cache(64)
def _alpha(path, _):
    with Image.open(path) as picture:
        return tuple(alpha_report(np.asarray(picture, np.float32) / 255))


def values_at(shot, folder, x: float, y: float, number: int | None = None) -> str:
    """What plate and render have at a place, px: linear light, and the render's alpha. `number`: as
    in `keep`."""
    plate = plate_of(shot)
    if plate is None or not (0 <= x < plate.width and 0 <= y < plate.height):
        return ""
    column, row = int(x), int(y)
    pixels = working_pixels(plate) if number is None else frame_pixels(shot, number)
    light = linear_light(pixels[row, column], transfer_of(shot.state))
    told = ["plate " + " ".join(f"{value:.3f}" for value in light)]
    if folder is not None:
        *colour, alpha = picture_in(folder)[row, column]
        told.append(
            "render " + " ".join(f"{value:.3f}" for value in colour) + f", alpha {alpha:.3f}"
        )
    return " · ".join(told)


def _shadow(folder):
    """The share of the light that a render takes from the plate, where it was rendered."""
    path = folder / "shadow.png"
    if not path.exists():
        return None
    with Image.open(path) as picture:
        return np.asarray(picture, np.float32) / 255


def _safe(text: str) -> str:
    return re.sub(r"[^\w.-]+", "_", text).strip("._") or "_"
