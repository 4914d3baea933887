"""Plates: rows that point at files by content hash."""

import re
from pathlib import Path

from django.conf import settings
from django.db import models

from web.shows.state import once

FRAME = 1  # a photograph is a plate of one frame


# A frame's number at the end of a file's name: plate.1001.exr, plate_0101.tif, plate-12.jpg.
_NUMBERED = re.compile(r"[._-](\d{2,7})\.[A-Za-z0-9]{1,5}$")


def frame_of(plate) -> int:
    """The number that a picture carries in its name; FRAME where it carries none."""
    found = _NUMBERED.search(plate.name) if plate else None
    return int(found[1]) if found else FRAME


class Plate(models.Model):
    """One imported picture. Its folder holds the original and what `aperture.plates.proxies` makes of it."""

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


def metadata_of(state: dict, plate: Plate | None) -> dict:
    """What is known of how a plate was taken: the file's word, corrected by what was typed."""
    if plate is None:
        return {}
    typed = {key: value for key, value in state.get("plate_facts", {}).items() if key != "transfer"}
    return plate.metadata | typed


def transfer_of(state: dict) -> str:
    """The curve that the plate's values were encoded with, a key of `colour.TRANSFERS`."""
    return state.get("plate_facts", {}).get("transfer", "srgb")


def plate_of(shot) -> Plate | None:
    """The plate of a shot's current state."""
    return _plate(shot.state)


@once
def _plate(state) -> Plate | None:
    wanted = state["plate"]
    return Plate.objects.get(digest=wanted["digest"]) if wanted else None
