"""Tags of all templates, which a page has by the dozen: `url`, where an address that was asked for
once is known, and `field`."""

from functools import lru_cache
from typing import Any

from django import template
from django.forms import BoundField
from django.template.base import Parser, Token
from django.template.context import Context
from django.template.defaulttags import URLNode, url
from django.urls import reverse
from django.utils.html import conditional_escape, format_html, format_html_join

register = template.Library()


@lru_cache(maxsize=4096)
def _known(name: str, values: tuple, named: tuple) -> str:
    return conditional_escape(reverse(name, args=values, kwargs=dict(named)))


class _Address(URLNode):
    def render(self, context: Context) -> str:
        name = self.view_name.resolve(context)
        values = tuple(value.resolve(context) for value in self.args)
        named = tuple((key, value.resolve(context)) for key, value in self.kwargs.items())
        given = (*values, *(value for _, value in named))
        plain = all(isinstance(value, str) or type(value) is int for value in given)
        if self.asvar or not plain or not context.autoescape:
            return str(super().render(context))
        return _known(name, values, named)


@register.tag(name="url")
def known_url(parser: Parser, token: Token) -> Any:
    """As Django's own."""
    node = url(parser, token)
    return _Address(node.view_name, node.args, node.kwargs, node.asvar)


@register.simple_tag
def field(of: BoundField, label: str = "", **more: str) -> str:
    """A field of a form with its label and what is wrong with it; `class` of the whole."""
    return format_html(
        '<div class="{}"><label for="{}">{}</label>{}{}</div>',
        more.get("class", ""),
        of.id_for_label,
        label or of.label,
        of,
        format_html_join("", '<p class="error" role="alert">{}</p>', ((one,) for one in of.errors)),
    )
