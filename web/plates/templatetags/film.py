"""`{% frame_strip shot step %}`: the frame strip under the table of a step; nothing where the plate is a photograph."""

from django import template

from web.plates.film_views import strip

register = template.Library()


@register.inclusion_tag("plates/_strip.html", takes_context=True)
def frame_strip(context, shot, step):
    """What the strip's template shows; `step` is where one comes back to after choosing another frame."""
    return {
        "strip": strip(shot),
        "shot": shot,
        "show": shot.show,
        "step": step,
        "csrf_token": context.get("csrf_token"),
    }
