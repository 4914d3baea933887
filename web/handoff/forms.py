"""What may come in about a receiver's conventions."""

from django import forms

from aperture.errors import Problem
from aperture.formats.recipe import (
    AIMED,
    COLUMNS,
    FITS,
    MOST_DIGITS,
    MOST_OFFSET,
    ORDERS,
    SEPARATORS,
    Recipe,
)
from aperture.units import LENGTH_UNITS

CARRY = [("carried", "carried"), ("baked", "baked into overscan")]


class RecipeForm(forms.Form):
    """The conventions of a text table. `cleaned_data["recipe"]`: a `Recipe`."""

    up_axis = forms.ChoiceField(label="Up axis", choices=[("Y", "Y"), ("Z", "Z")])
    unit = forms.ChoiceField(choices=list(LENGTH_UNITS.items()))
    handedness = forms.ChoiceField(
        label="Axes", choices=[("right", "right-handed"), ("left", "left-handed")]
    )
    rotation_order = forms.ChoiceField(
        label="Rotation order", choices=[(order, " · ".join(order)) for order in ORDERS]
    )
    frame_offset = forms.IntegerField(
        label="Add to frames", min_value=-MOST_OFFSET, max_value=MOST_OFFSET
    )
    scale = forms.FloatField(label="Scale of the scene")
    fit = forms.ChoiceField(label="Gate fitted to", choices=list(FITS.items()), required=False)
    offsets = forms.ChoiceField(label="Lens offsets", choices=CARRY, required=False)
    distortion = forms.ChoiceField(label="Distortion", choices=CARRY, required=False)
    separator = forms.ChoiceField(choices=[(name, name) for name in SEPARATORS])
    digits = forms.IntegerField(label="Digits after the point", min_value=1, max_value=MOST_DIGITS)
    columns = forms.CharField(max_length=300)
    header = forms.BooleanField(label="Names in the first line", required=False)

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        for name, field in self.fields.items():
            field.widget.attrs["id"] = f"id_recipe_{name}"

    @classmethod
    def of(cls, recipe: Recipe) -> "RecipeForm":
        """Showing a recipe."""
        return cls(initial=recipe.to_json() | {"columns": " ".join(recipe.columns)})

    def clean(self):
        """Read all of it as one recipe."""
        data = super().clean() or self.cleaned_data
        if self.errors:
            return data
        columns = data["columns"].replace(",", " ").split()
        usual = Recipe()
        for name in ("fit", "offsets", "distortion"):
            data[name] = data[name] or getattr(usual, name)
        try:
            data["recipe"] = Recipe(**data | {"columns": tuple(columns)})
        except Problem as problem:
            self.add_error(
                problem.place if problem.place in self.fields else None, problem.sentence
            )
        return data

    @property
    def known_columns(self) -> list[tuple[str, str]]:
        """Their names and what they are."""
        return list((COLUMNS | AIMED).items())
