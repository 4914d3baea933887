"""Frames of filmed plates at full size, for the loupe and for what measures: decoded when asked
for, and some kept for a while."""

import os
import shutil
from pathlib import Path

import numpy as np
from django.conf import settings

from aperture import fence
from aperture.plates.colour import linear_light
from aperture.plates.film import write_full
from aperture.plates.proxies import WORKING
from aperture.plates.way_in import WayIn
from web.blobs.folders import incoming
from web.plates.frames import way_of
from web.plates.models import Film, require_film, transfer_of
from web.plates.referred import require_unchanged
from web.shows.alone import alone

KEPT = 60  # decoded frames of all films together; one of 3840 × 2160 at 16 bit takes 75 MB


def get_ready() -> None:
    """Somebody looks at a film, and may want its real pixels next."""
    fence.get_ready(write_full)


def full_frame(film: Film, number: int, way: WayIn) -> Path:
    """The folder with a picture's `pixels.npy` and, where it is finer than 8 bit, `working.npy`.
    Raises Problem where it can't be read."""
    require_unchanged(film, number)
    home = settings.DATA / "frames"
    place = home / f"{film.digest}-{number}-{way}"
    if (place / "pixels.npy").exists():
        os.utime(place)
        return place
    home.mkdir(exist_ok=True)
    # Four tiles of the loupe are asked for at once: one of them decodes, the others wait.
    with alone("frame", place.name), incoming(home) as folder:
        if not (place / "pixels.npy").exists():
            fence.run_fenced(write_full, film.folder, number, folder, way)
            folder.chmod(0o755)
            folder.rename(place)  # without syncing: it can be decoded again
    _drop_oldest(home)
    return place


def _drop_oldest(home: Path) -> None:
    kept = [path for path in home.iterdir() if not path.name.startswith("incoming")]
    for path in sorted(kept, key=_used)[:-KEPT]:
        shutil.rmtree(path, ignore_errors=True)


def _used(path: Path) -> float:
    try:
        return path.stat().st_mtime
    except FileNotFoundError:  # dropped by another process
        return 0.0


def frame_pixels(shot, number: int) -> np.ndarray:
    """(H, W, 3) a picture of the shot's film as it has come in, its samples as the file has them,
    memory-mapped. Raises Problem."""
    return full_pixels(require_film(shot), number, way_of(shot.state))


def full_pixels(film: Film, number: int, way: WayIn) -> np.ndarray:
    """The same of any film, brought in by some way. Raises Problem."""
    place = full_frame(film, number, way)
    path = place / WORKING
    return np.load(path if path.exists() else place / "pixels.npy", mmap_mode="r")


def linear_frame(shot, number: int) -> np.ndarray:
    """(H, W, 3) float32, the same in linear light. Raises Problem."""
    return linear_light(np.asarray(frame_pixels(shot, number)), transfer_of(shot.state))
