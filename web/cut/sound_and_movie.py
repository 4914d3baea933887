"""The sound that a cut plays with, and the cut as a movie: plates, or renders over them, with what
is burnt in."""

import math
import os
import tempfile
from collections.abc import Iterator, Mapping
from pathlib import Path

import numpy as np
from django.conf import settings
from PIL import Image, ImageDraw, ImageFont

from aperture.cut import movie
from aperture.cut.cut import Cut, Layer
from aperture.errors import Problem
from aperture.plates.colour import encode_srgb
from aperture.render import compose
from aperture.timecode import DROPPED, format_timecode
from web.blobs.folders import write
from web.cut import actions, pictures
from web.cut.pictures import WHATS
from web.jobs import runner
from web.jobs.models import Job
from web.lineup.snapshots import FONT
from web.shows.models import Shot, Show

KIND = "cut"
WIDEST, MOST_SOUND = 1920, 500_000_000


def _home(show: Show) -> Path:
    return settings.DATA / "cuts" / str(show.pk)


def sound_of(show: Show) -> Path | None:
    """The sound of a show's cut; None where there is none."""
    path = _home(show) / "sound.wav"
    return path if path.exists() else None


def movie_of(show: Show) -> Path | None:
    """The newest movie of a show's cut."""
    path = _home(show) / "cut.mp4"
    return path if path.exists() else None


def take_sound(show: Show, upload) -> float:
    """Keep a WAV file as the sound, or none; its seconds. Raises Problem where it can't be read."""
    home = _home(show)
    home.mkdir(parents=True, exist_ok=True)
    with tempfile.NamedTemporaryFile(dir=home, suffix=".wav", delete=False) as file:
        for chunk in upload.chunks():
            file.write(chunk)
    try:
        seconds = movie.check_sound(Path(file.name))
        os.replace(file.name, home / "sound.wav")
    finally:
        Path(file.name).unlink(missing_ok=True)
    return seconds


def remove_sound(show: Show) -> None:
    """Play without sound again."""
    (_home(show) / "sound.wav").unlink(missing_ok=True)


def context(show: Show, shots: Mapping[int, Shot]) -> dict:
    """What the page shows of both."""
    first = next(iter(shots.values()), None)
    job = runner.latest(first, KIND) if first else None
    made = movie_of(show)
    return {
        "sound": sound_of(show),
        "movie": made,
        "movie_mb": made.stat().st_size / 1e6 if made else 0,
        "job": job,
        "first_shot": first,
    }


def _first_shot(show: Show) -> Shot | None:
    """The shot under which the work of the whole cut is noted."""
    return next(iter(actions.shots_of(show).values()), None)


def start_movie(show: Show, what: str, burn_in: bool) -> Job:
    """Begin to write the movie. Raises Problem where the cut is empty, or it is being written
    already."""
    from web.cut import tasks

    if what not in WHATS:
        raise Problem(f"A movie shows {', or '.join(WHATS.values())}.")
    first = _first_shot(show)
    if first is None or not actions.cut_of(show).clips:
        raise Problem("The cut is empty: put a shot in first.")
    running = runner.latest(first, KIND)
    if running and running.under_way:
        raise Problem("The movie is being written already.")
    return runner.start(first, KIND, tasks.write_movie, show.pk, what, burn_in)


def write_movie(show: Show, what: str, burn_in: bool, progress=lambda done: None) -> None:
    """Write the movie of a show's cut into its place, whole or not at all."""
    cut = actions.cut_of(show)
    shots = {shot.code: shot for shot in actions.shots_of(show).values()}
    size = _size(cut, shots)
    home = _home(show)
    home.mkdir(parents=True, exist_ok=True)
    made = _pictures(show, cut, shots, what, burn_in, size, progress)
    write(home / "cut.mp4", lambda path: movie.write(path, made, cut.rate, sound_of(show)))


def _size(cut: Cut, shots) -> tuple[int, int]:
    """(width, height) of the movie: of the first plate, at most WIDEST wide, even."""
    for clip in cut.clips:
        plate = shots[clip.shot].state["plate"]
        if plate:
            scale = min(1.0, WIDEST / plate["width"])
            return tuple(2 * max(8, round(plate[side] * scale / 2)) for side in ("width", "height"))
    return 1280, 720


def _pictures(show, cut: Cut, shots, what, burn_in, size, progress) -> Iterator[np.ndarray]:
    """(H, W, 3) uint8 of each frame of the cut."""
    for frame in range(cut.length):
        progress(frame / cut.length)
        light = np.zeros((size[1], size[0], 3), np.float32)
        layers = cut.layers(frame)
        for layer in layers:
            light += layer.weight * pictures.light(
                shots[cut.clips[layer.index].shot], cut.clips[layer.index], layer, what, size
            )
        display = (encode_srgb(np.clip(light, 0, 1)) * 255 + 0.5).astype(np.uint8)
        picture = Image.fromarray(display, "RGB")
        _write_on(picture, show, cut, frame, layers[-1], burn_in)
        yield np.asarray(picture)


def _write_on(picture, show: Show, cut: Cut, frame: int, layer: Layer, burn_in: bool) -> None:
    """What stands in the picture: the facts along its foot, the title, the counter."""
    clip = cut.clips[layer.index]
    at = format_timecode(cut.start + frame, cut.rate, cut.rate in DROPPED)
    if burn_in:
        words = f"{show.name} · {clip.shot} · frame {math.floor(layer.frame)} · cut {frame} · {at}"
        compose.burn_in(picture, [words], FONT)
    draw = ImageDraw.Draw(picture)
    if cut.title and frame < cut.title_frames:
        face = ImageFont.truetype(str(FONT), max(14, picture.height // 14))
        place = (picture.width / 2, picture.height / 2)
        draw.text(
            place, cut.title, (255, 255, 255), face, "mm", stroke_width=2, stroke_fill=(0, 0, 0)
        )
    if cut.counter:
        face = ImageFont.truetype(str(FONT), max(12, picture.height // 26))
        place = (picture.width - picture.height // 40, picture.height // 40)
        draw.text(place, at, (255, 255, 255), face, "ra", stroke_width=2, stroke_fill=(0, 0, 0))
