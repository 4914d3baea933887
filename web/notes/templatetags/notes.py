"""How many notes of a shot wait to be ticked off."""

from django import template
from django.db.models import Count

from web.notes.models import Note
from web.ui.prepared import Prepared

register = template.Library()
_waiting = Prepared(
    lambda shot: (
        Note.objects.filter(shot=shot, answers=None, done=None)
        .order_by()
        .values("shot")
        .annotate(count=Count("pk"))
    )
)


@register.simple_tag
def open_notes(shot) -> int:
    """Their number, for the head of each page."""
    found = _waiting.first(shot.pk)
    return found["count"] if found else 0
