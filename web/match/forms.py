"""What may come in as typed evidence. Lengths are text with units, in the show's unit where bare."""

from django import forms

from aperture.errors import Problem
from aperture.units import parse_length, parse_number

AXIS_CHOICES = [("across", "across"), ("up", "up"), ("along", "along")]


class MeasuredForm(forms.Form):
    """A value and its ± in lengths; subclasses add what it is about."""

    value = forms.CharField(max_length=40, required=False)
    plus_minus = forms.CharField(max_length=40, required=False)
    base = forms.IntegerField(required=False, widget=forms.HiddenInput)
    value_name, positive = "The length", True

    def __init__(self, *args, show, **kwargs):
        super().__init__(*args, **kwargs)
        self.show = show

    def clean(self):
        """Metres above zero; ± above zero."""
        data = super().clean()
        try:
            data["metres"] = parse_length(data.get("value") or "", self.show.length_unit, self.value_name)
            if self.positive and data["metres"] <= 0:
                raise Problem(f"{self.value_name} must be above zero.")
        except Problem as problem:
            self.add_error("value", problem.sentence)
        try:
            text = data.get("plus_minus") or ""
            data["plus_minus_m"] = parse_length(text, self.show.length_unit, "The ±") if text.strip() else max(abs(data.get("metres", 1)) * 0.005, 0.001)
            if data["plus_minus_m"] <= 0:
                raise Problem("The ± must be above zero: nothing is measured exactly.")
        except Problem as problem:
            self.add_error("plus_minus", problem.sentence)
        return data


class LengthForm(MeasuredForm):
    """A length between two spots."""

    start = forms.ChoiceField(required=True)
    end = forms.ChoiceField(required=True)
    along = forms.ChoiceField(required=False, choices=[("", "straight"), *AXIS_CHOICES])
    name = forms.CharField(required=False, max_length=60)

    def __init__(self, *args, spots, **kwargs):
        super().__init__(*args, **kwargs)
        choices = [(spot["id"], spot.get("name") or spot["id"]) for spot in spots]
        for field in ("start", "end"):
            self.fields[field].choices = choices
            self.fields[field].error_messages["required"] = "Choose a spot. Draw two with S first."

    def clean(self):
        """Two different spots."""
        data = super().clean()
        if data.get("start") and data.get("start") == data.get("end"):
            self.add_error("end", "A length needs two different spots.")
        return data


class HeightForm(MeasuredForm):
    """The camera's height above the floor."""

    value_name, positive = "The camera's height", False


class FocalForm(forms.Form):
    """The focal length, where it is known."""

    focal = forms.CharField(max_length=40, required=False)
    focal_plus_minus = forms.CharField(max_length=40, required=False)
    base = forms.IntegerField(required=False, widget=forms.HiddenInput)

    def clean(self):
        """Millimetres; an empty field means: solve it."""
        data = super().clean()
        data["lens"] = None
        if not (data.get("focal") or "").strip():
            return data
        for field, name, least in (("focal", "The focal length", 1e-6), ("focal_plus_minus", "The ±", 0.0)):
            try:
                text = (data.get(field) or "").strip() or "0"
                data[field] = parse_length(text, "mm", name) * 1000
                if data[field] < least or data[field] > 20000:
                    raise Problem(f"{name} must {'be above zero' if least else 'not be negative'} and at most 20000 mm.")
            except Problem as problem:
                self.add_error(field, problem.sentence)
        if not self.errors:
            data["lens"] = {"value": round(data["focal"], 9), "plus_minus": round(data["focal_plus_minus"], 9)}
        return data


class MarkForm(forms.Form):
    """Everything typed about one mark. Coordinates in px; a spot's place in the world in the show's unit, empty where unknown."""

    name = forms.CharField(required=False, max_length=60)
    axis = forms.ChoiceField(required=False, choices=AXIS_CHOICES)
    sigma_px = forms.CharField(required=False, max_length=20)
    base = forms.IntegerField(required=False, widget=forms.HiddenInput)

    def __init__(self, *args, mark, show, **kwargs):
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
                self.initial[axis] = "" if value is None else show.length(value, places=4)[0]

    def clean(self):
        """`cleaned_data["mark"]` is the mark as it should become."""
        data, mark = super().clean(), dict(self.mark)

        def read(field, reader, *arguments):
            try:
                return reader(data.get(field) or "", *arguments)
            except Problem as problem:
                self.add_error(field, problem.sentence)

        points = [[self._kept(f"{key}{i}", read, index, i) for index, key in enumerate("xy")] for i in range(len(self.point_fields))]
        sigma = read("sigma_px", parse_number, "The ± in px") if data.get("sigma_px") else mark.get("sigma_px", 0.5)
        if sigma is not None and not 0 < sigma <= 10000:
            self.add_error("sigma_px", "The ± must be above 0 px.")
        mark["sigma_px"] = sigma
        if data.get("name"):
            mark["name"] = data["name"]
        if mark["kind"] == "spot":
            mark["at"] = points[0]
            mark["world"] = [read(axis, parse_length, self.show.length_unit, "The place") if (data.get(axis) or "").strip() else None
                             for axis in ("across", "up", "along")]
        else:
            mark["points"] = points
            if mark["kind"] == "edge" and data.get("axis"):
                mark["axis"] = data["axis"]
        data["mark"] = mark
        return data

    def _kept(self, field, read, index, i):
        """The typed coordinate; the exact stored one where the text was left as it was shown."""
        stored = (self.mark["at"] if self.mark["kind"] == "spot" else self.mark["points"][i])[index]
        if self.cleaned_data.get(field) == self.initial[field]:
            return stored
        return read(field, parse_number, "The coordinate")
