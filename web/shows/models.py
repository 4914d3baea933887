"""Shows, shots, and every revision of every shot."""

import copy
import functools
import json
from fractions import Fraction

from django.db import models
from django.urls import reverse
from django.utils import timezone
from django.utils.functional import cached_property

from aperture.units import LENGTH_UNITS, exact_length, format_length, format_rate
from web.shows import shared_states
from web.shows import state as states
from web.shows.state import State, Texts
from web.ui import who
from web.ui.who import Signed


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

    def visible(self, *roles: str):
        """Those that whoever is at work sees; with `roles`, those in which they have one of
        them."""
        if who.sees_everything():
            return self
        wanted = {"members__role__in": roles} if roles else {}
        return self.filter(members__user=who.now(), **wanted)


class Show(Kept):
    """A film or series: what its shots share."""

    name = models.CharField(max_length=120)
    slug = models.SlugField(max_length=60, unique=True)
    up_axis = models.CharField(max_length=1, choices=[("Y", "Y"), ("Z", "Z")], default="Y")
    length_unit = models.CharField(max_length=2, choices=list(LENGTH_UNITS.items()), default="m")
    rate_numerator = models.PositiveIntegerField(default=24)
    rate_denominator = models.PositiveIntegerField(default=1)
    # Revisions older than so many days are thinned by `manage.py thin_history`; empty: never.
    thin_days = models.PositiveIntegerField(null=True, blank=True)
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

    def typed(self, metres: float) -> str:
        """A length in the show's unit as a field shows it, to be read back as it was."""
        return exact_length(metres, self.length_unit)

    def get_absolute_url(self):
        """The show's board."""
        return reverse("show", args=[self.slug])


# Words that no show's or shot's address has by chance, in place of them.
SHOW, SHOT = "show-0-0-0", "shot-0-0-0"


@functools.cache
def _address(name: str) -> str:
    """The address of a page of any shot."""
    return reverse(name, args=[SHOW, SHOT])


def read_together(shots: list["Shot"]) -> None:
    """Let the states of shots whose heads are there be read together, once one is asked for."""
    heads = [shot.head for shot in shots if shot.head_id]
    one_shot = len(heads) == 1
    wanted = {
        digest: "" if one_shot else key for head in heads for key, digest in head.parts.items()
    }
    texts = Texts(wanted, StatePart.texts)
    for head in heads:
        head.texts = texts


class ShotQuerySet(models.QuerySet):
    """Shots with what every page needs."""

    def with_head(self):
        """Each shot with its show and the revision that is current, in one query."""
        return self.select_related("show", "head")

    def _fetch_all(self):
        """The states of shots that are fetched together are read together, once one of them is
        asked for."""
        fresh = self._result_cache is None
        super()._fetch_all()
        related = self.query.select_related
        if fresh and isinstance(related, dict) and "head" in related:
            read_together([shot for shot in self._result_cache or [] if isinstance(shot, Shot)])

    def kept(self):
        """Those that aren't deleted, of shows that aren't."""
        return self.filter(deleted__isnull=True, show__deleted__isnull=True)


class Shot(Kept):
    """One shot. `head` is the revision on screen; `locked` protects its camera."""

    show = models.ForeignKey(Show, models.CASCADE, related_name="shots")
    code = models.SlugField(max_length=40)
    description = models.CharField(max_length=200, blank=True)
    # As on the slate; and what else the next person has to know.
    scene = models.CharField(max_length=40, blank=True)
    slate = models.CharField(max_length=40, blank=True)
    take = models.CharField(max_length=40, blank=True)
    notes = models.TextField(max_length=5000, blank=True)
    locked = models.BooleanField(default=False)
    # Null only while the shot and its first revision are made, in one transaction: so its type
    # doesn't say None.
    head: "models.ForeignKey[Revision, Revision]" = models.ForeignKey(
        "Revision", models.PROTECT, null=True, related_name="+"
    )
    created = models.DateTimeField(auto_now_add=True)
    objects = ShotQuerySet.as_manager()
    _supposed: State | None = None

    # What is written about a shot beside its state.
    WRITTEN = ("description", "scene", "slate", "take", "notes")

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
    def state(self) -> State:
        """The shot's document as it stands: plate, gate, lens, marks, facts, stand-ins."""
        return self.head.state if self._supposed is None else self._supposed

    def supposing(self, state: State) -> "Shot":
        """The shot as it would be with another state; nothing of it is saved."""
        shot = copy.copy(self)
        shot._supposed = state
        return shot

    @property
    def written(self) -> dict[str, str]:
        """What is written about it: WRITTEN by name."""
        return {name: getattr(self, name) for name in self.WRITTEN}

    def url(self, name: str, *extra) -> str:
        """The address of one of the shot's pages or verbs."""
        if extra:
            return reverse(name, args=[self.show.slug, self.code, *extra])
        # A board has thousands of these, and all of one name differ by two words only.
        return _address(name).replace(SHOW, self.show.slug, 1).replace(SHOT, self.code, 1)


class StoredStanding(models.Model):
    """How far each step of a shot was when `key` held: {step: [state, words]}. See `standings`."""

    shot = models.OneToOneField(Shot, models.CASCADE, primary_key=True, related_name="+")
    key = models.CharField(max_length=64)
    steps = models.JSONField()


class StatePart(models.Model):
    """One value of one part of some states, by the digest of its JSON; what is large lies in the
    blob store instead."""

    digest = models.CharField(max_length=64, primary_key=True)
    text = models.TextField()

    @classmethod
    def texts(cls, digests: set[str]) -> dict[str, str]:
        """The texts of those that lie in this table, in one query."""
        return dict(cls.objects.filter(digest__in=digests).values_list("digest", "text"))

    @classmethod
    def keep(cls, texts: dict[str, str]) -> None:
        """Store the small ones of these, by their digests. Those that are there already stay."""
        small = {
            digest: text for digest, text in texts.items() if len(text) <= states.LARGEST_INLINE
        }
        rows = [cls(digest=digest, text=text) for digest, text in small.items()]
        StatePart.objects.bulk_create(rows, ignore_conflicts=True)


class Revision(Signed):
    """The state of a shot after one edit. What it holds never changes; undo moves the shot's head
    to `parent`.

    parts : {key: digest} of the parts that aren't at their default, as `version` of the state has
    them.
    kept : it was refused, and is kept beside the head.
    folded : a run of small edits went on from it; the run's last revision stands for it.
    run, alone : as `history.edit` has them.
    name : given by the artist; such a version is never thinned, nor one that a hand-off was made
    from.
    """

    shot = models.ForeignKey(Shot, models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    parent = models.ForeignKey("self", models.PROTECT, null=True, related_name="children")
    label = models.CharField(max_length=200)
    version = models.PositiveIntegerField(default=1)
    parts = models.JSONField(default=dict)
    kept = models.BooleanField(default=False)
    folded = models.BooleanField(default=False)
    run = models.CharField(max_length=60, blank=True)
    alone = models.BooleanField(default=False)
    name = models.CharField(max_length=60, blank=True)
    handed_off = models.BooleanField(default=False)
    created = models.DateTimeField(auto_now_add=True)

    texts: Texts | None = None  # those shared with revisions that were fetched together

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["shot", "number"], name="one_number_a_shot")]

    @cached_property
    def state(self) -> State:
        """The state, its parts read where they are asked for; brought up to date where it is of an
        older version."""
        if self.version == states.VERSION:
            return shared_states.of(self.parts, self._stored)
        stored = self._stored()
        whole = {key: json.loads(stored.text(digest)) for key, digest in self.parts.items()}
        return states.upgraded(whole, self.version)

    def _stored(self) -> State:
        texts = self.texts
        if texts is None:
            texts = Texts(dict.fromkeys(self.parts.values(), ""), StatePart.texts)
        return State(self.parts, texts, read_only=True)

    @property
    def is_kept_for_itself(self) -> bool:
        """Whether it must stay even where its content is old."""
        return bool(self.name) or self.handed_off
