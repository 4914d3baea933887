"""Renders the plain form fields without templates: pages have dozens of them, and each would be
several templates."""

from django.forms.renderers import DjangoTemplates
from django.utils.html import conditional_escape
from django.utils.safestring import mark_safe


def _attributes(attributes: dict) -> str:
    out = []
    for name, value in attributes.items():
        if value is True:
            out.append(f" {name}")
        elif value is not False:
            out.append(f' {name}="{conditional_escape(str(value))}"')
    return "".join(out)


def _input(widget: dict) -> str:
    value = widget["value"]
    shown = "" if value is None else f' value="{conditional_escape(str(value))}"'
    name = conditional_escape(widget["name"])
    return f'<input type="{widget["type"]}" name="{name}"{shown}{_attributes(widget["attrs"])}>'


def _select(widget: dict) -> str:
    parts = [f'<select name="{conditional_escape(widget["name"])}"{_attributes(widget["attrs"])}>']
    for group, options, _ in widget["optgroups"]:
        if group:
            parts.append(f'<optgroup label="{conditional_escape(group)}">')
        for option in options:
            value = conditional_escape(str(option["value"]))
            label = conditional_escape(option["label"])
            parts.append(f'<option value="{value}"{_attributes(option["attrs"])}>{label}</option>')
        if group:
            parts.append("</optgroup>")
    return "".join([*parts, "</select>"])


FOLDER = "django/forms/widgets/"
PLAIN = {
    f"{FOLDER}{kind}.html": _input for kind in ("text", "number", "hidden", "checkbox", "email")
} | {f"{FOLDER}select.html": _select}


class Renderer(DjangoTemplates):
    """Django's, with the plain widgets written here to the same effect."""

    def render(self, template_name, context, request=None):
        """The HTML of a widget, form or list of errors."""
        plain = PLAIN.get(template_name)
        if plain is None:
            return super().render(template_name, context, request)
        return mark_safe(plain(context["widget"]))
