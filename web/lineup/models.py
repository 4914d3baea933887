"""Renders that came back from other programs, and snapshots."""

from pathlib import Path

from django.conf import settings
from django.db import models

from web.blobs.folders import of_frame
from web.shows.models import Throwable
from web.ui.who import Signed


class Returned(Signed, Throwable):
    """One render brought back, a picture or the `frames` of a sequence. Its folder holds the file
    as it came, original.*, and as put right: render.exr, render.png and alpha.png; of a sequence, a
    folder with these for each frame.

    `digest`: of the camera and stand-ins it was compared with. `findings`: [sentence, mended] each.
    `offsets`: how far its outlines lie off, with sentences and arrows, or {}. `alpha_says`:
    sentences. `taken`: how its picture was taken, and what else could be chosen; see
    `web.lineup.actions.taken_from`.
    """

    shot = models.ForeignKey("shows.Shot", models.CASCADE, related_name="returned")
    name = models.CharField(max_length=255)
    digest = models.CharField(max_length=64)
    findings = models.JSONField(default=list)
    offsets = models.JSONField(default=dict)
    alpha_says = models.JSONField(default=list)
    frames = models.JSONField(default=list)
    taken = models.JSONField(default=dict)
    shift = models.IntegerField(default=0)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    @property
    def folder(self) -> Path:
        """Where its files are."""
        return settings.DATA / "returned" / str(self.pk)

    def of_frame(self, number: int | None) -> Path:
        """Where the files of a frame are, the first one's where it has no such."""
        return of_frame(self.folder, self.frames, number)


class Snapshot(Signed):
    """A picture that was kept: its kind, the camera and revision it was taken from, the render that
    was on the table, and where it is."""

    shot = models.ForeignKey("shows.Shot", models.CASCADE, related_name="snapshots")
    kind = models.CharField(max_length=20)
    camera = models.CharField(max_length=120)
    render = models.CharField(max_length=255, blank=True)
    revision = models.PositiveIntegerField()
    path = models.CharField(max_length=400)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    @property
    def file(self) -> Path:
        """The PNG."""
        return settings.DATA / "snapshots" / self.path


class EdgesOverRange(models.Model):
    """How far the plate's own edges lie from the stand-ins' on the frames of a film, as it was
    measured last.

    `digest`: of the camera and stand-ins. `names`: of those measured. `rows`: by picture number
    [median px, 95th percentile px, px to the right, ±, px down, ±]; null where too little was
    found.
    """

    shot = models.OneToOneField("shows.Shot", models.CASCADE, related_name="edges_over_range")
    digest = models.CharField(max_length=64)
    names = models.JSONField(default=list)
    rows = models.JSONField(default=dict)
    created = models.DateTimeField(auto_now=True)
