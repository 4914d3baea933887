"""Tags for the sheets of facts."""

from django import template
from django.utils.html import format_html

register = template.Library()


@register.inclusion_tag("ui/rows.html")
def rows(items):
    """Rows of name, value ± and origin."""
    return {"rows": items}


@register.inclusion_tag("ui/remarks.html", takes_context=True)
def remarks(context, items):
    """Remarks with their remedies; each remedy is a form that posts."""
    return {
        "remarks": items,
        "request": context.get("request"),
        "csrf_token": context.get("csrf_token"),
        "shot": context.get("shot"),
    }


@register.simple_tag
def sign(state):
    """The sign for a step's state, beside its words."""
    return format_html(
        "{}", {"settled": "✓", "needs": "!", "begun": "…", "nothing": ""}.get(state, "")
    )


@register.filter
def key(mapping, name):
    """An entry of a dictionary."""
    return mapping.get(name)
