"""What may be typed of the virtual camera's exposure."""

import math

from django import forms

from aperture.light.exposure import (
    format_seconds,
    format_stop,
    parse_iso,
    parse_shutter,
    parse_stop,
)
from web.shows.forms import BaseField, on_form


class ExposureForm(forms.Form):
    """Stop, shutter, ISO; an empty field is as the plate has it. `exposure()`: the state's part, once valid."""

    f_number = forms.CharField(label="Stop", max_length=30, required=False)
    shutter = forms.CharField(label="Shutter", max_length=30, required=False)
    iso = forms.CharField(label="ISO", max_length=30, required=False)
    base = BaseField()

    def __init__(self, *args, hints: dict[str, str], **kwargs):
        super().__init__(*args, **kwargs)
        for name, hint in hints.items():
            self.fields[name].widget.attrs["placeholder"] = hint

    @staticmethod
    def initial_of(own: dict) -> dict:
        """What is typed now, as text."""
        out = {}
        if "f_number" in own:
            out["f_number"] = format_stop(own["f_number"])
        if "angle" in own:
            out["shutter"] = f"{math.degrees(own['angle']):g}°"
        elif "seconds" in own:
            out["shutter"] = format_seconds(own["seconds"])
        if "iso" in own:
            out["iso"] = f"{own['iso']:g}"
        return out

    def clean(self):
        """Each field in its unit, None where it is empty."""
        data = super().clean()
        readers = {"f_number": parse_stop, "shutter": parse_shutter, "iso": parse_iso}
        for name, read in readers.items():
            text, data[name] = (data.get(name) or "").strip(), None
            if text:
                with on_form(self, name):
                    data[name] = read(text)
        return data

    def exposure(self) -> dict:
        """What was typed."""
        data = self.cleaned_data
        seconds, angle = data["shutter"] or (None, None)
        typed = {
            "f_number": data["f_number"],
            "seconds": seconds,
            "angle": angle,
            "iso": data["iso"],
        }
        return {key: value for key, value in typed.items() if value is not None}
