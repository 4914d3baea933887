"""The Look leaf: character that is previewed, kept by name, and not delivered unless it is asked
for."""

import math
import tempfile
from dataclasses import asdict
from pathlib import Path

from django import forms
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.light.character import grade
from aperture.light.character import look as core
from aperture.light.character.look import Look
from aperture.light.character.sensor import grain_of_iso
from aperture.units import exact_number, parse_number
from web.expose import exposure, looks, page
from web.expose.models import ShowLook
from web.shows.forms import BaseField, on_form
from web.shows.reading import base_of, given_file, given_name
from web.shows.views import find
from web.ui.rows import Remark, Row

CUBE_SIZE = 33
# Groups of fields: (title, (name, label, what it is)).
GROUPS = (
    (
        "Fall-off",
        (
            ("cos4", "Natural, cos⁴", "As a thin lens has it, by the angle of view"),
            ("fall_off", "Measured k₁ k₂ k₃", "Of 1 + k₁r² + k₂r⁴ + k₃r⁶, r of the half diagonal"),
        ),
    ),
    (
        "Glow",
        (
            ("bloom", "Bloom", "The share of what is bright that is spread"),
            ("bloom_size", "its size", "Of the picture’s width"),
            ("threshold", "Bright from", "Linear light: 1 is white"),
            ("streaks", "Streaks", "The share that goes into streaks"),
            ("streak_count", "how many", ""),
            ("streak_turn", "turned by (°)", ""),
            ("streak_length", "their length", "Of the picture’s width"),
            ("veil", "Veil", "The share of the mean light over all of the picture"),
        ),
    ),
    (
        "Glass and film",
        (
            ("fringe_red", "Red fringe (px)", "Outward at the corner, of 1920 px across"),
            ("fringe_blue", "Blue fringe (px)", "Outward at the corner, of 1920 px across"),
            ("dirt", "Dirt", "Soft spots on the front glass"),
            ("scratches", "Scratches", "Light of upright scratches"),
            ("scratch_count", "how many", ""),
            ("grain", "Grain", "Deviation at middle grey, as a share of it"),
            ("grain_px", "its size (px)", "Of 1920 px across"),
            ("seed", "Seed", "The same one gives the same grain, dirt and scratches"),
            ("stray", "Stray pixels from ×", "Taken away where so much brighter; 0 leaves them"),
        ),
    ),
    (
        "Grade",
        (
            ("response", "Response", "How stops are rendered"),
            ("points", "Own curve", "Stops in and out: −4 −3.8, 0 0, 4 2.4"),
            ("stops", "Exposure (stops)", ""),
            ("gamma", "Gamma", "About middle grey"),
            ("saturation", "Saturation", ""),
        ),
    ),
    (
        "Perspective",
        (
            ("perspective", "Lay it out anew", "For wide pictures: uprights stay upright"),
            ("compression", "Compression", "0 straight, 1 Pannini’s"),
            ("vertical", "Vertical correction", "1 makes lines across straight again"),
        ),
    ),
)


class LookForm(forms.Form):
    """All of a look's figures."""

    base = BaseField()

    def __init__(self, *args, own: Look, **kwargs):
        super().__init__(*args, **kwargs)
        for _, rows in GROUPS:
            for name, label, title in rows:
                self.fields[name] = _field(name, label, title, getattr(own, name))

    @property
    def groups(self):
        """(title, fields, whether any of them differs from the usual) for the page."""
        usual = asdict(Look())
        for title, rows in GROUPS:
            fields = [self[name] for name, _, _ in rows]
            changed = any(
                field.value() not in (None, "", _text(name, usual[name]), usual[name])
                for field, (name, _, _) in zip(fields, rows)
            )
            yield title, fields, changed or any(field.errors for field in fields)

    def clean(self):
        """`cleaned_data["look"]`."""
        data = super().clean() or self.cleaned_data
        values = {}
        for _, rows in GROUPS:
            for name, label, _ in rows:
                with on_form(self, name):
                    values[name] = _value(name, label, data.get(name))
        if not self.errors:
            with on_form(self):
                data["look"] = Look.from_json(values)
                if data["look"].response == "own":
                    grade.response(_probe(), data["look"].points)
        return data


def _probe():
    import numpy as np

    return np.full((1, 1, 3), 0.18, np.float32)


def _field(name: str, label: str, title: str, value):
    attrs = {"title": title}
    if name in ("cos4", "perspective"):
        return forms.BooleanField(
            label=label, required=False, initial=value, widget=forms.CheckboxInput(attrs=attrs)
        )
    if name == "response":
        names = [(key, key) for key in grade.RESPONSES] + [("own", "own curve, below")]
        return forms.ChoiceField(
            label=label, choices=names, initial=value, widget=forms.Select(attrs=attrs)
        )
    return forms.CharField(
        label=label,
        max_length=4000,
        required=False,
        initial=_text(name, value),
        widget=forms.TextInput(attrs=attrs),
    )


def _text(name: str, value) -> str:
    if name == "fall_off":
        return " ".join(map(exact_number, value)) if any(value) else ""
    if name == "points":
        return ", ".join(f"{exact_number(a)} {exact_number(b)}" for a, b in value)
    return str(value) if isinstance(value, (bool, str)) else exact_number(value)


def _value(name: str, label: str, typed):
    usual = getattr(Look(), name)
    if name in ("cos4", "perspective", "response"):
        return typed
    text = (typed or "").replace("−", "-").strip()
    if not text:
        return usual
    if name == "fall_off":
        parts = [parse_number(part, label) for part in text.replace(",", " ").split()]
        if len(parts) > 3:
            raise Problem("A fall-off has three coefficients at most.")
        return [*parts, *[0.0] * (3 - len(parts))]
    if name == "points":
        pairs = [part.split() for part in text.split(",") if part.strip()]
        if any(len(pair) != 2 for pair in pairs):
            raise Problem("A curve is pairs of stops, such as −4 −3.8, 0 0, 4 2.4.")
        return [[parse_number(one, label) for one in pair] for pair in pairs]
    value = parse_number(text, label)
    if isinstance(usual, int) and value != int(value):
        raise Problem(f"{label} is a whole number.")
    return value


def look(request, show, shot):
    """The leaf; POST saves the figures."""
    shot = find(show, shot)
    own = looks.look_of(shot)
    form = LookForm(request.POST or None, own=own, initial={"base": shot.head.number})
    if request.method == "POST" and form.is_valid():
        looks.set_look(shot, form.cleaned_data["look"], form.cleaned_data["base"])
        return redirect(shot.url("expose-look"))
    kept = shot.state["look"]
    iso = exposure.of_camera(shot)["iso"].value
    rows, remarks = _laid_out(shot, own)
    context = {
        "form": form,
        "on": bool(kept.get("on")),
        "names": looks.names_of(shot),
        "name": kept.get("name", ""),
        "cube_name": kept.get("cube_name", ""),
        "kept_looks": shot.show.looks.all(),
        "grain_by_iso": f"{grain_of_iso(iso):.3f}" if iso else "",
        "rows": rows,
        "remarks": remarks,
    }
    status = 422 if form.errors else 200
    return page.leaf_page(request, shot, "expose-look", "expose/look.html", context, status)


def _laid_out(shot, own: Look) -> tuple[list[Row], list[Remark]]:
    """What the perspective leaves of the view."""
    if not own.perspective:
        return [], []
    try:
        found = looks.laid_out(shot)
    except Problem as problem:
        return [], [Remark("The perspective", problem.sentence)]
    if found is None:
        return [], [Remark("The perspective", "It needs a camera: match the plate first.", "note")]
    degrees = [math.degrees(each) for each in (found.horizontal, found.vertical)]
    lost = [math.degrees(max(0.0, each)) for each in (found.lost_horizontal, found.lost_vertical)]
    return [
        Row("Left across", f"{degrees[0]:.1f}°", f"lost {lost[0]:.1f}°"),
        Row("Left upright", f"{degrees[1]:.1f}°", f"lost {lost[1]:.1f}°"),
    ], []


@require_POST
def switch(request, show, shot):
    """Whether the look goes into pictures that are delivered."""
    shot = find(show, shot)
    looks.switch(shot, request.POST.get("on") == "1", base_of(request))
    return redirect(shot.url("expose-look"))


@require_POST
def table(request, show, shot):
    """Take a lookup table, or forget it."""
    shot = find(show, shot)
    if request.POST.get("forget"):
        looks.set_table(shot, None, "", base_of(request))
    else:
        upload = given_file(request, "table", "a lookup table, a .cube file", grade.MOST_BYTES)
        looks.set_table(shot, upload.read(), upload.name, base_of(request))
    return redirect(shot.url("expose-look"))


@require_POST
def keep(request, show, shot):
    """Keep the look on the show under a name, or remove one that is kept."""
    shot = find(show, shot)
    if request.POST.get("remove"):
        get_object_or_404(ShowLook, show=shot.show, pk=request.POST["remove"]).delete()
    else:
        looks.keep(shot, given_name(request, 80))
    return redirect(shot.url("expose-look"))


@require_POST
def take(request, show, shot):
    """Take a look of the show, or one out of a file."""
    shot, upload = find(show, shot), request.FILES.get("file")
    if upload is not None:
        data, name = looks.read_file(upload.read(1_000_001)), Path(upload.name).stem
    else:
        row = get_object_or_404(ShowLook, show=shot.show, pk=request.POST.get("look") or 0)
        data, name = row.data, row.name
    looks.take(shot, data, name, base_of(request))
    return redirect(shot.url("expose-look"))


@require_GET
def file(request, show, shot):
    """The look as JSON."""
    shot = find(show, shot)
    answer = HttpResponse(looks.written(shot), content_type="application/json")
    answer["Content-Disposition"] = f'attachment; filename="{shot.code}_look.json"'
    return answer


@require_GET
def cube(request, show, shot):
    """What of the look is the same at every place of the picture, as a lookup table."""
    shot = find(show, shot)
    own = looks.look_of(shot)
    graded = Look(
        response=own.response,
        points=own.points,
        stops=own.stops,
        gamma=own.gamma,
        saturation=own.saturation,
    )
    own_table = looks.table_of(shot)

    def transform(linear):
        return core.apply(linear, graded, 0.5, table=own_table)

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "look.cube"
        grade.write_cube(grade.baked(transform, CUBE_SIZE), path)
        data = path.read_bytes()
    answer = HttpResponse(data, content_type="text/plain")
    answer["Content-Disposition"] = f'attachment; filename="{shot.code}_look.cube"'
    return answer
