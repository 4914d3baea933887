"""Typed facts: a form for each kind, which gives the match document's fact. Lengths are text with units, in the show's unit where bare."""

import math

from django import forms

from aperture.errors import Problem
from aperture.lens.projections import MATCHED
from aperture.match.facts import AXES
from aperture.units import parse_angle, parse_length, parse_number

AXIS_CHOICES = [(axis, axis) for axis in AXES]


class FactForm(forms.Form):
    """A value and its ±. `initial_of` shows a stored fact; `fact()` is what was typed, once the form is valid."""

    kind, title, verb = "", "", "Add the fact"
    plus_minus = forms.CharField(label="±", max_length=40, required=False)
    name = forms.CharField(label="Name", max_length=60, required=False)
    base = forms.IntegerField(required=False, widget=forms.HiddenInput)

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

    def spread(self, value):
        """A ± must be above zero: nothing is measured exactly."""
        if value is not None and value <= 0:
            self.add_error("plus_minus", "The ± must be above zero: nothing is measured exactly.")
        return value

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
        data = super().clean()
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
        return {"value": show.length(fact["metres"], places=4)[0], "plus_minus": show.length(fact["plus_minus"], places=4)[0]}


class Measured(FactForm):
    """A length in metres and its ±; empty is half a percent, at least 1 mm."""

    value = forms.CharField(label="Value", max_length=40, required=False)
    value_name, positive = "The length", True

    def document(self):
        """Above zero where it must be."""
        metres = self.length("value", self.value_name)
        if metres is not None and self.positive and metres <= 0:
            self.add_error("value", f"{self.value_name} must be above zero.")
        return {"metres": metres, "plus_minus": self.spread(self.read("plus_minus", parse_length, self.show.length_unit, "The ±",
                                                                      fallback=max(abs(metres or 1) * 0.005, 0.001)))}


class LengthForm(Measured):
    """A length between two spots."""

    kind, title, verb = "length", "Length between two spots", "Add the length"
    start = forms.ChoiceField(label="Length from", required=True)
    end = forms.ChoiceField(label="to", required=True)
    along = forms.ChoiceField(label="runs", required=False, choices=[("", "straight"), *AXIS_CHOICES])

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
        return super().document() | {"from": data.get("start"), "to": data.get("end")} | ({"along": data["along"]} if data.get("along") else {})

    @classmethod
    def shown(cls, fact, show):
        """Spots and direction too."""
        return super().shown(fact, show) | {"start": fact["from"], "end": fact["to"], "along": fact.get("along", "")}


class HeightForm(Measured):
    """The camera's height above the floor."""

    kind, title, verb = "camera_height", "Camera height", "Add the height"
    value_name, positive = "The camera's height", False

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
        metres = [self.length(axis, f"The place {axis}") if (self.cleaned_data.get(axis) or "").strip() else None for axis in AXES]
        if metres == [None] * 3 and not self.errors:
            self.add_error("across", "Give at least one coordinate; leave empty what isn't known.")
        return {"metres": metres, "plus_minus": self.spread(self.read("plus_minus", parse_length, self.show.length_unit, "The ±", fallback=0.05))}

    @classmethod
    def shown(cls, fact, show):
        """Empty where not known."""
        values = {axis: "" if value is None else show.length(value, places=4)[0] for axis, value in zip(AXES, fact["metres"])}
        return values | {"plus_minus": show.length(fact["plus_minus"], places=4)[0]}


class AngleForm(FactForm):
    """Roll, tilt or pan; a level camera has roll 0."""

    kind, title, verb = "camera_angle", "Level camera, or a known angle", "Add the angle"
    of = forms.ChoiceField(label="Angle", choices=[("roll", "roll"), ("tilt", "tilt"), ("pan", "pan")])
    value = forms.CharField(label="Degrees", max_length=20, required=False)

    def document(self):
        """Empty is level."""
        return {"of": self.cleaned_data.get("of"), "degrees": self.angle("value", "The angle", 0.0),
                "plus_minus": self.spread(self.angle("plus_minus", "The ±", 0.5))}

    @classmethod
    def shown(cls, fact, show):
        """In degrees."""
        return {"of": fact["of"], "value": f"{fact['degrees']:g}°", "plus_minus": f"{fact['plus_minus']:g}°"}


class ViewForm(FactForm):
    """A known angle of view."""

    kind, title, verb = "angle_of_view", "Angle of view", "Add the angle of view"
    basis = forms.ChoiceField(label="Measured", choices=[("horizontal", "across"), ("vertical", "down"), ("diagonal", "diagonal")])
    value = forms.CharField(label="Degrees", max_length=20, required=False)

    def document(self):
        """Between 0 and 360 degrees."""
        degrees = self.angle("value", "The angle of view")
        if degrees is not None and not 0 < degrees < 360:
            self.add_error("value", "The angle of view must lie between 0° and 360°.")
        return {"basis": self.cleaned_data.get("basis"), "degrees": degrees, "plus_minus": self.spread(self.angle("plus_minus", "The ±", 0.5))}

    @classmethod
    def shown(cls, fact, show):
        """In degrees."""
        return {"basis": fact["basis"], "value": f"{fact['degrees']:g}°", "plus_minus": f"{fact['plus_minus']:g}°"}


class RangeForm(FactForm):
    """A zoom's range: the focal length lies somewhere in it."""

    kind, title, verb = "focal_range", "Zoom, its range", "Add the range"
    from_mm = forms.CharField(label="From", max_length=20, required=False)
    to_mm = forms.CharField(label="To", max_length=20, required=False)

    def document(self):
        """The shorter end first."""
        ends = [self.read(field, parse_length, "mm", "The focal length") for field in ("from_mm", "to_mm")]
        ends = [None if end is None else end * 1000 for end in ends]
        if None not in ends and not 0 < ends[0] <= ends[1]:
            self.add_error("to_mm", "The range begins with its shorter end, above zero.")
        spread = self.read("plus_minus", parse_length, "mm", "The ±", fallback=0.0)
        return {"from_mm": ends[0], "to_mm": ends[1], "plus_minus": self.spread(spread * 1000 if spread else max((ends[0] or 1) * 0.01, 0.1))}

    @classmethod
    def shown(cls, fact, show):
        """In mm."""
        return {"from_mm": f"{fact['from_mm']:g} mm", "to_mm": f"{fact['to_mm']:g} mm", "plus_minus": f"{fact['plus_minus']:g} mm"}


# By the name in the address.
FORMS = {"length": LengthForm, "height": HeightForm, "position": PositionForm, "angle": AngleForm, "view": ViewForm, "range": RangeForm}
NAMES = {form.kind: name for name, form in FORMS.items()}


class LensForm(forms.Form):
    """What is left free of the lens, and what is given."""

    projection = forms.ChoiceField(label="Projection")
    centre = forms.ChoiceField(label="Centre of the lens", choices=[("centre", "in the middle of the sensor"), ("free", "free: solve it"),
                                                                    ("given", "given, below")])
    centre_at = forms.CharField(label="Centre, x, y px", max_length=40, required=False)
    free = forms.ChoiceField(label="Distortion", required=False, choices=[("", "as given below"), ("k1", "free: k1"), ("k1 k2", "free: k1, k2"),
                                                                          ("k1 k2 k3 p1 p2", "free: all five")])
    k1 = forms.CharField(max_length=20, required=False)
    k2 = forms.CharField(max_length=20, required=False)
    k3 = forms.CharField(max_length=20, required=False)
    p1 = forms.CharField(max_length=20, required=False)
    p2 = forms.CharField(max_length=20, required=False)
    base = forms.IntegerField(required=False, widget=forms.HiddenInput)
    COEFFICIENTS = ("k1", "k2", "k3", "p1", "p2")

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        self.fields["projection"].choices = [(name, name) for name in MATCHED]

    @classmethod
    def initial_of(cls, lens: dict) -> dict:
        """What the form shows of a shot's lens."""
        point, bend = lens.get("principal_point", "centre"), lens.get("distortion", "none")
        bend = {} if bend == "none" else bend
        return {"projection": lens.get("projection", "rectilinear"), "centre": point if isinstance(point, str) else "given",
                "centre_at": "" if isinstance(point, str) else "{:.2f}, {:.2f}".format(*point), "free": " ".join(bend.get("free", ())),
                **{name: f"{bend[name]:.6g}" if bend.get(name) else "" for name in cls.COEFFICIENTS}}

    def clean(self):
        """`cleaned_data["lens"]`: the document's fields, without the focal length."""
        data, out = super().clean(), {"projection": "rectilinear"}
        out["projection"] = data.get("projection", "rectilinear")
        if data.get("centre") == "given":
            try:
                x, y = (data.get("centre_at") or "").replace(";", ",").split(",")
                out["principal_point"] = [parse_number(x, "x"), parse_number(y, "y")]
            except (ValueError, Problem):
                self.add_error("centre_at", "Type the centre as two numbers in px: 960.0, 540.0.")
        else:
            out["principal_point"] = data.get("centre", "centre")
        bend = {}
        for name in self.COEFFICIENTS:
            if (data.get(name) or "").strip():
                try:
                    bend[name] = parse_number(data[name], name)
                    if abs(bend[name]) > 1000:
                        raise Problem(f"{name} must lie between −1000 and 1000.")
                except Problem as problem:
                    self.add_error(name, problem.sentence)
        if data.get("free"):
            bend["free"] = data["free"].split()
        if bend and out["projection"] != "rectilinear":
            self.add_error("projection", "Distortion coefficients belong to a rectilinear lens: empty them, or choose rectilinear.")
        out["distortion"] = bend or "none"
        data["lens"] = out
        return data
