"""Long work: what it is, how far it is, how it ended."""

from django.db import models


class Job(models.Model):
    """One piece of long work for a shot. `owner` names the server process that runs it, so that an orphan is recognised."""

    RUNNING, DONE, FAILED, CANCELLED = "running", "done", "failed", "cancelled"
    shot = models.ForeignKey("shows.Shot", models.CASCADE, related_name="jobs")
    kind = models.CharField(max_length=40)
    state = models.CharField(max_length=10, default=RUNNING)
    progress = models.FloatField(default=0.0)
    says = models.CharField(max_length=300, blank=True)
    cancel_asked = models.BooleanField(default=False)
    owner = models.CharField(max_length=40)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]
