"""Plates: rows that point at files by content hash."""

from pathlib import Path

from django.conf import settings
from django.db import models

FRAME = 1  # a photograph is a plate of one frame


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


def plate_of(shot) -> Plate | None:
    """The plate of a shot's current state."""
    wanted = shot.state["plate"]
    return Plate.objects.get(digest=wanted["digest"]) if wanted else None
