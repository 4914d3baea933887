"""Long work: what it is, how far it is, how it ended."""

from django.db import models

from web.ui.who import Signed

# What a kind of work is called while it goes on; the others render.
DOING = {
    "lag": "Comparing the move with the picture",
    "return": "Bringing it back",
    "film": "Making small pictures",
    "flash": "Looking for flashes",
    "mean": "Averaging frames",
    "convert": "Converting into pictures",
    "follow": "Following points",
    "path": "Solving the path",
    "edges": "Measuring the plate’s edges",
    "views": "Joining the views",
    "cut": "Writing the movie",
    "retime": "Making the shot at its speed",
}


class Job(Signed):
    """One piece of long work for a shot. `beat`: when its worker last gave a sign of life, so that
    an orphan is recognised.

    What many workers can share, such as a range of frames, is one job whose `parts` are jobs of
    their own; `part` is the frame's number.
    """

    WAITING, RUNNING, DONE, FAILED, CANCELLED = "waiting", "running", "done", "failed", "cancelled"
    shot = models.ForeignKey("shows.Shot", models.CASCADE, related_name="jobs")
    kind = models.CharField(max_length=40)
    state = models.CharField(max_length=10, default=WAITING)
    progress = models.FloatField(default=0.0)
    says = models.CharField(max_length=300, blank=True)
    cancel_asked = models.BooleanField(default=False)
    owner = models.CharField(max_length=40, blank=True)
    beat = models.DateTimeField(null=True)
    created = models.DateTimeField(auto_now_add=True)
    parent = models.ForeignKey("self", models.CASCADE, null=True, related_name="parts")
    part = models.IntegerField(null=True)
    task = models.CharField(max_length=64, blank=True)  # its number among django-tasks' tasks

    class Meta:
        ordering = ["-id"]

    @property
    def doing(self) -> str:
        """What is being done, in words."""
        return DOING.get(self.kind, "Rendering")

    @property
    def under_way(self) -> bool:
        """Whether it has yet to end."""
        return self.state in (self.WAITING, self.RUNNING)
