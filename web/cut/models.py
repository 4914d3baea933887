"""A show's cut, and all that it has been: every change is a row, so that it can be undone."""

from django.db import models

from web.ui.who import Signed


class CutRevision(Signed):
    """The cut as it stood after a change. `data`: {"start": frame, "clips": [{id, shot (its key),
    first, last, …}]}, and what else `actions.save` keeps; frames of a shot are as if it had never
    been shifted.
    """

    show = models.ForeignKey("shows.Show", models.CASCADE, related_name="cut_revisions")
    number = models.PositiveIntegerField()
    parent = models.ForeignKey("self", models.SET_NULL, null=True, related_name="children")
    label = models.CharField(max_length=200)
    data = models.JSONField()
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["show", "number"], name="one_cut_a_number")]

    def __str__(self):
        return f"{self.number}: {self.label}"


class CutHead(models.Model):
    """Which revision of a show's cut is on screen."""

    show = models.OneToOneField("shows.Show", models.CASCADE, related_name="cut_head")
    head = models.ForeignKey(CutRevision, models.CASCADE, related_name="+")
