"""What may come in about a stand-in: lengths in the show's unit where bare, angles in degrees."""

import math

from django import forms

from aperture.errors import Problem
from aperture.formats.meshes import ENDINGS
from aperture.scene.solids import KINDS
from aperture.units import LENGTH_UNITS, parse_angle, parse_length
from web.stage.stand_ins import EXTRAS, MATERIALS, extra, new

FIELDS = (("width", "size", 0), ("height", "size", 1), ("depth", "size", 2), ("across", "base", 0), ("up", "base", 1), ("along", "base", 2))
ANGLES = ("turn", "tilt", "roll")


class StandInForm(forms.Form):
    """A stand-in's name, size, place and so on. `cleaned_data["item"]` is the JSON as it should become."""

    name = forms.CharField(required=False, max_length=60)
    kind = forms.ChoiceField(required=False, choices=[(kind, name) for kind, (name, _, _) in KINDS.items()])
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
    base = forms.IntegerField(required=False, widget=forms.HiddenInput)

    def __init__(self, *args, show, item=None, others=(), **kwargs):
        self.show, self.item = show, item
        if item:
            places = 4 if show.length_unit in ("m", "ft") else 2
            shown = {field: show.length(item[key][index], places=places)[0] for field, key, index in FIELDS}
            shown |= {name: f"{item.get(f'{name}_deg', 0.0):g}°" for name in ANGLES}
            shown |= {"name": item["name"], "kind": item.get("kind", "box"), "steps": item.get("steps") or None, "parent": extra(item, "parent") or "",
                      "material": extra(item, "material"), "checker": show.length(extra(item, "checker_m"), places=places)[0]}
            kwargs["initial"] = kwargs.get("initial", {}) | shown
        super().__init__(*args, **kwargs)
        self.fields["parent"].choices = [("", "nothing"), *((other["id"], other["name"]) for other in others if not item or other["id"] != item["id"])]

    def clean(self):
        """Lengths to metres; sizes above 0.1 mm."""
        data = super().clean()
        kind = (self.item or {}).get("kind", "box") if self.item else data.get("kind") or "box"
        item = dict(self.item) if self.item else new(kind, data.get("name") or KINDS[kind][0])
        item |= {"size": list(item["size"]), "base": list(item["base"]), "name": data.get("name") or item["name"]}
        for field, key, index in FIELDS:
            text = (data.get(field) or "").strip()
            if self.item and (text == self.initial.get(field) or field not in self.data) or not self.item and not text:
                continue  # as it was shown: keep the exact value
            if value := self._length(field, text, "The " if key == "size" else "The place ", flat=kind == "plane" and field == "height"):
                item[key][index] = value[0]
        for name in ANGLES:
            text = (data.get(name) or "").strip()
            if not text or self.item and text == self.initial.get(name):
                continue
            try:
                item[f"{name}_deg"] = round(math.degrees(parse_angle(text, f"The {name}")), 6)
            except Problem as problem:
                self.add_error(name, problem.sentence)
        if kind == "stairs" and "steps" in self.data:
            item["steps"] = data.get("steps") or 0
        for name in ("parent", "material"):
            if name in self.data and (value := data.get(name) or EXTRAS[name]) != extra(item, name):
                item[name] = value
        text = (data.get("checker") or "").strip()
        if text and text != self.initial.get("checker") and (value := self._length("checker", text, "The ")):
            item["checker_m"] = value[0]
        data["item"] = item
        return data

    def _length(self, field, text, before, flat=False):
        """(metres,), or None after saying what is wrong with it."""
        try:
            value = parse_length(text, self.show.length_unit, f"{before}{field}")
            if before == "The " and not (flat and value == 0) and not 1e-4 <= value <= 1e5:
                raise Problem(f"The {field} must be above 0.1 mm and at most 100 km.")
            if abs(value) > 1e5:
                raise Problem(f"The place {field} must be within 100 km.")
            return (value,)
        except Problem as problem:
            self.add_error(field, problem.sentence)
            return None


class MeshForm(forms.Form):
    """A mesh's file, and the unit and up axis that most such files don't say."""

    file = forms.FileField(error_messages={"required": "Choose a file first."})
    unit = forms.ChoiceField(choices=list(LENGTH_UNITS.items()))
    up_axis = forms.ChoiceField(choices=[("Y", "Y"), ("Z", "Z")])
    base = forms.IntegerField(required=False, widget=forms.HiddenInput)

    def clean_file(self):
        """One of the endings that can be read."""
        found = self.cleaned_data["file"]
        if found.name.rsplit(".", 1)[-1].lower() not in ENDINGS:
            raise forms.ValidationError(f"A mesh comes as {', '.join(name.upper() for name in ENDINGS)}.")
        return found
