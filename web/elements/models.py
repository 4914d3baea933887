"""Renders of a shot's stand-ins."""

from pathlib import Path

from django.conf import settings
from django.db import models
from django.utils import timezone

from web.blobs.folders import of_frame
from web.shows.models import Throwable
from web.ui.who import Signed


class Render(Signed, Throwable):
    """One finished render; its folder holds render.png, render.exr, alpha.png and the pictures
    named in `looks`; of a range of frames, from `first` to `last`, a folder with these for each.
    `shift`: by how much the shot had been shifted when it was made.

    `digest` is of the camera and stand-ins it was made from; `wanted` is how it was asked for;
    `looks`: [file name, what it is] each.
    """

    shot = models.ForeignKey("shows.Shot", models.CASCADE, related_name="renders")
    digest = models.CharField(max_length=64)
    revision = models.PositiveIntegerField()
    width = models.PositiveIntegerField()
    height = models.PositiveIntegerField()
    seconds = models.FloatField()
    wanted = models.JSONField(default=dict)
    looks = models.JSONField(default=list)
    name = models.CharField(max_length=120, blank=True)
    first = models.IntegerField(null=True)
    last = models.IntegerField(null=True)
    shift = models.IntegerField(default=0)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]
        db_table = "lineup_render"

    @property
    def title(self) -> str:
        """The name it was given, or when it was made and its size."""
        made = timezone.localtime(self.created)
        eye = f" · {self.wanted['eye']} eye" if self.wanted.get("eye") else ""
        return self.name or f"{made:%-d %b, %H:%M} · {self.width} × {self.height}{eye}"

    @property
    def folder(self) -> Path:
        """Where its files are."""
        return settings.DATA / "renders" / str(self.pk)

    @property
    def frames(self) -> list[int]:
        """Its frames' numbers; none for a still."""
        if self.first is None or self.last is None:
            return []
        return list(range(self.first, self.last + 1))

    def of_frame(self, number: int | None) -> Path:
        """Where the files of a frame are, the first one's where it has no such."""
        return of_frame(self.folder, self.frames, number)

    @property
    def whole(self) -> bool:
        """Whether it is of the plate's size and all of it, through its own camera, so that it can
        be laid over it."""
        return (
            self.wanted.get("size", "plate") == "plate"
            and not self.wanted.get("overscan")
            and not self.wanted.get("region")
            and not self.wanted.get("eye")
        )
