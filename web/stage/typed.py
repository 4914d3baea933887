"""Forms whose figures are typed with units, in the show's where bare."""

from django import forms

from aperture.errors import Problem
from aperture.units import parse_length
from web.shows.forms import BaseField


class TypedForm(forms.Form):
    """A form whose lengths are typed in the show's unit; what is left as it was shown keeps its
    exact value."""

    base = BaseField()

    def __init__(self, *args, show, **kwargs):
        self.show = show
        super().__init__(*args, **kwargs)

    def changed(self, name) -> str | None:
        """What was typed; None where nothing was, or what was shown before."""
        text = (self.cleaned_data.get(name) or "").strip()
        return text if text and text != str(self.initial.get(name) or "") else None

    def parsed(self, name, label, parse, low, high, told):
        """A typed value; None where it wasn't changed, or is wrong, which is then said beside
        it."""
        text = self.changed(name)
        if text is None:
            return None
        try:
            value = parse(text, label)
            if not low <= value <= high:
                raise Problem(f"{label} must be {told}.")
            return value
        except Problem as problem:
            self.add_error(name, problem.sentence)
            return None

    def length(self, name, label, low=-1e5, high=1e5, told="within 100 km", unit=None):
        """A typed length in metres, or in whatever `unit` is."""
        scale = 1000.0 if unit == "mm" else 1.0
        return self.parsed(
            name,
            label,
            lambda text, label: parse_length(text, unit or self.show.length_unit, label) * scale,
            low,
            high,
            told,
        )
