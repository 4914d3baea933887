"""Typed facts: a form for each kind, which gives the match document's fact. Lengths are text with
units, in the show's unit where bare."""

import math
from typing import Any

from django import forms

from aperture.errors import Problem
from aperture.lens.projections import MATCHED
from aperture.match.facts import AXES
from aperture.units import (
    exact_number,
    parse_angle,
    parse_length,
    parse_number,
    parse_pair,
    parse_plus_minus,
)
from web.shows.forms import BaseField

AXIS_CHOICES = [(axis, axis) for axis in AXES]


def _degrees(text, name) -> float:
    return math.degrees(parse_angle(text, name))


def _millimetres(text, name) -> float:
    return parse_length(text, "mm", name) * 1000


def with_plus_minus(text: str, name: str) -> float | dict:
    """A number, or a number with its ± as the document has it: `-0.12`, `-0.12 ± 0.01`."""
    value, separator, plus_minus = text.replace("+-", "±").replace("+/-", "±").partition("±")
    number = parse_number(value, name)
    if not separator:
        return number
    spread = parse_plus_minus(plus_minus, number, parse_number, f"The ± of {name}")
    return {"value": number, "plus_minus": spread}


def _given(value) -> str:
    """A coefficient as it is typed."""
    if isinstance(value, dict):
        return f"{exact_number(value['value'])} ± {exact_number(value['plus_minus'])}"
    return exact_number(value) if value else ""


class FactForm(forms.Form):
    """A value and its ±. `initial_of` shows a stored fact; `fact()` is what was typed, once the
    form is valid."""

    kind, title, verb = "", "", "Add the fact"
    plus_minus = forms.CharField(label="±", max_length=40, required=False)
    name = forms.CharField(label="Name", max_length=60, required=False)
    base = BaseField()

    def __init__(self, *args, show, spots=(), **kwargs):
        super().__init__(*args, **kwargs)
        self.show = show

    def read(self, field, reader, *arguments, fallback=None):
        """A field read, or its sentence put beside it and None; `fallback` where it is empty."""
        text = (self.cleaned_data.get(field) or "").strip()
        if not text and fallback is not None:
            return fallback
        try:
            return reader(text, *arguments)
        except Problem as problem:
            self.add_error(field, problem.sentence)

    def spread(self, of, reader, assumed) -> dict:
        """The fact's ±, as `reader(text, name)` understands it or in % of the value `of`.

        Where the field is empty, `assumed`, and said to be so.
        """
        text = (self.cleaned_data.get("plus_minus") or "").strip()
        if not text:
            return {"plus_minus": assumed, "assumed": True}
        value = self.read("plus_minus", parse_plus_minus, of or 0.0, reader)
        if value is not None and value <= 0:
            self.add_error("plus_minus", "The ± must be above zero: nothing is measured exactly.")
        return {"plus_minus": value}

    def metres(self, text, name):
        """A length as `spread` reads it."""
        return parse_length(text, self.show.length_unit, name)

    def length(self, field, name):
        """Metres."""
        return self.read(field, parse_length, self.show.length_unit, name)

    def angle(self, field, name, fallback=None):
        """Degrees."""
        value = self.read(field, parse_angle, name, fallback=fallback)
        return value if value is None or value is fallback else math.degrees(value)

    def fact(self) -> dict:
        """The document's fact, without its id."""
        data = self.cleaned_data["fact"]
        return data | ({"name": self.cleaned_data["name"]} if self.cleaned_data.get("name") else {})

    def clean(self):
        """Puts the fact together from the fields."""
        data = super().clean() or self.cleaned_data
        self.cleaned_data = data
        data["fact"] = {"kind": self.kind} | self.document()
        return data

    def document(self) -> dict:
        """The fact's own fields."""
        raise NotImplementedError

    @classmethod
    def initial_of(cls, fact: dict, show) -> dict:
        """What the form shows of a stored fact."""
        return {"name": fact.get("name", "")} | cls.shown(fact, show)

    @classmethod
    def shown(cls, fact: dict, show) -> dict:
        """The fact's own fields as text."""
        return {
            "value": show.typed(fact["metres"]),
            "plus_minus": show.typed(fact["plus_minus"]),
        }


class Measured(FactForm):
    """A length in metres and its ±; empty is half a percent, at least 1 mm."""

    value = forms.CharField(label="Value", max_length=40, required=False)
    value_name, positive = "The length", True

    def document(self):
        """Above zero where it must be."""
        metres = self.length("value", self.value_name)
        if metres is not None and self.positive and metres <= 0:
            self.add_error("value", f"{self.value_name} must be above zero.")
        assumed = max(abs(metres or 1) * 0.005, 0.001)
        return {"metres": metres} | self.spread(metres, self.metres, assumed)


class LengthForm(Measured):
    """A length between two spots."""

    kind, title, verb = "length", "Length between two spots", "Add the length"
    start = forms.ChoiceField(label="Length from", required=True)
    end = forms.ChoiceField(label="to", required=True)
    along = forms.ChoiceField(
        label="runs", required=False, choices=[("", "straight"), *AXIS_CHOICES]
    )

    def __init__(self, *args, spots=(), **kwargs):
        super().__init__(*args, **kwargs)
        choices = [(spot["id"], spot.get("name") or spot["id"]) for spot in spots]
        for field in ("start", "end"):
            self.fields[field].choices = choices
            self.fields[field].error_messages["required"] = "Choose a spot. Draw two with S first."
        self.fields["value"].label = "Length"

    def document(self):
        """Two different spots."""
        data = self.cleaned_data
        if data.get("start") and data.get("start") == data.get("end"):
            self.add_error("end", "A length needs two different spots.")
        return (
            super().document()
            | {"from": data.get("start"), "to": data.get("end")}
            | ({"along": data["along"]} if data.get("along") else {})
        )

    @classmethod
    def shown(cls, fact, show):
        """Spots and direction too."""
        return super().shown(fact, show) | {
            "start": fact["from"],
            "end": fact["to"],
            "along": fact.get("along", ""),
        }


class HeightForm(Measured):
    """The camera's height above the floor."""

    kind, title, verb = "camera_height", "Camera height", "Add the height"
    value_name, positive = "The camera's height", False

    def document(self):
        """A camera stands above its floor, or below it; not in it."""
        document = super().document()
        if document["metres"] == 0:
            self.add_error(
                "value", "A height of 0 tells nothing: type how high the lens stood, such as 1.6 m."
            )
        return document

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        self.fields["value"].label = "Camera height"


class PositionForm(FactForm):
    """The camera's place, each coordinate where it is known."""

    kind, title, verb = "camera_position", "Camera position", "Add the position"
    across = forms.CharField(label="Across", max_length=40, required=False)
    up = forms.CharField(label="Up", max_length=40, required=False)
    along = forms.CharField(label="Along", max_length=40, required=False)

    def document(self):
        """At least one coordinate."""
        metres = [
            (
                self.length(axis, f"The place {axis}")
                if (self.cleaned_data.get(axis) or "").strip()
                else None
            )
            for axis in AXES
        ]
        if metres == [None] * 3 and not self.errors:
            self.add_error("across", "Give at least one coordinate; leave empty what isn't known.")
        largest = max((abs(value) for value in metres if value is not None), default=0.0)
        return {"metres": metres} | self.spread(largest, self.metres, 0.05)

    @classmethod
    def shown(cls, fact, show):
        """Empty where not known."""
        values = {
            axis: "" if value is None else show.typed(value)
            for axis, value in zip(AXES, fact["metres"])
        }
        return values | {"plus_minus": show.typed(fact["plus_minus"])}


class AngleForm(FactForm):
    """Roll, tilt or pan; a level camera has roll 0."""

    kind, title, verb = "camera_angle", "Level camera, or a known angle", "Add the angle"
    of = forms.ChoiceField(
        label="Angle", choices=[("roll", "roll"), ("tilt", "tilt"), ("pan", "pan")]
    )
    value = forms.CharField(label="Degrees", max_length=20, required=False)

    def document(self):
        """Empty is level."""
        degrees = self.angle("value", "The angle", 0.0)
        return {"of": self.cleaned_data.get("of"), "degrees": degrees} | self.spread(
            degrees, _degrees, 0.5
        )

    @classmethod
    def shown(cls, fact, show):
        """In degrees."""
        return {
            "of": fact["of"],
            "value": f"{exact_number(fact['degrees'])}°",
            "plus_minus": f"{exact_number(fact['plus_minus'])}°",
        }


class ViewForm(FactForm):
    """A known angle of view."""

    kind, title, verb = "angle_of_view", "Angle of view", "Add the angle of view"
    basis = forms.ChoiceField(
        label="Measured",
        choices=[("horizontal", "across"), ("vertical", "down"), ("diagonal", "diagonal")],
    )
    value = forms.CharField(label="Degrees", max_length=20, required=False)

    def document(self):
        """Between 0 and 360 degrees."""
        degrees = self.angle("value", "The angle of view")
        if degrees is not None and not 0 < degrees < 360:
            self.add_error("value", "The angle of view must lie between 0° and 360°.")
        return {"basis": self.cleaned_data.get("basis"), "degrees": degrees} | self.spread(
            degrees, _degrees, 0.5
        )

    @classmethod
    def shown(cls, fact, show):
        """In degrees."""
        return {
            "basis": fact["basis"],
            "value": f"{exact_number(fact['degrees'])}°",
            "plus_minus": f"{exact_number(fact['plus_minus'])}°",
        }


class RangeForm(FactForm):
    """A zoom's range: the focal length lies somewhere in it."""

    kind, title, verb = "focal_range", "Zoom, its range", "Add the range"
    from_mm = forms.CharField(label="From", max_length=20, required=False)
    to_mm = forms.CharField(label="To", max_length=20, required=False)

    def document(self):
        """The shorter end first."""
        ends = [
            self.read(field, parse_length, "mm", "The focal length")
            for field in ("from_mm", "to_mm")
        ]
        ends = [None if end is None else end * 1000 for end in ends]
        if None not in ends and not 0 < ends[0] <= ends[1]:
            self.add_error("to_mm", "The range begins with its shorter end, above zero.")
        assumed = max((ends[0] or 1) * 0.01, 0.1)
        return {"from_mm": ends[0], "to_mm": ends[1]} | self.spread(ends[0], _millimetres, assumed)

    @classmethod
    def shown(cls, fact, show):
        """In mm."""
        return {
            "from_mm": f"{exact_number(fact['from_mm'])} mm",
            "to_mm": f"{exact_number(fact['to_mm'])} mm",
            "plus_minus": f"{exact_number(fact['plus_minus'])} mm",
        }


# By the name in the address.
FORMS = {
    "length": LengthForm,
    "height": HeightForm,
    "position": PositionForm,
    "angle": AngleForm,
    "view": ViewForm,
    "range": RangeForm,
}
NAMES = {form.kind: name for name, form in FORMS.items()}


def _centre_text(point) -> str:
    """The lens's centre as it is typed; empty where it isn't given."""
    if isinstance(point, dict):
        across, down, spread = map(exact_number, (*point["value"], point["plus_minus"]))
        return f"{across} {down} ± {spread}"
    return "" if isinstance(point, str) else " ".join(map(exact_number, point))


def _read_centre(text: str) -> list | dict:
    """The lens's centre, px, with its ± where there is one. Raises Problem."""
    place, separator, plus_minus = text.replace("+-", "±").replace("+/-", "±").partition("±")
    point = list(parse_pair(place, "The centre"))
    if not separator:
        return point
    spread = parse_number(plus_minus.replace("px", ""), "The ±")
    if spread < 0:
        raise Problem("The ± must not be below zero.")
    return {"value": point, "plus_minus": spread}


class LensForm(forms.Form):
    """What is left free of the lens, and what is given."""

    projection = forms.ChoiceField(label="Projection")
    centre = forms.ChoiceField(
        label="Centre of the lens",
        choices=[
            ("centre", "in the middle of the sensor"),
            ("free", "free: solve it"),
            ("given", "given, below"),
        ],
    )
    centre_at = forms.CharField(label="Centre, x y px (± px)", max_length=60, required=False)
    free = forms.ChoiceField(
        label="Distortion",
        required=False,
        choices=[
            ("", "as given below"),
            ("k1", "free: k1"),
            ("k1 k2", "free: k1, k2"),
            ("k1 k2 k3 p1 p2", "free: all five"),
        ],
    )
    k1 = forms.CharField(max_length=40, required=False)
    k2 = forms.CharField(max_length=40, required=False)
    k3 = forms.CharField(max_length=40, required=False)
    p1 = forms.CharField(max_length=40, required=False)
    p2 = forms.CharField(max_length=40, required=False)
    base = BaseField()
    COEFFICIENTS = ("k1", "k2", "k3", "p1", "p2")

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        self.fields["projection"].choices = [(name, name) for name in MATCHED]

    @classmethod
    def initial_of(cls, lens: dict) -> dict:
        """What the form shows of a shot's lens."""
        point, bend = lens.get("principal_point", "centre"), lens.get("distortion", "none")
        bend = {} if bend == "none" else bend
        return {
            "projection": lens.get("projection", "rectilinear"),
            "centre": point if isinstance(point, str) else "given",
            "centre_at": _centre_text(point),
            "free": " ".join(bend.get("free", ())),
            **{name: _given(bend.get(name)) for name in cls.COEFFICIENTS},
        }

    def clean(self):
        """`cleaned_data["lens"]`: the document's fields, without the focal length."""
        data = super().clean() or self.cleaned_data
        out: dict[str, Any] = {"projection": "rectilinear"}
        out["projection"] = data.get("projection", "rectilinear")
        if data.get("centre") == "given":
            try:
                out["principal_point"] = _read_centre(data.get("centre_at") or "")
            except Problem:
                self.add_error(
                    "centre_at",
                    "Type the centre as two numbers in px, with ± if you have it: 960.0 540.0 ± 3.",
                )
        else:
            out["principal_point"] = data.get("centre", "centre")
        bend = {}
        for name in self.COEFFICIENTS:
            if (data.get(name) or "").strip():
                try:
                    bend[name] = given = with_plus_minus(data[name], name)
                    if abs(given["value"] if isinstance(given, dict) else given) > 1000:
                        raise Problem(f"{name} must lie between −1000 and 1000.")
                except Problem as problem:
                    self.add_error(name, problem.sentence)
        if data.get("free"):
            bend["free"] = data["free"].split()
        if bend and out["projection"] != "rectilinear":
            self.add_error(
                "projection",
                "Distortion coefficients belong to a rectilinear lens: empty them, or choose"
                " rectilinear.",
            )
        out["distortion"] = bend or "none"
        data["lens"] = out
        return data
