"""Claims: a field of view and a focal length quoted together, against every projection and basis."""

import math

from django.shortcuts import redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.gates.claims import AGREES, BASES, Claim, Reading, curves, equivalent_sensor, lay_out
from aperture.gates.typed import parse_aspect, parse_shape
from aperture.geometry.angles import FULL_FRAME_DIAGONAL_MM, FULL_FRAME_MM
from aperture.lens.projections import MATCHED
from aperture.units import format_number, parse_angle, parse_length, parse_number
from web.gates import actions
from web.gates.forms import ClaimForm
from web.gates.gate import chain_of
from web.shows.forms import on_form
from web.shows.reading import base_of
from web.shows.views import find, step_page

BASIS_WORDS = {"horizontal": "across", "vertical": "down", "diagonal": "diagonal"}
DASHES = {
    "rectilinear": "",
    "equidistant": "14 5",
    "equisolid": "3 4",
    "stereographic": "14 4 3 4",
    "orthographic": "7 5",
}
WIDE, HIGH = 420, 320


def _claim(form) -> Claim:
    data = form.cleaned_data
    angle = parse_angle(data["angle"]) if data["angle"] else None
    focal = parse_length(data["focal"], "mm", "The focal length") * 1000 if data["focal"] else None
    sensor = None
    if data["sensor"]:
        shape = parse_shape(
            data["sensor"] if "mm" in data["sensor"] else data["sensor"] + " mm", ("mm",)
        )
        sensor = (shape["width_mm"], shape["height_mm"])
    if data["kind"] in ("width", "diagonal") and focal:
        if sensor:
            raise Problem(
                "An equivalent focal length belongs to 36 × 24 mm: leave the sensor empty.",
                "sensor",
            )
        sensor = equivalent_sensor(
            parse_aspect(data["aspect"]) if data["aspect"] else 1.5, data["kind"]
        )
    return Claim(angle, data["basis"] or None, focal, sensor)


@require_GET
def claims(request, show, shot):
    """The table of readings, and the mappings drawn."""
    shot = find(show, shot)
    asked = any(request.GET.get(name) for name in ("angle", "focal", "sensor"))
    gate = shot.state["gate"]
    ready = (
        {
            "sensor": f"{format_number(gate['width_mm'] * gate['squeeze'], 3)} × {format_number(gate['height_mm'], 3)} mm"
        }
        if gate
        else {}
    )
    form = ClaimForm(request.GET if asked else None, initial=ready)
    context = {"form": form}
    if asked and form.is_valid():
        with on_form(form):
            claim = _claim(form)
            readings = lay_out(claim)
            table = _table(claim, readings, _scale(shot, form.cleaned_data["kind"]))
            context |= {
                "claim": claim,
                "table": table,
                "chart": _chart(claim),
                "sentence": _sentence(claim, readings),
            }
    return step_page(
        request,
        shot,
        "gate",
        "gates/claims.html",
        context,
        status=422 if asked and form.errors else 200,
    )


def _scale(shot, kind: str) -> float | None:
    """An equivalent focal length belongs to a frame 36 mm wide or 43.27 mm on the diagonal: times this it belongs to the plate's gate."""
    chain = chain_of(shot.state)
    if chain is None:
        return None
    width, height = chain.shown_gate(chain.plate)
    return {
        "width": width / FULL_FRAME_MM[0],
        "diagonal": math.hypot(width, height) / FULL_FRAME_DIAGONAL_MM,
    }.get(kind, 1.0)


def _table(claim, readings: list[Reading], scale: float | None):
    # `scale`: from the quoted focal length to the shot's own; None where the shot has no gate to say it for.
    rows = {}
    for reading in readings:
        if not math.isfinite(
            reading.angle
            if claim.focal_mm and claim.sensor_mm
            else reading.focal_mm
            if claim.sensor_mm
            else reading.side_mm
        ):
            cell = {"says": "none", "agrees": False}
        elif claim.focal_mm and claim.sensor_mm:
            cell = {
                "says": f"{math.degrees(reading.angle):.1f}°",
                "agrees": reading.agrees,
                "off": f"{math.degrees(reading.off):+.1f}°".replace("-", "−")
                if reading.off is not None
                else "",
            }
        elif claim.sensor_mm:
            cell = {"says": f"{reading.focal_mm:.2f} mm", "agrees": False, "off": "focal length"}
        else:
            cell = {
                "says": f"{reading.side_mm:.2f} mm",
                "agrees": False,
                "off": "side of the sensor",
            }
        stated = reading.agrees if claim.focal_mm else claim.basis in (None, reading.basis)
        if (
            claim.angle
            and claim.sensor_mm
            and stated
            and cell["says"] != "none"
            and reading.projection in MATCHED
            and scale
        ):
            cell["take"] = {
                "projection": reading.projection,
                "focal": repr(reading.focal_mm * scale),
            }
        rows.setdefault(reading.projection, []).append(cell)
    return [{"projection": name, "cells": cells} for name, cells in rows.items()]


def _sentence(claim, readings):
    if claim.angle is None or claim.focal_mm is None or claim.sensor_mm is None:
        return "Two numbers are given, so the third follows for each kind of lens. Give all three to see which of them can be true together."
    fitting = [
        f"{reading.projection} {BASIS_WORDS[reading.basis]} ({math.degrees(reading.angle):.1f}°)"
        for reading in readings
        if reading.agrees
    ]
    if fitting:
        straight = (
            ""
            if any(one.startswith("rectilinear") for one in fitting)
            else " No straight lens has both numbers."
        )
        return f"They agree, within {AGREES:.0%}, for: {', '.join(fitting)}.{straight}"
    return f"No projection has both numbers, measured any way, within {AGREES:.0%}. One of them is wrong, or belongs to another picture."


def _chart(claim):
    """Distance from the middle in focal lengths against the angle from the axis, one line a projection."""
    top = 2.2
    x = lambda degrees: 46 + degrees / 120 * (WIDE - 60)  # noqa: E731
    y = lambda r: HIGH - 36 - r / top * (HIGH - 56)  # noqa: E731
    lines, half = [], math.degrees(claim.angle) / 2 if claim.angle else 999
    for name, curve in curves(math.radians(120)).items():
        inside = [(math.degrees(theta), r) for theta, r in curve if r == r and r <= top]
        lines.append(
            {
                "name": name,
                "dash": DASHES[name],
                "d": "M" + "L".join(f"{x(a):.1f} {y(b):.1f}" for a, b in inside),
                "x": x(inside[-1][0]),
                "y": y(inside[-1][1]),
                "left": 0 < half - inside[-1][0] < 25,
            }
        )
    marks = []
    if claim.sensor_mm and claim.focal_mm:
        for basis in BASES:
            side = (
                {
                    "horizontal": claim.sensor_mm[0],
                    "vertical": claim.sensor_mm[1],
                    "diagonal": math.hypot(*claim.sensor_mm),
                }[basis]
                / 2
                / claim.focal_mm
            )
            if side <= top:
                marks.append(
                    {
                        "says": BASIS_WORDS[basis],
                        "d": f"M{x(0):.1f} {y(side):.1f}H{x(120):.1f}",
                        "x": x(120),
                        "y": y(side) - 3,
                    }
                )
    if half <= 120:
        marks.append(
            {
                "says": f"{format_number(half, 1)}°, half of the angle",
                "d": f"M{x(half):.1f} {y(0):.1f}V{y(top):.1f}",
                "x": x(half) - 4,
                "y": y(0) - 6,
                "quoted": True,
            }
        )
    return {
        "lines": lines,
        "marks": marks,
        "wide": WIDE,
        "high": HIGH,
        "xs": [{"x": x(a), "says": f"{a}°"} for a in (0, 30, 60, 90, 120)],
        "ys": [{"y": y(r), "says": format_number(r, 1)} for r in (0.5, 1, 1.5, 2)],
        "left": x(0),
        "right": x(120),
        "bottom": y(0),
        "top": y(top),
    }


@require_POST
def take(request, show, shot):
    """A reading becomes the shot's lens."""
    shot = find(show, shot)
    projection = request.POST.get("projection", "")
    if projection not in MATCHED:
        raise Problem("Choose a reading from the table.")
    actions.take_claim(
        shot,
        projection,
        parse_number(request.POST.get("focal", ""), "The focal length"),
        base_of(request),
    )
    return redirect(shot.url("gate"))
