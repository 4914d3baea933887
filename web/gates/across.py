"""Across the show: every shot's camera in one table, so that the one that differs stands out before
the cut does."""

from collections import Counter
from collections.abc import Callable, Iterable

from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.units import format_rate, parse_rate
from web.gates.gate import chain_of
from web.plates.frames import span_of
from web.shows.history import edit
from web.shows.models import Shot, Show
from web.shows.reading import base_of
from web.shows.state import once
from web.shows.views import find

# What one shot may take over from the others. Plate sizes can't be: they are the pictures'.
COLUMNS = (
    ("sensor", "Sensor mode"),
    ("gate", "Gate at the plate"),
    ("squeeze", "Squeeze"),
    ("rate", "Frame rate"),
    ("plate", "Plate"),
    ("delivery", "Delivery"),
)


# What other steps say of a shot's camera: key, name, and what gives the words. Nothing of it is
# taken over from others.
_more: list[tuple[str, str, Callable[[list[Shot]], list[str]]]] = []


def register_column(key: str, name: str, words: Callable[[list[Shot]], list[str]]) -> None:
    """Add a column; called by the app that knows it. words : of several shots, one each."""
    _more[:] = [*(one for one in _more if one[0] != key), (key, name, words)]


def _frames(shot: Shot) -> str:
    """The range of a film."""
    return "–".join(map(str, span_of(shot.state))) if shot.state["film"] else "a photograph"


def _facts(shot: Shot) -> dict[str, str] | None:
    return _facts_of(shot.state, shot.show.rate_text)


@once
def _facts_of(state, shows_rate: str) -> dict[str, str] | None:
    """What the columns say of a state; None without a gate."""
    gate, plate = state["gate"], state["plate"]
    if not gate:
        return None
    try:
        chain = chain_of(state)
    except Problem:
        return None
    rate = (
        f"{format_rate(parse_rate(gate['rate']))} fps"
        if gate.get("rate")
        else f"{shows_rate} fps, the show’s"
    )
    return {
        "sensor": gate["name"] or f"typed, {gate['width_mm']:.2f} × {gate['height_mm']:.2f} mm",
        "gate": "{:.2f} × {:.2f} mm".format(*chain.plate_grid.gate_mm),
        "squeeze": f"{gate['squeeze']:g}",
        "rate": rate,
        "plate": f"{plate['width']} × {plate['height']}" if plate else "–",
        "delivery": _delivery(chain, gate),
    }


def _delivery(chain, gate: dict) -> str:
    """The size of the last grid, in words where it follows another."""
    if len(chain.stages) - 1 == chain.plate:
        return "as the plate"
    return "as the lens needs" if _by_lens(gate) else chain.stages[-1].size_text


def _by_lens(gate: dict) -> bool:
    """Whether the last size hangs on how the lens bends, which this table doesn't look up for every
    shot."""
    late = gate.get("steps", [])[gate.get("plate_at", 0) :]
    sized = next(
        (
            step
            for step in reversed(late)
            if step["do"] in ("extract", "resize", "return") or "width" in step
        ),
        None,
    )
    after = late[late.index(sized) + 1 :] if sized else late
    return any(
        step["do"] == "straighten" and step.get("enlarge", True) or step.get("for") == "distortion"
        for step in after
    )


KEYS = [key for key, _ in COLUMNS]


def usual(facts: list[dict], keys: Iterable[str] = KEYS) -> dict[str, str]:
    """For each column the value that more than half of the shots share; no entry where there is
    none."""
    out = {}
    for key in keys:
        value, count = Counter(one[key] for one in facts).most_common(1)[0] if facts else ("", 0)
        if count * 2 > len(facts) and len(facts) > 1:
            out[key] = value
    return out


@require_GET
def cameras(request, show):
    """The table."""
    show = get_object_or_404(Show, slug=show)
    shots = list(show.shots.with_head().kept().filter(archived=False))
    known = [(shot, _facts(shot)) for shot in shots]
    common = usual([facts for _, facts in known if facts])
    told_of = {key: words(shots) for key, _, words in _more}
    others = [{key: words[index] for key, words in told_of.items()} for index in range(len(shots))]
    common |= usual(others, [key for key, _, _ in _more])
    columns = [*COLUMNS, *((key, name) for key, name, _ in _more)]
    rows = []
    for (shot, facts), more in zip(known, others):
        told = (facts or {"sensor": "no gate yet"}) | more
        cells = [
            (told.get(key, "–"), key in told and key in common and told[key] != common[key])
            for key, _ in columns
        ]
        cells.append((_frames(shot), False))
        alignable = [
            key for (key, _), (_, differs) in zip(COLUMNS, cells) if differs and key != "plate"
        ]
        rows.append(
            {
                "shot": shot,
                "cells": cells,
                "differs": any(differs for _, differs in cells),
                "alignable": alignable,
                "gate": bool(facts),
            }
        )
    context = {
        "show": show,
        "rows": rows,
        "columns": [*(name for _, name in columns), "Frames"],
        "odd": sum(row["differs"] for row in rows),
        "common": [*(common.get(key, "–") for key, _ in columns), "–"],
    }
    return render(request, "gates/cameras.html", context)


@require_POST
def align(request, show, shot):
    """Bring one shot into line: it takes sensor, squeeze, rate and delivery from a shot that has
    what most have."""
    shot = find(show, shot)
    others = [
        (other, facts)
        for other in shot.show.shots.with_head().kept().exclude(pk=shot.pk)
        if (facts := _facts(other))
    ]
    mine = _facts(shot)
    common = usual([facts for _, facts in others] + ([mine] if mine else []))
    wanted = [key for key in common if key != "plate" and (mine or {}).get(key) != common[key]]
    models = [
        other
        for other, facts in others
        if all(facts[key] == common[key] for key in common if key != "plate")
    ] or [other for other, facts in others if all(facts[key] == common[key] for key in wanted)]
    if not wanted or not models:
        raise Problem(
            "Most shots don't agree on what this one should take, so nothing was changed."
        )
    gate = dict(models[0].state["gate"])

    def change(state):
        state["gate"] = gate

    edit(
        shot,
        f"Brought into line with {models[0].code}:"
        f" {', '.join(dict(COLUMNS)[key].lower() for key in wanted)}",
        change,
        base_of(request),
    )
    return redirect("cameras", shot.show.slug)
