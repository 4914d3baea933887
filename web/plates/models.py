"""Plates: rows that point at files by content hash."""

import shutil
from collections.abc import MutableMapping
from fractions import Fraction
from pathlib import Path

import numpy as np
from django.conf import settings
from django.db import models

from aperture.errors import Problem
from aperture.fence import run_fenced
from aperture.plates.colour import linear_light
from aperture.plates.film import Film as Filmed
from aperture.plates.proxies import WORKING
from aperture.plates.take_in import take_in
from web.blobs.folders import incoming, write
from web.plates.frames import ONE_FRAME, frame_at, frame_of_photograph
from web.shows.state import once
from web.ui.prepared import Prepared


def frame_of(shot) -> int:
    """The shot's frame that is worked on; see `frames.frame_of_photograph` for one."""
    state = shot.state
    return frame_at(state) if state["film"] else frame_of_photograph(state)


class Plate(models.Model):
    """One imported picture. Its folder holds the original and what `aperture.plates.proxies` makes
    of it."""

    digest = models.CharField(max_length=64, unique=True)
    name = models.CharField(max_length=255)
    kind = models.CharField(max_length=10)
    depth = models.CharField(max_length=10)
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    metadata = models.JSONField()
    notes = models.JSONField()
    created = models.DateTimeField(auto_now_add=True)

    @property
    def folder(self) -> Path:
        """Where its files are."""
        return settings.DATA / "plates" / self.digest


class Film(models.Model):
    """A filmed plate, imported. Its folder is what `aperture.plates.film` describes.

    first, last, count : picture numbers, and how many pictures are there.
    notes : what was found wrong or odd on the way in, in sentences.
    unshown : why a picture has no small one, by its number as text.
    told : what its files say about how they were taken: `constant` for all, and `curves` of what
    changes, [number, value] each. refers : its files lie on the server's own folders, and may
    change there: see `web.plates.media`.
    """

    digest = models.CharField(max_length=64, unique=True)
    name = models.CharField(max_length=255)
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    first = models.PositiveIntegerField()
    last = models.PositiveIntegerField()
    count = models.PositiveIntegerField()
    rate_numerator = models.PositiveBigIntegerField(null=True)
    rate_denominator = models.PositiveBigIntegerField(null=True)
    kind = models.CharField(max_length=120)
    notes = models.JSONField()
    unshown = models.JSONField(default=dict)
    refers = models.BooleanField(default=False)
    told = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now_add=True)

    @property
    def folder(self) -> Path:
        """Where its files are."""
        return settings.DATA / "films" / self.digest

    @property
    def rate(self) -> Fraction | None:
        """Pictures a second, where the file tells."""
        if not self.rate_denominator:
            return None
        return Fraction(self.rate_numerator or 0, self.rate_denominator)


_films = Prepared(lambda digest: Film.objects.filter(digest=digest))
_plates = Prepared(lambda digest: Plate.objects.filter(digest=digest))


def film_of(shot) -> Film | None:
    """The filmed plate of a shot's current state; None of a photograph."""
    wanted = shot.state["film"]
    return _films.get(wanted["digest"]) if wanted else None


def is_lossy(shot) -> bool:
    """Whether the shot's pictures come from a movie whose codec leaves things out."""
    film = film_of(shot)
    return film is not None and Filmed.read(film.folder).lossy


def require_film(shot) -> Film:
    """The filmed plate of a shot. Raises Problem where the plate is a photograph."""
    film = film_of(shot)
    if film is None:
        raise Problem(ONE_FRAME)
    return film


def metadata_of(state: MutableMapping, plate: Plate | None) -> dict:
    """What is known of how a plate was taken: the file's word, corrected by what was typed."""
    if plate is None:
        return {}
    typed = {key: value for key, value in state.get("plate_facts", {}).items() if key != "transfer"}
    return plate.metadata | typed


def transfer_of(state) -> str:
    """The curve that the plate's values were encoded with, a key of `colour.TRANSFERS`: as typed,
    else as its kind of file has it."""
    return state["plate_facts"].get("transfer") or own_transfer(_plate(state))


def own_transfer(plate: Plate | None) -> str:
    """The curve of a plate's values where nobody says another: floats are linear light, whole
    numbers sRGB."""
    return "linear" if plate and plate.depth in ("half", "float") else "srgb"


def working_pixels(plate: Plate) -> np.ndarray:
    """(H, W, 3) the plate's samples as its file has them, memory-mapped; their curve is
    `transfer_of`."""
    if plate.depth == "8 bit":
        return np.load(plate.folder / "pixels.npy", mmap_mode="r")
    path = plate.folder / WORKING
    if not path.exists():  # brought in by a release that kept 8 bits of it
        original = next(plate.folder.glob("original.*"))
        with incoming(settings.DATA / "plates") as folder:
            run_fenced(take_in, original, plate.name, folder)
            write(path, lambda fresh: shutil.move(folder / WORKING, fresh))
    return np.load(path, mmap_mode="r")


def linear_plate(shot) -> np.ndarray:
    """(H, W, 3) float32, the shot's plate in linear light."""
    return linear_light(np.asarray(working_pixels(require_plate(shot))), transfer_of(shot.state))


def plate_of(shot) -> Plate | None:
    """The plate of a shot's current state."""
    return _plate(shot.state)


def require_plate(shot) -> Plate:
    """The plate of a shot's current state. Raises Problem without one."""
    plate = plate_of(shot)
    if plate is None:
        raise Problem("There is no plate yet.")
    return plate


@once
def _plate(state) -> Plate | None:
    wanted = state["plate"]
    return _plates.get(wanted["digest"]) if wanted else None
