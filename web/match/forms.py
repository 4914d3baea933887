"""What may come in about a mark, the focal length and a survey. Lengths are text with units, in the
show's unit where bare."""

from django import forms

from aperture.errors import Problem
from aperture.fence import run_fenced
from aperture.units import LENGTH_UNITS, parse_length, parse_number, parse_pair, parse_plus_minus
from web.match.fact_forms import AXIS_CHOICES
from web.shows.forms import BaseField

MOST_MM = 20_000


class FocalForm(forms.Form):
    """The focal length, where it is known."""

    focal = forms.CharField(max_length=40, required=False)
    focal_plus_minus = forms.CharField(max_length=40, required=False)
    base = BaseField()

    def clean(self):
        """Millimetres; an empty field means: solve it."""
        data = super().clean() or self.cleaned_data
        data["lens"] = None
        if not (data.get("focal") or "").strip():
            return data
        try:
            data["focal"] = _millimetres(data["focal"], "The focal length")
            if not 1e-3 <= data["focal"] <= MOST_MM:
                raise Problem(f"The focal length must be above zero and at most {MOST_MM} mm.")
        except Problem as problem:
            self.add_error("focal", problem.sentence)
            return data
        try:
            text = (data.get("focal_plus_minus") or "").strip() or "0"
            data["focal_plus_minus"] = parse_plus_minus(text, data["focal"], _millimetres)
            if data["focal_plus_minus"] > MOST_MM:
                raise Problem(f"The ± must be at most {MOST_MM} mm.")
        except Problem as problem:
            self.add_error("focal_plus_minus", problem.sentence)
        if not self.errors:
            data["lens"] = {
                "value": round(data["focal"], 9),
                "plus_minus": round(data["focal_plus_minus"], 9),
            }
        return data


def _millimetres(text, name) -> float:
    return parse_length(text, "mm", name) * 1000


class MarkForm(forms.Form):
    """Everything typed about one mark. Coordinates in px; a spot's place in the world in the show's
    unit, empty where unknown."""

    name = forms.CharField(required=False, max_length=60)
    axis = forms.ChoiceField(required=False, choices=AXIS_CHOICES)
    sigma_px = forms.CharField(required=False, max_length=20)
    check = forms.BooleanField(label="Only compare it with the fit", required=False)
    base = BaseField()

    def __init__(self, *args, mark, show, planes=(), **kwargs):
        super().__init__(*args, **kwargs)
        self.mark, self.show = mark, show
        points = [mark["at"]] if mark["kind"] == "spot" else mark["points"]
        self.point_fields = [(f"x{i}", f"y{i}") for i in range(len(points))]
        for i, point in enumerate(points):
            for key, value in zip("xy", point):
                self.fields[f"{key}{i}"] = forms.CharField(max_length=30, required=False)
                self.initial[f"{key}{i}"] = f"{value:.2f}"
        if mark["kind"] == "spot":
            for axis, value in zip(("across", "up", "along"), mark.get("world") or [None] * 3):
                self.fields[axis] = forms.CharField(max_length=30, required=False)
                self.initial[axis] = "" if value is None else show.typed(value)
            self.fields["world_plus_minus"] = forms.CharField(max_length=30, required=False)
            self.initial["world_plus_minus"] = (
                show.typed(mark["world_plus_minus"]) if mark.get("world_plus_minus") else ""
            )
            self.fields["on"] = forms.ChoiceField(
                required=False,
                choices=[
                    ("", "no plane"),
                    ("floor", "the floor"),
                    *((plane["id"], plane.get("name") or plane["id"]) for plane in planes),
                ],
            )
            floor = (mark.get("world") or [None] * 3)[1] == 0 and (mark.get("world") or [None])[
                0
            ] is None
            self.initial["on"] = mark.get("on", "floor" if floor else "")

    def clean(self):
        """`cleaned_data["mark"]` is the mark as it should become."""
        data, mark = super().clean() or self.cleaned_data, dict(self.mark)

        def read(field, reader, *arguments):
            try:
                return reader(data.get(field) or "", *arguments)
            except Problem as problem:
                self.add_error(field, problem.sentence)

        points = [
            [self._kept(f"{key}{i}", read, index, i) for index, key in enumerate("xy")]
            for i in range(len(self.point_fields))
        ]
        sigma = (
            read("sigma_px", parse_number, "The ± in px")
            if data.get("sigma_px")
            else mark.get("sigma_px", 0.5)
        )
        if sigma is not None and not 0 < sigma <= 10000:
            self.add_error("sigma_px", "The ± must be above 0 px.")
        mark["sigma_px"] = sigma
        if data.get("name"):
            mark["name"] = data["name"]
        mark.pop("check", None)
        if data.get("check"):
            mark["check"] = True
        if mark["kind"] == "spot":
            mark["at"] = points[0]
            mark["world"] = [
                read(axis, parse_length, self.show.length_unit, "The place")
                if (data.get(axis) or "").strip()
                else None
                for axis in ("across", "up", "along")
            ]
            spread = (
                read("world_plus_minus", parse_length, self.show.length_unit, "The ±")
                if (data.get("world_plus_minus") or "").strip()
                else 0.0
            )
            self._lay(mark, spread, data.get("on") or "")
        else:
            mark["points"] = points
            if mark["kind"] == "edge" and data.get("axis"):
                mark["axis"] = data["axis"]
        data["mark"] = mark
        return data

    def _lay(self, mark, spread, on):
        if spread is not None and spread < 0:
            self.add_error("world_plus_minus", "The ± must not be below zero.")
        for key in ("world_plus_minus", "on"):
            mark.pop(key, None)
        if spread:
            mark["world_plus_minus"] = spread
        if on == "floor":
            mark["world"][1] = 0.0
        elif on:
            mark["on"] = on
        elif self.initial["on"] == "floor" and mark["world"] == [None, 0, None]:
            mark["world"] = [None] * 3  # taken off the floor again

    def _kept(self, field, read, index, i):
        """The typed coordinate; the exact stored one where the text was left as it was shown."""
        stored = (self.mark["at"] if self.mark["kind"] == "spot" else self.mark["points"][i])[index]
        pair = self._pair(i)
        if pair is not None:
            return pair[index]
        if self.cleaned_data.get(field) == self.initial[field]:
            return stored
        return read(field, parse_number, "The coordinate")

    def _pair(self, i) -> tuple[float, float] | None:
        """Both coordinates of a point, where they were typed into the first field: `960 540`."""
        try:
            return parse_pair(self.cleaned_data.get(f"x{i}") or "")
        except Problem:
            return None


class PlaneForm(forms.Form):
    """A plane that spots may lie on: a table top, a wall. Its place may be left open."""

    name = forms.CharField(
        label="Plane",
        max_length=60,
        error_messages={"required": "Give the plane a name, for example Table top."},
    )
    axis = forms.ChoiceField(label="at one place", choices=AXIS_CHOICES, initial="up")
    metres = forms.CharField(label="of, empty: not known", max_length=30, required=False)
    base = BaseField()

    def __init__(self, *args, show, **kwargs):
        super().__init__(*args, **kwargs)
        self.show = show

    def clean(self):
        """Metres, or None."""
        data = super().clean() or self.cleaned_data
        try:
            text = (data.get("metres") or "").strip()
            data["place"] = parse_length(text, self.show.length_unit, "The place") if text else None
        except Problem as problem:
            self.add_error("metres", problem.sentence)
        return data


class SurveyForm(forms.Form):
    """A table of points, pasted or as a file."""

    text = forms.CharField(
        label="Paste: name, x, y, z, ±",
        required=False,
        widget=forms.Textarea(attrs={"rows": 4}),
        max_length=2_000_000,
    )
    file = forms.FileField(label="or a CSV, OBJ or PLY file", required=False)
    unit = forms.ChoiceField(label="Unit", choices=list(LENGTH_UNITS.items()))
    up_axis = forms.ChoiceField(label="Up is", choices=[("Y", "Y"), ("Z", "Z")])
    plus_minus = forms.CharField(label="±, where none is given", required=False, max_length=30)
    base = BaseField()

    def clean(self):
        """`points`: what `aperture.formats.survey` reads."""
        from aperture.formats import survey

        data = super().clean() or self.cleaned_data
        upload, text = data.get("file"), (data.get("text") or "").strip()
        if not upload and not text:
            self.add_error("text", "Paste a table, or choose a file.")
            return data
        if self.errors:
            return data
        try:
            spread = (
                parse_length(data["plus_minus"], data["unit"], "The ±")
                if (data.get("plus_minus") or "").strip()
                else None
            )
            raw = upload.read(50_000_000) if upload else text.encode()
            name = upload.name if upload else "pasted.csv"
            data["points"] = run_fenced(
                survey.read, raw, name, data["unit"], data["up_axis"], spread
            )
        except Problem as problem:
            self.add_error("file" if upload else "text", problem.sentence)
        return data
