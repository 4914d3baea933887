"""What may come in as a plate."""

from django import forms

from aperture.errors import Problem
from aperture.light.exposure import (
    LEAST_ISO,
    LEAST_SECONDS,
    LEAST_STOP,
    MOST_ISO,
    MOST_SECONDS,
    MOST_STOP,
    parse_iso,
    parse_stop,
)
from aperture.plates.colour import TRANSFERS
from aperture.units import parse_length, parse_seconds
from web.shows.forms import BaseField


class PlateForm(forms.Form):
    """One picture file."""

    picture = forms.FileField(
        allow_empty_file=True,
        max_length=1000,
        error_messages={"required": "Choose a picture: JPEG, PNG, TIFF, OpenEXR or DPX."},
    )
    base = BaseField()


def _millimetres(text, name):
    return round(parse_length(text, "mm", name) * 1000, 6)


class PlateFactsForm(forms.Form):
    """How the plate was taken: what the file says can be corrected, what it doesn't can be typed.

    `initial_of` shows what holds now; `facts(…)` is what was typed, once the form is valid,
    without what the file says already.
    """

    maker = forms.CharField(label="Maker", max_length=120, required=False)
    model = forms.CharField(label="Camera", max_length=120, required=False)
    lens = forms.CharField(label="Lens", max_length=120, required=False)
    focal_mm = forms.CharField(label="Focal length", max_length=30, required=False)
    f_number = forms.CharField(label="Stop", max_length=30, required=False)
    exposure_time = forms.CharField(label="Exposure time", max_length=30, required=False)
    iso = forms.CharField(label="ISO", max_length=30, required=False)
    transfer = forms.ChoiceField(
        label="Values are encoded as", choices=[(key, row[0]) for key, row in TRANSFERS.items()]
    )
    base = BaseField()
    TEXTS = ("maker", "model", "lens")
    NUMBERS = {
        "focal_mm": (_millimetres, "The focal length", 0.1, 10000),
        "f_number": (parse_stop, "The stop", LEAST_STOP, MOST_STOP),
        "exposure_time": (parse_seconds, "The exposure time", LEAST_SECONDS, MOST_SECONDS),
        "iso": (parse_iso, "The ISO", LEAST_ISO, MOST_ISO),
    }

    @staticmethod
    def initial_of(metadata: dict, transfer: str) -> dict:
        """What holds now, as text."""
        time = metadata.get("exposure_time")
        shutter = ""
        if time is not None:  # to six digits, so that what isn't changed stays the file's
            shutter = f"1/{1 / time:g} s" if time < 0.4 else f"{time:g} s"
        shown = {key: metadata.get(key, "") for key in PlateFactsForm.TEXTS}
        if "focal_mm" in metadata:
            shown["focal_mm"] = f"{metadata['focal_mm']:g} mm"
        if "f_number" in metadata:
            shown["f_number"] = f"f/{metadata['f_number']:g}"
        if "iso" in metadata:
            shown["iso"] = f"{metadata['iso']:g}"
        return shown | {"exposure_time": shutter, "transfer": transfer}

    def clean(self):
        """Numbers in mm and s."""
        data = super().clean() or self.cleaned_data
        for key, (read, name, least, most) in self.NUMBERS.items():
            text = (data.get(key) or "").strip()
            if not text:
                data[key] = None
                continue
            try:
                data[key] = read(text, name)
                if not least <= data[key] <= most:
                    raise Problem(f"{name} must lie between {least:g} and {most:g}.")
            except Problem as problem:
                self.add_error(key, problem.sentence)
        return data

    def facts(self, metadata: dict, own_transfer: str) -> dict:
        """What differs from the file's word, and from the curve that its kind of file has."""
        data, out = self.cleaned_data, {}
        for key in (*self.TEXTS, *self.NUMBERS):
            value = data.get(key)
            value = value.strip() if isinstance(value, str) else value
            said = metadata.get(key)
            same = value == said or (
                isinstance(value, float) and said and abs(value / said - 1) < 1e-4
            )
            if value not in (None, "") and not same:
                out[key] = value
        if data["transfer"] != own_transfer:
            out["transfer"] = data["transfer"]
        return out
