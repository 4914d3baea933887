"""What is kept of moves beside the shots."""

from django.db import models

from aperture.moves.readings import Limits


class MoveLimits(models.Model):
    """What a show's dolly and head can do. `settings`: as
    `aperture.moves.readings.Limits.to_json`."""

    show = models.OneToOneField("shows.Show", models.CASCADE, related_name="move_limits")
    settings = models.JSONField(default=dict)

    @classmethod
    def of(cls, show) -> Limits:
        """A show's; the usual ones where none were typed."""
        row = cls.objects.filter(show=show).first()
        return Limits.from_json(row.settings) if row else Limits()
