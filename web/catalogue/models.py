"""Bodies and lenses of the house. Each is kept as the document that `aperture.formats.catalogue`
reads and writes.

Shots copy what they take: changing the catalogue never changes a shot behind the artist's back.
"""

from django.db import models

from web.ui.who import Signed


class EntryQuerySet(models.QuerySet):
    """Entries that are on offer."""

    def offered(self):
        """Without those that were removed."""
        return self.filter(removed=False)


class Entry(Signed):
    """What bodies and lenses share. `removed` entries can be put back."""

    maker = models.CharField(max_length=120, blank=True)
    name = models.CharField(max_length=120)
    data = models.JSONField()
    removed = models.BooleanField(default=False)
    changed = models.DateTimeField(auto_now=True)
    objects = EntryQuerySet.as_manager()

    class Meta:
        abstract = True
        ordering = ["maker", "name", "pk"]

    def __str__(self):
        return f"{self.maker} {self.name}".strip()


class Body(Entry):
    """A camera body and its sensor modes."""

    class Meta(Entry.Meta):
        verbose_name_plural = "bodies"


class CatalogueLens(Entry):
    """A lens."""

    class Meta(Entry.Meta):
        verbose_name_plural = "lenses"


KINDS: dict[str, type[Body] | type[CatalogueLens]] = {"body": Body, "lens": CatalogueLens}


def everything() -> dict:
    """The catalogue document of all that is on offer."""
    return {
        "bodies": [body.data for body in Body.objects.offered()],
        "lenses": [lens.data for lens in CatalogueLens.objects.offered()],
    }
