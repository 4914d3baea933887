"""How many notes of a shot wait to be ticked off."""

from django import template

from web.notes.models import Note

register = template.Library()


@register.simple_tag
def open_notes(shot) -> int:
    """Their number, for the head of each page."""
    return Note.objects.filter(shot=shot, answers=None, done=None).count()
