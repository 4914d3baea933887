"""Tags for the sheets of facts."""

from django import template
from django.utils.html import escape, format_html
from django.utils.safestring import mark_safe

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


SIGNS = {"settled": "✓", "needs": "!", "begun": "…"}


@register.simple_tag
def step_cells(steps):
    """The cells of a board's row, a step each; without a template, as a board of 300 shots has 2,400 of them."""
    out = []
    for item in steps:
        sign_of = SIGNS.get(item["state"], "–")
        inner = (
            f'<i class="perf {escape(item["state"])} not-italic">{sign_of}</i>'
            f"<small>{escape(item['says'])}</small>"
        )
        if item["url"]:
            title = escape(f"{item['name']}: {item['state_words']}")
            inner = f'<a href="{escape(item["url"])}" class="no-underline text-ink" title="{title}">{inner}</a>'
        out.append(f"<td>{inner}</td>")
    return mark_safe("".join(out))  # every value was escaped


@register.filter
def page_of(shot, name):
    """The address of one of a shot's pages: quicker than `url`, for long lists."""
    return shot.url(name)


@register.filter
def key(mapping, name):
    """An entry of a dictionary."""
    return mapping.get(name)
