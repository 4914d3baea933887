"""What may come in about a move: its file, and how the file is understood."""

from django import forms

from aperture.errors import Problem
from aperture.formats.moves_in import format_of
from aperture.moves.source import MOST_PUPIL_MM, Settings
from aperture.units import LENGTH_UNITS, METRES
from web.moves.kept import Kept
from web.shows.forms import BaseField

UNIT_NAMES = {metres: unit for unit, metres in METRES.items()}
USUAL = ""  # the choice that leaves it as the file says
AS_IT_WAS = "kept"


class SettingsForm(forms.Form):
    """How a move's file is understood. `cleaned_data["settings"]`: a `Settings`."""

    camera = forms.ChoiceField()
    unit = forms.ChoiceField(required=False)
    up_axis = forms.ChoiceField(label="Up axis", required=False)
    by = forms.ChoiceField(
        label="Frames",
        choices=[("frame", "one for one"), ("time", "at the plate’s rate, keeping its speed")],
    )
    offset = forms.IntegerField(label="Add to frames", required=False)
    slip = forms.FloatField(
        label="Sample it later by (frames)", required=False, min_value=-0.999, max_value=0.999
    )
    fit = forms.ChoiceField(
        label="Angle of view fits",
        choices=[("width", "the plate’s width"), ("height", "the plate’s height")],
    )
    rests = forms.BooleanField(label="Rests before and after, over the plate", required=False)
    pupil_mm = forms.FloatField(
        label="Entrance pupil before its axis (mm)",
        required=False,
        min_value=-MOST_PUPIL_MM,
        max_value=MOST_PUPIL_MM,
    )
    target = forms.ChoiceField(label="Looks at", required=False)
    roll_deg = forms.FloatField(label="Roll beside it (°)", required=False)
    base = BaseField()

    def __init__(self, *args, kept: Kept, base: int, **kwargs):
        settings, found = kept.settings, kept.found
        shown = settings.to_json() | {"base": base, "camera": found.camera}
        super().__init__(*args, initial=shown, auto_id=f"id_{kept.id}_%s", **kwargs)
        said = UNIT_NAMES.get(found.metres, f"{found.metres:g} m")
        of_file = "as the file says" if "unit" in found.declares else "as assumed"
        self.fields["camera"].choices = [(name, name) for name in found.cameras]
        self.fields["unit"].choices = [
            (USUAL, of_file if settings.unit else f"{of_file} ({said})"),
            *LENGTH_UNITS.items(),
        ]
        of_file = "as the file says" if "up_axis" in found.declares else "as assumed"
        own = of_file if settings.up_axis else f"{of_file} ({found.up_axis})"
        self.fields["up_axis"].choices = [(USUAL, own), ("Y", "Y"), ("Z", "Z")]
        others = [(name, name) for name in found.nodes if name != found.camera]
        self.fields["target"].choices = [(USUAL, "where it is turned"), *others]
        if len(found.cameras) < 2:
            self.fields["camera"].widget = forms.HiddenInput()
        if not others:
            for name in ("target", "roll_deg"):
                self.fields[name].widget = forms.HiddenInput()

    def clean(self):
        """Read all of it as one `Settings`."""
        data = super().clean() or self.cleaned_data
        if self.errors:
            return data
        try:
            data["settings"] = Settings(
                camera=data["camera"],
                target=data["target"] or None,
                roll_deg=data["roll_deg"] or 0.0,
                unit=data["unit"] or None,
                up_axis=data["up_axis"] or None,
                by=data["by"],
                offset=data["offset"] or 0,
                fit=data["fit"],
                slip=data["slip"] or 0.0,
                rests=data["rests"],
                pupil_mm=data["pupil_mm"] or 0.0,
            )
        except Problem as problem:
            self.add_error(
                problem.place if problem.place in self.fields else None, problem.sentence
            )
        return data


def needs_recipe(kept: Kept) -> bool:
    """Whether a move's file says nothing of its conventions."""
    return bool(kept.file_name) and format_of(kept.file_name).needs_recipe
