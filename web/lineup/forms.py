"""What may come in about renders that are brought back."""

from django import forms

from aperture.render.corrections import PLATE
from aperture.render.returned import ALPHAS, ENCODINGS, MULTIPLIED

WAYS = {0: "as it came", 1: "do it", -1: "take it back", -2: "take it back twice"}


class _Several(forms.ClearableFileInput):
    allow_multiple_selected = True


class _Files(forms.FileField):
    """One file or many."""

    def clean(self, data, initial=None):
        """A list of them."""
        one = super().clean
        return (
            [one(file, initial) for file in data]
            if isinstance(data, (list, tuple)) and data
            else [one(data or None, initial)]
        )


class ReturnForm(forms.Form):
    """A render's file, or those of a sequence."""

    files = _Files(  # type: ignore[assignment]  # a field, as Django has it
        widget=_Several(attrs={"accept": ".png,.tif,.tiff,.exr"}),
        error_messages={"required": "Choose a file first."},
    )


class TakenForm(forms.Form):
    """How a render is taken: grid, corrections, colours, alpha. `cleaned_data["taken"]` is as
    `actions.taken_from` reads it."""

    grid = forms.ChoiceField(required=False)
    encoding = forms.ChoiceField(choices=list(ENCODINGS.items()))
    multiplied = forms.ChoiceField(
        choices=[item for item in MULTIPLIED.items() if item[0] != "seen"]
    )
    alpha = forms.ChoiceField(choices=[item for item in ALPHAS.items() if item[0] != "seen"])

    def __init__(self, *args, row, **kwargs):
        self.row, taken = row, row.taken
        ways = {f"way_{key}": taken["ways"].get(key, 0) for key, _, _, _ in taken["corrections"]}
        super().__init__(
            *args,
            initial={name: taken[name] for name in ("grid", "encoding", "multiplied", "alpha")}
            | ways,
            **kwargs,
        )
        self.fields["grid"].choices = taken["grids"]
        for key, name, allowed, says in taken["corrections"]:
            if len(allowed) > 1:
                self.fields[f"way_{key}"] = forms.TypedChoiceField(
                    coerce=int,
                    label=name,
                    help_text=says,
                    choices=[(way, WAYS[way]) for way in allowed],
                )

    @property
    def corrections(self):
        """The fields of the corrections, and the sentences of those that leave no choice."""
        return [self[name] for name in self.fields if name.startswith("way_")]

    @property
    def others(self) -> list[str]:
        """Sentences about corrections that leave no choice."""
        return [
            says
            for _, _, allowed, says in self.row.taken["corrections"]
            if len(allowed) == 1 and says
        ]

    def clean(self):
        """As it is kept."""
        data = super().clean() or self.cleaned_data
        data["taken"] = {
            "grid": data.get("grid") or PLATE,
            "ways": {
                name[4:]: value for name, value in data.items() if name.startswith("way_") and value
            },
        } | {name: data.get(name) for name in ("encoding", "multiplied", "alpha")}
        return data
