"""Who may see and change what, which pictures belong to which shots, and what was done about
people."""

from datetime import timedelta

from django.conf import settings
from django.db import models
from django.utils import timezone

from web.ui.who import Signed

LOOKS, WORKS, LEADS = "looks", "works", "leads"
# Each may do what those before it may.
ROLES = {
    LOOKS: "looks: sees everything, changes nothing",
    WORKS: "works: edits",
    LEADS: "leads: members, recipes, deleting",
}
RANK = {role: rank for rank, role in enumerate(ROLES, 1)}


class Member(Signed):
    """What somebody may do in a show."""

    show = models.ForeignKey("shows.Show", models.CASCADE, related_name="members")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="member_of")
    role = models.CharField(max_length=5, choices=list(ROLES.items()))
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["user__username"]
        constraints = [models.UniqueConstraint(fields=["show", "user"], name="one_role_a_show")]

    def __str__(self):
        return f"{self.user}: {self.role}"


class Ticket(Signed):
    """What is given out as an address with a secret in it, of which only a digest is kept; it ends
    by itself, and can be taken back."""

    digest = models.CharField(max_length=64, unique=True)
    ends = models.DateTimeField()
    taken_back = models.DateTimeField(null=True, blank=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        abstract = True

    @property
    def holds(self) -> bool:
        """Whether it can still be used."""
        return self.taken_back is None and self.ends > timezone.now()


class Invitation(Ticket):
    """A link, to be used once, by which somebody gets an account, and a role in a show where one is
    told."""

    show = models.ForeignKey("shows.Show", models.CASCADE, null=True, related_name="invitations")
    role = models.CharField(max_length=5, choices=list(ROLES.items()), blank=True)
    admin = models.BooleanField(default=False)
    used = models.DateTimeField(null=True, blank=True)
    LASTS = timedelta(days=7)

    class Meta:
        ordering = ["-id"]

    @property
    def holds(self) -> bool:
        """Whether it can still be used."""
        return self.used is None and super().holds


class Link(Ticket):
    """A link for a viewer, to one shot, or to the sheets of a show or of one shot."""

    SHOT, SHEET = "shot", "sheet"
    show = models.ForeignKey("shows.Show", models.CASCADE, related_name="links")
    shot = models.ForeignKey("shows.Shot", models.CASCADE, null=True, related_name="links")
    kind = models.CharField(max_length=5, choices=[(SHOT, "the shot"), (SHEET, "the sheet")])
    seen = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-id"]


class PictureOf(models.Model):
    """That a plate or a film, by its digest, is or was one of a shot's pictures."""

    digest = models.CharField(max_length=64)
    shot = models.ForeignKey("shows.Shot", models.CASCADE, related_name="+")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["digest", "shot"], name="once_a_shot")]


class Event(Signed):
    """A line of the audit log: who did what about people, and when. What was done in shots stands
    in their histories."""

    at = models.DateTimeField(auto_now_add=True)
    kind = models.CharField(max_length=30)
    says = models.CharField(max_length=300)
    address = models.GenericIPAddressField(null=True, blank=True)
    show = models.ForeignKey("shows.Show", models.SET_NULL, null=True, blank=True, related_name="+")

    class Meta:
        ordering = ["-id"]


class Presence(models.Model):
    """That a shot's page is open in a window: written again and again while it is."""

    shot = models.ForeignKey("shows.Shot", models.CASCADE, related_name="+")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, null=True, related_name="+")
    window = models.CharField(max_length=40)
    step = models.CharField(max_length=20, blank=True)
    at = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["shot", "window"], name="once_a_window")]


class Uploaded(Signed):
    """How many bytes somebody has brought in on a day."""

    day = models.DateField(default=timezone.localdate)
    bytes = models.BigIntegerField(default=0)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["by", "day"], name="one_sum_a_day")]
