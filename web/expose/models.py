"""What is kept of light beside the shots: a show's white, and its looks."""

from django.db import models

from aperture.light.character.look import Look
from aperture.light.white import D65, White
from web.blobs.in_use import referred
from web.ui.who import Signed

MOST_LOOKS = 200  # of a show


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


class ShowLook(Signed):
    """A look with a name, which the shots of a show can take. `data`: `Look.to_json`, with its
    table's blob."""

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


def light_of(show) -> dict:
    """A show's white, for a parcel."""
    white = ShowLight.of(show)
    return {"kelvin": white.kelvin, "tint": white.tint}


def looks_of(show) -> list[dict]:
    """A show's looks, for a parcel."""
    return list(show.looks.values("name", "data"))


def take_light(show, light: dict | None, looks: list[dict]) -> None:
    """Take white and looks out of a parcel; what the show has stays. Raises Problem where they
    can't be."""
    if light:
        white = White(float(light["kelvin"]), float(light["tint"]))
        values = {"kelvin": white.kelvin, "tint": white.tint}
        ShowLight.objects.get_or_create(show=show, defaults=values)
    for told in looks[:MOST_LOOKS]:
        data: dict[str, object] = {"look": Look.from_json(told["data"]["look"]).to_json()}
        if "cube" in told["data"]:
            data["cube"] = {"blob": str(told["data"]["cube"]["blob"])}
            data["cube_name"] = str(told["data"].get("cube_name", ""))[:200]
        show.looks.get_or_create(name=str(told["name"])[:80], defaults={"data": data})
