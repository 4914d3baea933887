"""Renders laid over the plate."""

from pathlib import Path

from django.conf import settings
from django.db import models


class Render(models.Model):
    """One finished render; its folder holds render.png, render.exr and alpha.png. `digest` is of the camera and stand-ins it was made from."""

    shot = models.ForeignKey("shows.Shot", models.CASCADE, related_name="renders")
    digest = models.CharField(max_length=64)
    revision = models.PositiveIntegerField()
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    seconds = models.FloatField()
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    @property
    def folder(self) -> Path:
        """Where its files are."""
        return settings.DATA / "renders" / str(self.pk)
