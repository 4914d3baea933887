"""What may come in as a gate."""

from django import forms

from aperture.errors import Problem
from aperture.gates.formats import BY_KEY, FORMATS
from aperture.units import parse_length, parse_number


class GateForm(forms.Form):
    """A standard format, or a typed width and height; and the squeeze. `cleaned_data` has millimetres."""

    format = forms.ChoiceField(label="Standard format", required=False,
                               choices=[("", "typed below")] + [(row.key, row.name) for row in FORMATS])
    width = forms.CharField(label="Width", required=False, max_length=40)
    height = forms.CharField(label="Height", required=False, max_length=40)
    squeeze = forms.CharField(label="Squeeze", required=False, max_length=20)
    origin = forms.ChoiceField(required=False, choices=[(o, o) for o in ("", "typed", "file", "assumed")], widget=forms.HiddenInput)
    base = forms.IntegerField(required=False, widget=forms.HiddenInput)

    def clean(self):
        """Sizes above zero, in mm; a sentence beside the field otherwise."""
        data = super().clean()
        chosen = BY_KEY.get(data.get("format") or "")
        if chosen:
            data["width_mm"], data["height_mm"], data["name"], data["origin"] = *chosen.gate_mm, chosen.name, "catalogue"
        else:
            data["name"], data["origin"] = "", data.get("origin") or "typed"
            for side in ("width", "height"):
                self._side(data, side)
        try:
            data["squeeze"] = parse_number(data.get("squeeze") or "1", "The squeeze")
            if not 1 <= data["squeeze"] <= 4:
                raise Problem("The squeeze must lie between 1 (a spherical lens) and 4.")
        except Problem as problem:
            self.add_error("squeeze", problem.sentence)
        return data

    def _side(self, data, side):
        try:
            data[f"{side}_mm"] = parse_length(data.get(side) or "", "mm", f"The gate's {side}") * 1000
            if not 0.1 <= data[f"{side}_mm"] <= 1000:
                raise Problem(f"The gate's {side} must lie between 0.1 mm and 1000 mm.")
        except Problem as problem:
            self.add_error(side, problem.sentence)
