"""What may come in about a box: lengths in the show's unit where bare, the turn in degrees."""

import math

from django import forms

from aperture.errors import Problem
from aperture.units import parse_angle, parse_length

FIELDS = (("width", "size", 0), ("height", "size", 1), ("depth", "size", 2), ("across", "base", 0), ("up", "base", 1), ("along", "base", 2))


class BoxForm(forms.Form):
    """A box's name, size, place and turn. `cleaned_data["box"]` is the JSON as it should become."""

    name = forms.CharField(required=False, max_length=60)
    width = forms.CharField(required=False, max_length=40)
    height = forms.CharField(required=False, max_length=40)
    depth = forms.CharField(required=False, max_length=40)
    across = forms.CharField(required=False, max_length=40)
    up = forms.CharField(required=False, max_length=40)
    along = forms.CharField(required=False, max_length=40)
    turn = forms.CharField(required=False, max_length=40)
    base = forms.IntegerField(required=False, widget=forms.HiddenInput)

    def __init__(self, *args, show, item=None, **kwargs):
        self.show, self.item = show, item
        if item:
            shown = {field: show.length(item[key][index], places=4 if show.length_unit in ("m", "ft") else 2)[0] for field, key, index in FIELDS}
            kwargs["initial"] = kwargs.get("initial", {}) | shown | {"name": item["name"], "turn": f"{item['turn_deg']:g}°"}
        super().__init__(*args, **kwargs)

    def clean(self):
        """Lengths to metres; sizes above 0.1 mm."""
        data = super().clean()
        item = {"size": [0.0] * 3, "base": [0.0] * 3, "turn_deg": 0.0, "name": data.get("name") or "Box"} | (self.item or {})
        item = item | {"size": list(item["size"]), "base": list(item["base"]), "name": data.get("name") or item["name"]}
        for field, key, index in FIELDS:
            text = (data.get(field) or "").strip()
            if self.item and text == self.initial.get(field) or (not self.item and not text and key == "base"):
                continue  # as it was shown: keep the exact value
            try:
                value = parse_length(text, self.show.length_unit, f"The {field}" if key == "size" else f"The place {field}")
                if key == "size" and not 1e-4 <= value <= 1e5:
                    raise Problem(f"The {field} must be above 0.1 mm and at most 100 km.")
                if abs(value) > 1e5:
                    raise Problem(f"The place {field} must be within 100 km.")
                item[key][index] = value
            except Problem as problem:
                self.add_error(field, problem.sentence)
        try:
            if (data.get("turn") or "").strip():
                item["turn_deg"] = round(math.degrees(parse_angle(data["turn"], "The turn")), 6)
        except Problem as problem:
            self.add_error("turn", problem.sentence)
        data["box"] = item
        return data
