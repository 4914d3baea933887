"""The frame strip for the pages of steps; nothing where the plate is a photograph.

`{% frame_strip shot step %}` is the strip under the table, `{% frame_keys shot %}` what its keys
do.
"""

from django import template

from web.plates.film_views import strip

register = template.Library()


@register.inclusion_tag("plates/_strip.html", takes_context=True)
def frame_strip(context, shot, step):
    """What the strip's template shows; `step` is where one comes back to after choosing another
    frame."""
    return {
        "strip": strip(shot),
        "shot": shot,
        "show": shot.show,
        "step": step,
        "csrf_token": context.get("csrf_token"),
    }


@register.inclusion_tag("plates/_strip_keys.html")
def frame_keys(shot):
    """What the strip's keys do, for the sheet of keys."""
    return {"filmed": bool(shot.state["film"])}
