"""What may come in about a camera of the Set step: its place and direction, its gate and lens, and
how it is drawn."""

import math

from django import forms

from aperture.geometry.grid import Grid
from aperture.units import parse_angle
from web.stage.cameras import LOOKS, SIDES
from web.stage.typed import TypedForm

PLACE = ("across", "up", "along")
TURNS = ("pan", "tilt", "roll")
MILLIMETRES = ("focal", "gate_width", "gate_height")
MOST_PX = 65536


class CameraForm(TypedForm):
    """A copied or typed camera. `cleaned_data["item"]` is its JSON as it should become."""

    name = forms.CharField(required=False, max_length=60)
    across = forms.CharField(required=False, max_length=40)
    up = forms.CharField(required=False, max_length=40)
    along = forms.CharField(required=False, max_length=40)
    pan = forms.CharField(required=False, max_length=40)
    tilt = forms.CharField(required=False, max_length=40)
    roll = forms.CharField(required=False, max_length=40)
    focal = forms.CharField(required=False, max_length=40)
    gate_width = forms.CharField(required=False, max_length=40)
    gate_height = forms.CharField(required=False, max_length=40)
    picture_width = forms.IntegerField(required=False, min_value=1, max_value=MOST_PX)
    picture_height = forms.IntegerField(required=False, min_value=1, max_value=MOST_PX)

    def __init__(self, *args, show, item, **kwargs):
        self.item = item
        grid = _grid(item)
        places = 4 if show.length_unit in ("m", "ft") else 2
        shown = {
            "name": item["name"],
            "focal": f"{item['focal_mm']:.4g} mm",
            "picture_width": grid.width,
            "picture_height": grid.height,
        }
        shown |= {
            name: show.length(value, places=places)[0]
            for name, value in zip(PLACE, item["position"])
        }
        shown |= {name: f"{item[f'{name}_deg']:.3f}°" for name in TURNS}
        shown |= {
            name: f"{value:.4g} mm"
            for name, value in zip(("gate_width", "gate_height"), grid.gate_mm)
        }
        super().__init__(*args, show=show, initial=shown | kwargs.pop("initial", {}), **kwargs)

    def clean(self):
        """Metres, degrees and millimetres."""
        data = super().clean() or self.cleaned_data
        item = dict(self.item) | {
            "name": data.get("name") or self.item["name"],
            "position": list(self.item["position"]),
        }
        for index, name in enumerate(PLACE):
            if (value := self.length(name, f"The place {name}")) is not None:
                item["position"][index] = value
        for name in TURNS:
            if (
                value := self.parsed(
                    name, f"The {name}", parse_angle, -4 * math.pi, 4 * math.pi, "within two turns"
                )
            ) is not None:
                item[f"{name}_deg"] = math.degrees(value)
        if (
            value := self.length("focal", "The focal length", 0.1, 1e4, "from 0.1 mm to 10 m", "mm")
        ) is not None:
            item["focal_mm"] = value
        grid = _grid(self.item)
        gate = [
            self.length(name, f"The gate's {name[5:]}", 0.1, 1000, "from 0.1 mm to 1 m", "mm")
            or old
            for name, old in zip(("gate_width", "gate_height"), grid.gate_mm)
        ]
        size = [
            data.get(name) or old
            for name, old in (("picture_width", grid.width), ("picture_height", grid.height))
        ]
        if gate != list(grid.gate_mm) or size != [grid.width, grid.height]:
            made = Grid.from_gate(*size, *gate)
            item |= {"image": size, "mm_from_px": [list(row) for row in made.mm_from_px]}
        data["item"] = item
        return data


def _grid(item) -> Grid:
    width, height = item["image"]
    return Grid(width, height, tuple(map(tuple, item["mm_from_px"])))


class LooksForm(TypedForm):
    """How any camera is drawn, and its focus and stop. `cleaned_data["looks"]` holds what becomes
    of LOOKS; an emptied field goes back to usual."""

    length_m = forms.CharField(required=False, max_length=40)
    focus_m = forms.CharField(required=False, max_length=40)
    stop = forms.FloatField(
        required=False,
        min_value=0.3,
        max_value=256,
        error_messages={
            name: "The stop is a T-number, such as 2.8."
            for name in ("invalid", "min_value", "max_value")
        },
    )
    opacity = forms.IntegerField(required=False, min_value=0, max_value=100)
    facts = forms.ChoiceField(choices=list(SIDES.items()))

    def __init__(self, *args, show, looks, **kwargs):
        self.looks = looks
        shown = {
            name: show.length(looks[name], places=2)[0] if looks[name] else ""
            for name in ("length_m", "focus_m")
        }
        shown |= {
            "stop": looks["stop"],
            "opacity": round(looks["opacity"] * 100),
            "facts": looks["facts"],
        }
        super().__init__(*args, show=show, initial=shown | kwargs.pop("initial", {}), **kwargs)

    def clean(self):
        """Metres and shares."""
        data = super().clean() or self.cleaned_data
        looks = {
            "stop": data.get("stop"),
            "facts": data.get("facts"),
            "opacity": LOOKS["opacity"] if data.get("opacity") is None else data["opacity"] / 100,
        }
        for name, label in (
            ("length_m", "The frustum's length"),
            ("focus_m", "The focus distance"),
        ):
            value = self.length(name, label, 1e-3, 1e5, "above 1 mm and at most 100 km")
            if value is None and (data.get(name) or "").strip():
                value = self.looks[name]  # what can't be read leaves what was there
            looks[name] = value
        data["looks"] = looks
        return data
