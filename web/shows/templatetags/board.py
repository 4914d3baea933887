"""The rows of a show's board: one for each of its shots, and hundreds of them."""

from functools import lru_cache

from django import template
from django.template.loader import render_to_string

from web.shows.models import Shot

register = template.Library()
SIGNS = {"settled": "✓", "needs": "!", "begun": "…"}
ROWS = 20_000  # of all shows, that are kept as they were drawn last


@register.simple_tag
def board_row(shot: Shot, strip: list[dict]) -> str:
    """A shot's row; `strip`: its steps as `steps.strip` has them. Drawn anew only where something
    in it is another."""
    plate = shot.state["plate"]
    cells = tuple(
        (item["url"], item["name"], item["state"], item["state_words"], item["says"])
        for item in strip
    )
    digest = plate["digest"] if plate else ""
    places = shot.url("plate"), shot.url("shot-settings")
    return _row(places, shot.code, shot.description, shot.locked, digest, cells)


@lru_cache(ROWS)
def _row(
    places: tuple[str, str],
    code: str,
    description: str,
    locked: bool,
    digest: str,
    cells: tuple[tuple, ...],
) -> str:
    context = {
        "plate": places[0],
        "settings": places[1],
        "code": code,
        "description": description,
        "locked": locked,
        "digest": digest,
        "cells": [(*cell, SIGNS.get(cell[2], "–")) for cell in cells],
    }
    return render_to_string("shows/_row.html", context)
