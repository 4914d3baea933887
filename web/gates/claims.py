"""Claims: a field of view and a focal length quoted together, against every projection and
basis."""

import math
from typing import Any

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
            "sensor": (
                f"{format_number(gate['width_mm'] * gate['squeeze'], 3)} ×"
                f" {format_number(gate['height_mm'], 3)} mm"
            )
        }
        if gate
        else {}
    )
    form = ClaimForm(request.GET if asked else None, initial=ready)
    context: dict[str, Any] = {"form": form}
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
    """An equivalent focal length belongs to a frame 36 mm wide or 43.27 mm on the diagonal: times
    this it belongs to the plate's gate."""
    chain = chain_of(shot.state)
    if chain is None:
        return None
    width, height = chain.shown_gate(chain.plate)
    return {
        "width": width / FULL_FRAME_MM[0],
        "diagonal": math.hypot(width, height) / FULL_FRAME_DIAGONAL_MM,
    }.get(kind, 1.0)


def _table(claim, readings: list[Reading], scale: float | None):
    # `scale`: from the quoted focal length to the shot's own; None where the shot has no gate to
    # say it for.
    rows = {}
    for reading in readings:
        cell = _cell(claim, reading)
        stated = reading.agrees if claim.focal_mm else claim.basis in (None, reading.basis)
        can_be_taken = stated and cell["says"] != "none" and reading.projection in MATCHED
        if claim.angle and claim.sensor_mm and can_be_taken and scale:
            cell["take"] = {
                "projection": reading.projection,
                "focal": repr(reading.focal_mm * scale),
            }
        rows.setdefault(reading.projection, []).append(cell)
    return [{"projection": name, "cells": cells} for name, cells in rows.items()]


def _cell(claim, reading: Reading) -> dict:
    """The number that follows from the two that are given, or the angle beside all three."""
    if claim.focal_mm and claim.sensor_mm:
        value = reading.angle
        says = f"{math.degrees(reading.angle):.1f}°"
        off = ""
        if reading.off is not None:
            off = f"{math.degrees(reading.off):+.1f}°".replace("-", "−")
        agrees = reading.agrees
    elif claim.sensor_mm:
        value, says = reading.focal_mm, f"{reading.focal_mm:.2f} mm"
        off, agrees = "focal length", False
    else:
        value, says = reading.side_mm, f"{reading.side_mm:.2f} mm"
        off, agrees = "side of the sensor", False
    if not math.isfinite(value):
        return {"says": "none", "agrees": False}
    return {"says": says, "agrees": agrees, "off": off}


def _sentence(claim, readings):
    if claim.angle is None or claim.focal_mm is None or claim.sensor_mm is None:
        return (
            "Two numbers are given, so the third follows for each kind of lens. Give all three to"
            " see which of them can be true together."
        )
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
    return (
        f"No projection has both numbers, measured any way, within {AGREES:.0%}. One of them is"
        " wrong, or belongs to another picture."
    )


TOP = 2.2  # of the chart, in focal lengths
MOST_DEGREES = 120


def _x(degrees: float) -> float:
    return 46 + degrees / MOST_DEGREES * (WIDE - 60)


def _y(distance: float) -> float:
    return HIGH - 36 - distance / TOP * (HIGH - 56)


def _chart(claim):
    """Distance from the middle in focal lengths against the angle from the axis, one line per
    projection."""
    half = math.degrees(claim.angle) / 2 if claim.angle else math.inf
    marks = _quoted_sides(claim)
    if half <= MOST_DEGREES:
        marks.append(
            {
                "says": f"{format_number(half, 1)}°, half of the angle",
                "d": f"M{_x(half):.1f} {_y(0):.1f}V{_y(TOP):.1f}",
                "x": _x(half) - 4,
                "y": _y(0) - 6,
                "quoted": True,
            }
        )
    return {
        "lines": _curves(half),
        "marks": marks,
        "wide": WIDE,
        "high": HIGH,
        "xs": [{"x": _x(a), "says": f"{a}°"} for a in (0, 30, 60, 90, 120)],
        "ys": [{"y": _y(r), "says": format_number(r, 1)} for r in (0.5, 1, 1.5, 2)],
        "left": _x(0),
        "right": _x(MOST_DEGREES),
        "bottom": _y(0),
        "top": _y(TOP),
    }


def _curves(half: float) -> list[dict]:
    """One line per projection; its name on the left where it would cover the mark at `half`
    (degrees)."""
    lines = []
    for name, curve in curves(math.radians(MOST_DEGREES)).items():
        inside = [(math.degrees(theta), r) for theta, r in curve if r <= TOP]  # NaN isn't
        end_degrees, end_distance = inside[-1]
        lines.append(
            {
                "name": name,
                "dash": DASHES[name],
                "d": "M" + "L".join(f"{_x(a):.1f} {_y(b):.1f}" for a, b in inside),
                "x": _x(end_degrees),
                "y": _y(end_distance),
                "left": 0 < half - end_degrees < 25,
            }
        )
    return lines


def _quoted_sides(claim) -> list[dict]:
    """Half of the sensor's sides and diagonal in focal lengths, as level lines."""
    if not (claim.sensor_mm and claim.focal_mm):
        return []
    width, height = claim.sensor_mm
    sides = {"horizontal": width, "vertical": height, "diagonal": math.hypot(width, height)}
    marks = []
    for basis in BASES:
        half_side = sides[basis] / 2 / claim.focal_mm
        if half_side <= TOP:
            level = f"M{_x(0):.1f} {_y(half_side):.1f}H{_x(MOST_DEGREES):.1f}"
            mark = {"says": BASIS_WORDS[basis], "d": level}
            marks.append(mark | {"x": _x(MOST_DEGREES), "y": _y(half_side) - 3})
    return marks


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
