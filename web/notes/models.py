"""Notes that are pinned to a place on the plate."""

from django.conf import settings
from django.db import models

from web.ui.who import Signed


class Note(Signed):
    """One note, or the answer to one. `number`: of a film's picture; `x`, `y`: px of the plate.
    Whoever ticks it off is kept."""

    shot = models.ForeignKey("shows.Shot", models.CASCADE, related_name="pinned")
    number = models.IntegerField(null=True)
    x = models.FloatField(null=True)
    y = models.FloatField(null=True)
    text = models.TextField(max_length=2000)
    answers = models.ForeignKey("self", models.CASCADE, null=True, related_name="answered_by")
    created = models.DateTimeField(auto_now_add=True)
    done = models.DateTimeField(null=True)
    done_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+"
    )

    class Meta:
        ordering = ["id"]
