"""What may come in about a render."""

import re

from django import forms

from aperture.errors import Problem
from aperture.render.passes import PASSES
from aperture.render.tracer import Light
from aperture.units import exact_number, parse_length
from web.elements.actions import MOST_FRAMES, SIZES, Order
from web.shows.reading import frame_range, whole

SAMPLES = {1: "1, to try", 2: "4", 3: "9", 4: "16", 6: "36"}


MOST_M = 1e4
# Field, what a sentence calls it, what an empty one means (m), whether it must be above zero.
LENGTHS = (
    ("occlusion", "The reach of the occlusion", 1.0, True),
    ("lamp_across", "The lamp's place across", 0.0, False),
    ("lamp_up", "The lamp's height", 2.5, False),
    ("lamp_along", "The lamp's place along", 0.0, False),
    ("lamp_side", "The lamp's side", 0.5, True),
)


class OrderForm(forms.Form):
    """A render's passes, size, samples and light. `cleaned_data["order"]` is the Order."""

    passes = forms.MultipleChoiceField(
        required=False, choices=list(PASSES.items()), widget=forms.CheckboxSelectMultiple
    )
    size = forms.ChoiceField(choices=list(SIZES.items()))
    overscan = forms.FloatField(
        required=False,
        min_value=0,
        max_value=100,
        error_messages={
            name: "The overscan is a number from 0 to 100, in percent of the picture's size."
            for name in ("min_value", "max_value", "invalid")
        },
    )
    region = forms.CharField(required=False, max_length=60)
    frames = forms.CharField(required=False, max_length=40)
    samples = forms.TypedChoiceField(choices=list(SAMPLES.items()), coerce=int)
    occlusion = forms.CharField(required=False, max_length=40)
    bearing = forms.FloatField(
        min_value=-360,
        max_value=360,
        error_messages={"invalid": "The sun's bearing is a number of degrees."},
    )
    height = forms.FloatField(
        min_value=-90,
        max_value=90,
        error_messages={
            name: "The sun's height is a number of degrees from −90 to 90."
            for name in ("invalid", "max_value", "min_value")
        },
    )
    sun = forms.FloatField(min_value=0, max_value=100)
    ambient = forms.FloatField(min_value=0, max_value=100)
    soft = forms.BooleanField(required=False)
    depth = forms.BooleanField(required=False)
    motion = forms.BooleanField(required=False)
    exposed = forms.BooleanField(required=False)
    lamp = forms.FloatField(required=False, min_value=0, max_value=10000)
    lamp_across = forms.CharField(required=False, max_length=40)
    lamp_up = forms.CharField(required=False, max_length=40)
    lamp_along = forms.CharField(required=False, max_length=40)
    lamp_side = forms.CharField(required=False, max_length=40)

    def pass_boxes(self) -> list[dict]:
        """The boxes of the passes, for the page."""
        chosen = self["passes"].value() or ()
        return [
            {"name": self["passes"].html_name, "key": key, "says": says, "checked": key in chosen}
            for key, says in PASSES.items()
        ]

    def __init__(self, *args, show, order: Order, grids=None, **kwargs):
        self.show = show
        light = order.light

        def length(metres):
            return show.typed(metres)

        kwargs["initial"] = {
            "passes": list(order.passes),
            "size": order.size,
            "overscan": exact_number(order.overscan),
            "samples": order.samples,
            "occlusion": length(order.occlusion_m),
            "region": " ".join(map(str, order.region or ())),
            "frames": "–".join(map(str, order.frames or ())),
            "bearing": exact_number(light.sun_bearing),
            "height": exact_number(light.sun_height),
            "sun": exact_number(light.sun),
            "ambient": exact_number(light.ambient),
            "soft": light.shadow_rays > 1,
            "depth": order.depth,
            "motion": order.motion,
            "exposed": order.exposed,
            "lamp": exact_number(light.lamp),
            "lamp_side": length(light.lamp_m),
            **{
                f"lamp_{name}": length(value)
                for name, value in zip(("across", "up", "along"), light.lamp_at)
            },
        }
        super().__init__(*args, **kwargs)
        self.fields["size"].choices = [*SIZES.items(), *(grids or {}).items()]

    def clean(self):
        """Lengths to metres."""
        data = super().clean() or self.cleaned_data
        metres = {name: self._metres(data, name, *rest) for name, *rest in LENGTHS}
        region = _region(self, data.get("region") or "")
        frames = _frames(self, data.get("frames") or "")
        if not self.errors:
            light = Light(
                data["bearing"],
                data["height"],
                data["sun"],
                ambient=data["ambient"],
                lamp=data.get("lamp") or 0.0,
                lamp_at=(metres["lamp_across"], metres["lamp_up"], metres["lamp_along"]),
                lamp_m=metres["lamp_side"],
                shadow_rays=8 if data["soft"] else 1,
            )
            data["order"] = Order(
                tuple(data["passes"]),
                data["samples"],
                data["size"],
                data.get("overscan") or 0.0,
                metres["occlusion"],
                region,
                light,
                frames,
                depth=bool(data["depth"]),
                motion=bool(data["motion"]),
                exposed=bool(data["exposed"]),
            )
        return data

    def _metres(self, data, name, label, usual, positive) -> float:
        """A typed length, or the usual one; a refused one is an error of its field."""
        text = (data.get(name) or "").strip()
        if not text:
            return usual
        try:
            metres = parse_length(text, self.show.length_unit, label)
            if positive and not 0 < metres <= MOST_M:
                raise Problem(f"{label} must be above zero and at most 10 km.")
        except Problem as problem:
            self.add_error(name, problem.sentence)
            return usual
        return metres


def _region(form, text) -> tuple[int, int, int, int] | None:
    """Left, top, right and bottom in px; None for the whole picture."""
    parts = [part for part in re.split(r"[\s,;]+", text) if part]
    if not parts:
        return None
    numbers = [number for part in parts if (number := whole(part)) is not None]
    if len(parts) == len(numbers) == 4:
        left, top, right, bottom = numbers
        if left < right and top < bottom:
            return left, top, right, bottom
    form.add_error(
        "region",
        "A region is four whole numbers of pixels: left, top, right and bottom, such as 400 200 900"
        " 700.",
    )
    return None


def _frames(form, text) -> tuple[int, int] | None:
    """First and last frame of `1001–1010`, or of one number; None for a still."""
    if not text.strip():
        return None
    found = frame_range(text)
    if found is None:
        form.add_error(
            "frames",
            "Frames are two whole numbers, the first and the last, such as 1001–1010. Leave it"
            " empty for a still.",
        )
        return None
    if found[1] - found[0] >= MOST_FRAMES:
        form.add_error("frames", f"At most {MOST_FRAMES} frames are rendered at once.")
    return found
