"""What is kept of light beside the shots: a show's white, and its looks."""

from django.db import models

from aperture.light.character.look import Look
from aperture.light.white import D65, White
from web.blobs.in_use import referred


class ShowLight(models.Model):
    """The white that a show's pictures are balanced to."""

    show = models.OneToOneField("shows.Show", models.CASCADE, related_name="light")
    kelvin = models.FloatField(default=D65.kelvin)
    tint = models.FloatField(default=D65.tint)

    @classmethod
    def of(cls, show) -> White:
        """A show's; D65 where none was typed."""
        row = cls.objects.filter(show=show).first()
        return White(row.kelvin, row.tint) if row else D65


class ShowLook(models.Model):
    """A look with a name, which the shots of a show can take. `data`: `Look.to_json`, with its table's blob."""

    show = models.ForeignKey("shows.Show", models.CASCADE, related_name="looks")
    name = models.CharField(max_length=80)
    data = models.JSONField(default=dict)
    changed = models.DateTimeField(auto_now=True)

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["show", "name"], name="one_look_of_a_name")]

    def __str__(self):
        return self.name

    @property
    def look(self) -> Look:
        """Its figures."""
        return Look.from_json(self.data.get("look", {}))


def looks_in_use():
    """The digests that looks of shows refer to."""
    return {
        digest
        for data in ShowLook.objects.values_list("data", flat=True)
        for digest in referred(data)
    }
