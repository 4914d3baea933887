"""Shows, shots, and every revision of every shot."""

from fractions import Fraction

from django.db import models
from django.urls import reverse
from django.utils import timezone

from aperture.units import LENGTH_UNITS, format_length, format_rate


class Kept(models.Model):
    """What can be archived, out of the way, and deleted, to be brought back."""

    archived = models.BooleanField(default=False)
    deleted = models.DateTimeField(null=True, blank=True)

    class Meta:
        abstract = True


class PresentManager(models.Manager):
    """What hasn't been thrown away."""

    def get_queryset(self):
        """Without what was thrown away."""
        return super().get_queryset().filter(thrown__isnull=True)


class Throwable(models.Model):
    """A picture with a name that can be changed, thrown away, and taken back."""

    thrown = models.DateTimeField(null=True, blank=True)
    objects = PresentManager()
    everything = models.Manager()

    class Meta:
        abstract = True

    def throw(self) -> None:
        """Out of all lists; its files stay."""
        self.thrown = timezone.now()
        self.save(update_fields=["thrown"])

    def take_back(self) -> None:
        """Back into the lists."""
        self.thrown = None
        self.save(update_fields=["thrown"])


class ShowQuerySet(models.QuerySet):
    """Shows by whether they are kept."""

    def kept(self):
        """Those that aren't deleted."""
        return self.filter(deleted__isnull=True)


class Show(Kept):
    """A film or series: what its shots share."""

    name = models.CharField(max_length=120)
    slug = models.SlugField(max_length=60, unique=True)
    up_axis = models.CharField(max_length=1, choices=[("Y", "Y"), ("Z", "Z")], default="Y")
    length_unit = models.CharField(max_length=2, choices=list(LENGTH_UNITS.items()), default="m")
    rate_numerator = models.PositiveIntegerField(default=24)
    rate_denominator = models.PositiveIntegerField(default=1)
    created = models.DateTimeField(auto_now_add=True)
    objects = ShowQuerySet.as_manager()

    class Meta:
        ordering = ["-created"]

    def __str__(self):
        return self.name

    @property
    def rate(self) -> Fraction:
        """Frames a second, exactly."""
        return Fraction(self.rate_numerator, self.rate_denominator)

    @property
    def rate_text(self) -> str:
        """As the trade writes it."""
        return format_rate(self.rate)

    def length(self, metres, plus_minus=None, places=None) -> tuple[str, str]:
        """(value, ±) of a length in the show's unit."""
        return format_length(metres, self.length_unit, plus_minus, places)

    def get_absolute_url(self):
        """The show's board."""
        return reverse("show", args=[self.slug])


class ShotQuerySet(models.QuerySet):
    """Shots with what every page needs."""

    def with_head(self):
        """Each shot with its show and the revision that is current, in one query."""
        return self.select_related("show", "head")

    def kept(self):
        """Those that aren't deleted, of shows that aren't."""
        return self.filter(deleted__isnull=True, show__deleted__isnull=True)


class Shot(Kept):
    """One shot. `head` is the revision on screen; `locked` protects its camera."""

    show = models.ForeignKey(Show, models.CASCADE, related_name="shots")
    code = models.SlugField(max_length=40)
    description = models.CharField(max_length=200, blank=True)
    locked = models.BooleanField(default=False)
    head = models.ForeignKey("Revision", models.PROTECT, null=True, related_name="+")
    created = models.DateTimeField(auto_now_add=True)
    objects = ShotQuerySet.as_manager()

    class Meta:
        ordering = ["code"]
        constraints = [models.UniqueConstraint(fields=["show", "code"], name="one_code_a_show")]

    def __str__(self):
        return self.code

    @classmethod
    def at_revision(cls, pk: int, number: int) -> "Shot":
        """A shot as one of its revisions has it, for work that goes on while the shot is edited."""
        found = cls.objects.with_head().get(pk=pk)
        found.head = found.revisions.get(number=number)
        return found

    @property
    def state(self) -> dict:
        """The shot's document as it stands: plate, gate, lens, marks, facts, stand-ins."""
        return self.head.state

    def url(self, name: str, *extra) -> str:
        """The address of one of the shot's pages or verbs."""
        return reverse(name, args=[self.show.slug, self.code, *extra])


class Revision(models.Model):
    """The whole state of a shot after one edit. Never changed and never deleted; undo moves the shot's head to `parent`."""

    shot = models.ForeignKey(Shot, models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    parent = models.ForeignKey("self", models.PROTECT, null=True, related_name="children")
    label = models.CharField(max_length=200)
    state = models.JSONField()
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["shot", "number"], name="one_number_a_shot")]
