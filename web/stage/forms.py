"""What may come in about a stand-in: lengths in the show's unit where bare, angles in degrees."""

import math

from django import forms

from aperture.formats.meshes import ENDINGS
from aperture.scene.solids import KINDS
from aperture.units import LENGTH_UNITS, parse_angle
from web.shows.forms import BaseField
from web.stage.stand_ins import EXTRAS, MATERIALS, extra, new
from web.stage.typed import TypedForm

FIELDS = (
    ("width", "size", 0),
    ("height", "size", 1),
    ("depth", "size", 2),
    ("across", "base", 0),
    ("up", "base", 1),
    ("along", "base", 2),
)
ANGLES = ("turn", "tilt", "roll")


class StandInForm(TypedForm):
    """A stand-in's name, size, place and so on. `cleaned_data["item"]` is the JSON as it should
    become."""

    name = forms.CharField(required=False, max_length=60)
    kind = forms.ChoiceField(
        required=False, choices=[(kind, name) for kind, (name, _, _) in KINDS.items()]
    )
    width = forms.CharField(required=False, max_length=40)
    height = forms.CharField(required=False, max_length=40)
    depth = forms.CharField(required=False, max_length=40)
    across = forms.CharField(required=False, max_length=40)
    up = forms.CharField(required=False, max_length=40)
    along = forms.CharField(required=False, max_length=40)
    turn = forms.CharField(required=False, max_length=40)
    tilt = forms.CharField(required=False, max_length=40)
    roll = forms.CharField(required=False, max_length=40)
    steps = forms.IntegerField(required=False, min_value=0, max_value=200)
    parent = forms.ChoiceField(required=False)
    material = forms.ChoiceField(required=False, choices=list(MATERIALS.items()))
    checker = forms.CharField(required=False, max_length=40)

    def __init__(self, *args, show, item=None, others=(), **kwargs):
        self.item = item
        if item:
            places = 4 if show.length_unit in ("m", "ft") else 2
            shown = {
                field: show.length(item[key][index], places=places)[0]
                for field, key, index in FIELDS
            }
            shown |= {name: f"{item.get(f'{name}_deg', 0.0):g}°" for name in ANGLES}
            shown |= {
                "name": item["name"],
                "kind": item.get("kind", "box"),
                "steps": item.get("steps") or None,
                "parent": extra(item, "parent") or "",
                "material": extra(item, "material"),
                "checker": show.length(extra(item, "checker_m"), places=places)[0],
            }
            kwargs["initial"] = kwargs.get("initial", {}) | shown
        super().__init__(*args, show=show, **kwargs)
        self.fields["parent"].choices = [
            ("", "nothing"),
            *(
                (other["id"], other["name"])
                for other in others
                if not item or other["id"] != item["id"]
            ),
        ]

    def clean(self):
        """Lengths to metres; sizes above 0.1 mm."""
        data = super().clean() or self.cleaned_data
        kind = (self.item or {}).get("kind", "box") if self.item else data.get("kind") or "box"
        item = dict(self.item) if self.item else new(kind, data.get("name") or KINDS[kind][0])
        item |= {
            "size": list(item["size"]),
            "base": list(item["base"]),
            "name": data.get("name") or item["name"],
        }
        for field, key, index in FIELDS:
            low = 0.0 if kind == "plane" and field == "height" else 1e-4
            value = (
                self.length(field, f"The {field}", low, 1e5, "above 0.1 mm and at most 100 km")
                if key == "size"
                else self.length(field, f"The place {field}")
            )
            if value is not None:
                item[key][index] = value
        for name in ANGLES:
            if (
                value := self.parsed(
                    name, f"The {name}", parse_angle, -math.inf, math.inf, "an angle"
                )
            ) is not None:
                item[f"{name}_deg"] = round(math.degrees(value), 6)
        if kind == "stairs" and "steps" in self.data:
            item["steps"] = data.get("steps") or 0
        for name in ("parent", "material"):
            if name in self.data and (value := data.get(name) or EXTRAS[name]) != extra(item, name):
                item[name] = value
        if (
            value := self.length(
                "checker", "The checker", 1e-4, 1e5, "above 0.1 mm and at most 100 km"
            )
        ) is not None:
            item["checker_m"] = value
        data["item"] = item
        return data


class MeshForm(forms.Form):
    """A mesh's file, and the unit and up axis that most such files don't say."""

    file = forms.FileField(error_messages={"required": "Choose a file first."})
    unit = forms.ChoiceField(choices=list(LENGTH_UNITS.items()))
    up_axis = forms.ChoiceField(choices=[("Y", "Y"), ("Z", "Z")])
    base = BaseField()

    def clean_file(self):
        """One of the endings that can be read."""
        found = self.cleaned_data["file"]
        if found.name.rsplit(".", 1)[-1].lower() not in ENDINGS:
            raise forms.ValidationError(
                f"“{found.name[:60]}” can't be used here. "
                f"Bring {', '.join(name.upper() for name in ENDINGS)}."
            )
        return found
