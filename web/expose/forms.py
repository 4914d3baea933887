"""What may be typed of the virtual camera's exposure."""

import math

from django import forms

from aperture.errors import Problem
from aperture.light.exposure import (
    format_seconds,
    format_stop,
    parse_filter,
    parse_iso,
    parse_shutter,
    parse_stop,
)
from aperture.units import parse_number
from web.shows.forms import BaseField, on_form

HOLD = (
    ("", "nothing: the picture changes"),
    ("f_number", "the stop"),
    ("seconds", "the shutter"),
    ("iso", "the ISO"),
)
SIZES = (("third", "third stops"), ("half", "half stops"), ("full", "full stops"))


class ExposureForm(forms.Form):
    """Stop, shutter, ISO, and what glass takes; an empty field is as the plate has it.
    `exposure()`: the state's part, once valid; what is left as it was shown keeps its exact
    value."""

    f_number = forms.CharField(label="Stop", max_length=30, required=False)
    shutter = forms.CharField(label="Shutter", max_length=30, required=False)
    iso = forms.CharField(label="ISO", max_length=30, required=False)
    nd = forms.CharField(
        label="Filters",
        max_length=30,
        required=False,
        widget=forms.TextInput(attrs={"placeholder": "none; 3 stops, ND 0.9, ND8"}),
    )
    through = forms.CharField(
        label="T-stop",
        max_length=30,
        required=False,
        widget=forms.TextInput(attrs={"placeholder": "as the stop; T 3, or 85 %"}),
    )
    holder = forms.ChoiceField(label="Held by", choices=HOLD, required=False)
    size = forms.ChoiceField(
        label="Steps",
        choices=SIZES,
        required=False,
        widget=forms.Select(attrs={"aria-label": "How large the steps are"}),
    )
    base = BaseField()

    # Of each field the keys of the state's part that it shows.
    KEYS = {
        "f_number": ("f_number",),
        "shutter": ("seconds", "angle"),
        "iso": ("iso",),
        "nd": ("nd_stops",),
        "through": ("transmittance",),
    }

    def __init__(
        self, *args, own: dict, hints: dict[str, str], stop: float | None = None, **kwargs
    ):
        self.own, shown = own, self.initial_of(own)
        super().__init__(*args, initial=shown | kwargs.pop("initial", {}), **kwargs)
        self.stop = stop  # what a T-stop is of, where no stop is typed
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
        if own.get("nd_stops"):
            out["nd"] = f"{own['nd_stops']:.3g} stops"
        if "transmittance" in own:
            out["through"] = f"{100 * own['transmittance']:.4g} %"
        return out

    def clean(self):
        """Each field in its unit, None where it is empty."""
        data = super().clean() or self.cleaned_data
        shown = self.initial_of(self.own)
        self.kept = [
            name for name in self.KEYS if shown.get(name, "") == (data.get(name) or "").strip()
        ]
        readers = {
            "f_number": parse_stop,
            "shutter": parse_shutter,
            "iso": parse_iso,
            "nd": parse_filter,
        }
        for name, read in readers.items():
            text, data[name] = (data.get(name) or "").strip(), None
            if text:
                with on_form(self, name):
                    data[name] = read(text)
        text, data["through"] = (data.get("through") or "").strip(), None
        if text and not self.errors:
            with on_form(self, "through"):
                data["through"] = _transmittance(text, data["f_number"] or self.stop)
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
            "nd_stops": data["nd"] or None,
            "transmittance": data["through"],
        }
        for key in (key for name in self.kept for key in self.KEYS[name]):
            typed[key] = self.own.get(key)
        return {key: value for key, value in typed.items() if value is not None}


def _transmittance(text: str, stop: float | None) -> float:
    """The share of light that a lens lets through: typed in percent, or by its T-stop."""
    if text.endswith("%"):
        share = parse_number(text[:-1].strip(), "The light that the lens lets through") / 100
    else:
        if stop is None:
            raise Problem("A T-stop says what the lens lets through once its stop is known.")
        share = (stop / parse_stop(text.upper().removeprefix("T").strip(), "The T-stop")) ** 2
    if not 0 < share <= 1:
        raise Problem(
            "A lens lets through more than nothing and at most all: its T-stop isn’t below its"
            " stop."
        )
    return share


class EvForm(forms.Form):
    """An exposure value at ISO 100, and what changes for it."""

    ev = forms.CharField(label="EV at ISO 100", max_length=20)
    by = forms.ChoiceField(label="By changing", choices=HOLD[1:])
    base = BaseField()

    def clean_ev(self):
        """The number. A sentence where it can't be."""
        try:
            value = parse_number(self.cleaned_data["ev"], "The EV")
            if not -30 <= value <= 40:
                raise Problem("An EV lies between −30 and 40.")
        except Problem as problem:
            raise forms.ValidationError(problem.sentence) from None
        return value
