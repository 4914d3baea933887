"""What may come in on the Gate step."""

import re

from django import forms

from aperture.errors import Problem
from aperture.gates.formats import BY_KEY, FORMATS
from aperture.gates.steps import FLIPS, KINDS, MOST_VALUES, PER_FRAME, TURNS
from aperture.gates.typed import aspect_text, parse_aspect, parse_shape, shape_text
from aperture.units import (
    exact_number,
    format_number,
    format_rate,
    parse_length,
    parse_number,
    parse_rate,
)
from web.shows.forms import BaseField


class GateForm(forms.Form):
    """A standard format, or a typed width and height; photosites, squeeze and rate. `cleaned_data`
    has millimetres."""

    format = forms.ChoiceField(
        label="Standard format",
        required=False,
        choices=[("", "typed below")] + [(row.key, row.name) for row in FORMATS],
    )
    width = forms.CharField(label="Width", required=False, max_length=40)
    height = forms.CharField(label="Height", required=False, max_length=40)
    squeeze = forms.CharField(label="Squeeze", required=False, max_length=20)
    rate = forms.CharField(label="Frame rate", required=False, max_length=20)
    photosites = forms.CharField(label="Photosites or scan, px", required=False, max_length=40)
    origin = forms.ChoiceField(
        required=False,
        choices=[(o, o) for o in ("", "typed", "file", "assumed")],
        widget=forms.HiddenInput,
    )
    base = BaseField()

    @staticmethod
    def initial_of(gate: dict | None, base: int) -> dict:
        """What the form shows of a gate document."""
        if not gate:
            return {"squeeze": "1", "base": base}
        rate = gate.get("rate")
        return {
            "format": next((f.key for f in FORMATS if f.name == gate["name"]), ""),
            "width": f"{format_number(gate['width_mm'], 6)} mm",
            "height": f"{format_number(gate['height_mm'], 6)} mm",
            "squeeze": exact_number(gate.get("squeeze", 1.0)),
            "rate": format_rate(parse_rate(rate)) if rate else "",
            "photosites": "{} × {}".format(*gate["photosites"]) if gate.get("photosites") else "",
            "base": base,
        }

    def clean(self):
        """Sizes above zero, in mm; a sentence beside the field otherwise."""
        data = super().clean() or self.cleaned_data
        chosen = BY_KEY.get(data.get("format") or "")
        if chosen:
            data["width_mm"], data["height_mm"], data["name"], data["origin"] = (
                *chosen.gate_mm,
                chosen.name,
                "catalogue",
            )
        else:
            data["name"], data["origin"] = "", data.get("origin") or "typed"
            for side in ("width", "height"):
                self._put(
                    side,
                    lambda side=side: data.update(
                        {f"{side}_mm": self._side(data.get(side) or "", side)}
                    ),
                )
        self._put("squeeze", lambda: data.update(squeeze=self._squeeze(data.get("squeeze") or "1")))
        self._put(
            "rate",
            lambda: data.update(rate=str(parse_rate(data["rate"])) if data.get("rate") else ""),
        )
        self._put(
            "photosites",
            lambda: data.update(
                sites=_sites(data["photosites"]) if data.get("photosites") else None
            ),
        )
        return data

    def _put(self, field, read):
        try:
            read()
        except Problem as problem:
            self.add_error(field, problem.sentence)

    @staticmethod
    def _side(text, side):
        value = parse_length(text, "mm", f"The gate's {side}") * 1000
        if not 0.1 <= value <= 1000:
            raise Problem(f"The gate's {side} must lie between 0.1 mm and 1000 mm.")
        return value

    @staticmethod
    def _squeeze(text):
        value = parse_number(text, "The squeeze")
        if not 1 <= value <= 4:
            raise Problem("The squeeze must lie between 1 (a spherical lens) and 4.")
        return value


def _sites(text):
    shape = parse_shape(text, ("px",))
    return [shape["width"], shape["height"]]


SHAPES = {
    "window": ("aspect", "px", "mm"),
    "pad": ("aspect", "px"),
    "resize": ("px", "side", "scale"),
}
HINTS = {
    "window": "2.39, 4096 × 1716, or 21.95 × 16 mm",
    "pad": "16:9, or 2048 × 1152",
    "resize": "1920 × 1080, 1920 wide, or 50 %",
    "extract": "2.39",
}


def _text(label, required=True):
    return forms.CharField(label=label, required=required, max_length=60)


def _choice(label, choices, required=True):
    return forms.ChoiceField(label=label, choices=choices, required=required)


def _fields_of_overscan() -> dict[str, forms.Field]:
    ways = [
        ("percent", "percent"),
        ("sides", "px on each side"),
        ("distortion", "as much as the distortion needs"),
    ]
    sides = ("Left", "Right", "Top", "Bottom")
    return {
        "how": _choice("How much", ways),
        "percent": _text("Percent in all", False),
        **{side.lower(): _text(f"{side}, px", False) for side in sides},
    }


def _by_frame(columns: str) -> forms.CharField:
    """Lines of what a step does on each frame."""
    return forms.CharField(
        label=f"Or by frame, a line each: {columns}",
        required=False,
        max_length=4_000_000,
        widget=forms.Textarea(attrs={"rows": 4}),
    )


def _fields_of_movement(do: str) -> dict[str, forms.Field]:
    """Of the steps whose values may be others on every frame."""
    if do == "stabilise":
        return {
            "right": _text("Moved right, px", False),
            "down": _text("Moved down, px", False),
            "turn_deg": _text("Turned clockwise, °", False),
            "scale": _text("Scaled by", False),
            "values": _by_frame("frame, right, down, turn °, scale"),
        }
    return {
        "pan_deg": _text("Panned to the left, °", False),
        "tilt_deg": _text("Tilted up, °", False),
        "roll_deg": _text("Rolled anticlockwise, °", False),
        "values": _by_frame("frame, pan °, tilt °, roll °"),
    }


def _fields_of_step(do: str) -> dict[str, forms.Field]:
    """The parameters that a kind of step has."""
    hint = HINTS.get(do, "")
    match do:
        case "window":
            return {
                "size": _text(f"What is kept: {hint}"),
                "left": _text("Left, px", False),
                "top": _text("Top, px", False),
                "multiple": _text("Whole multiples of, px", False),
            }
        case "bin":
            return {"by": _text("Photosites in a row")}
        case "resize" | "pad":
            return {"size": _text(f"To: {hint}")}
        case "turn":
            return {"quarters": _choice("Turn", [(str(n), name) for n, name in TURNS.items()])}
        case "flip":
            return {"way": _choice("Mirror", list(FLIPS.items()))}
        case "desqueeze":
            kept = [("height", "the height"), ("width", "the width")]
            return {
                "by": _text("By, empty for the lens’s squeeze", False),
                "keep": _choice("Keeping", kept, required=False),
            }
        case "stabilise" | "reorient":
            return _fields_of_movement(do)
        case "straighten":
            label = "Enlarge to hold all of the picture"
            return {"enlarge": forms.BooleanField(label=label, required=False, initial=True)}
        case "overscan":
            return _fields_of_overscan()
        case "extract":
            return {
                "aspect": _text(f"Aspect: {hint}"),
                "size": _text("Brought to: 2048 × 858, or 2048 wide", False),
                "multiple": _text("Cut in multiples of, px", False),
            }
        case "return":
            return {}
    raise KeyError(do)


def _values(text: str, offset: int, do: str) -> list[list[float]]:
    """What a step does by frame, from typed lines; by picture number, which is the frame without
    the offset."""
    usual = list(PER_FRAME[do].values())
    least = 2 if do == "stabilise" else len(usual)
    asked = {
        "stabilise": "by how many px right and down, and if need be degrees and a scale",
        "reorient": "degrees of pan, tilt and roll",
    }
    out: dict[int, list[float]] = {}
    for number, line in enumerate(text.splitlines(), 1):
        parts = [part for part in re.split(r"[\s,;]+", line.strip()) if part]
        if not parts:
            continue
        try:
            frame, *values = (parse_number(part) for part in parts)
        except Problem as problem:
            raise Problem(f"Line {number}: {problem.sentence}") from None
        if frame != int(frame) or not least <= len(values) <= len(usual):
            raise Problem(f"Line {number}: a whole frame, {asked[do]}.")
        if int(frame) in out:
            raise Problem(f"Line {number}: frame {frame:g} is there twice.")
        out[int(frame)] = [*values, *usual[len(values) :]]
        if len(out) > MOST_VALUES:
            raise Problem(f"At most {MOST_VALUES:,} frames can be given.")
    return [[frame - offset, *out[frame]] for frame in sorted(out)]


class StepForm(forms.Form):
    """The parameters of one kind of step. `step` holds them once the form is valid.

    `offset`: by how much the shot's frames are more than the picture numbers that are kept.
    """

    base = BaseField()

    def __init__(self, *args, do: str, now: dict | None = None, offset: int = 0, **kwargs):
        self.do, self.now, self.offset = do, now, offset
        super().__init__(*args, **kwargs)
        self.fields |= _fields_of_step(do)
        if not self.is_bound:
            self.initial |= self._initial(now or {"do": do})

    def _initial(self, step):
        plain = (
            "left",
            "top",
            "right",
            "bottom",
            "down",
            "by",
            "quarters",
            "way",
            "keep",
            "multiple",
            "percent",
            *PER_FRAME["stabilise"],
            *PER_FRAME["reorient"],
        )
        values = {key: str(step[key]) for key in plain if step.get(key) is not None}
        if self.do in SHAPES:
            values["size"] = shape_text(step)
        if self.do == "extract":
            values["aspect"] = aspect_text(step["aspect"]) if "aspect" in step else ""
            values["size"] = shape_text(
                {key: step[key] for key in ("width", "height") if key in step}
            )
        if self.do in PER_FRAME and step.get("values"):
            values["values"] = "\n".join(
                " ".join(map(exact_number, (line[0] + self.offset, *line[1:])))
                for line in step["values"]
            )
        if self.do == "straighten":
            values["enlarge"] = step.get("enlarge", True)
        if self.do == "overscan":
            values["how"] = "sides" if "left" in step else "percent"
            if step.get("for"):
                values["how"] = "distortion"
            values.setdefault("percent", "10" if len(step) == 1 else "")
        if self.do == "bin":
            values.setdefault("by", "2")
        return values

    def clean(self):
        """`step`: the document of the step."""
        data = super().clean() or self.cleaned_data
        self.step = {"do": self.do} | ({"id": self.now["id"]} if self.now else {})
        if self.now and self.now.get("from"):
            self.step["from"] = self.now["from"]
        for name in self.fields:
            if name != "base" and name not in self.errors:
                try:
                    self._read(name, data.get(name), data)
                except Problem as problem:
                    self.add_error(name, problem.sentence)
        return data

    def _read(self, name, value, data):
        step, label = self.step, str(self.fields[name].label)
        if self.do == "overscan" and not self._wanted(name, data):
            return
        if name == "size":
            if value:
                step |= parse_shape(value, SHAPES.get(self.do, ("px", "side")))
        elif name == "aspect":
            if value:
                step["aspect"] = parse_aspect(value)
        elif name == "values":
            if value:
                step["values"] = values = _values(value, self.offset, self.do)
                step |= dict(zip(PER_FRAME[self.do], values[0][1:]))  # where no frame is known
        elif self.do in PER_FRAME:
            if value or self.do == "reorient" or name in ("right", "down"):
                step[name] = parse_number(value or "0", label.split(",")[0])
        elif (
            name in ("left", "top", "right", "bottom", "multiple", "quarters")
            or name == "by"
            and self.do == "bin"
        ):
            if value or self.do == "overscan":
                step[name] = self._whole(value or "0", label)
            if name in ("left", "top") and value and "width" not in step and self.do == "window":
                raise Problem("A corner needs a size in px beside it.")
        elif name == "by":
            if value:
                step["by"] = parse_number(value, "The squeeze")
        elif name == "percent":
            step["percent"] = parse_number((value or "").rstrip("% "), "The percentage")
        elif name == "how":
            if value == "distortion":
                step["for"] = "distortion"
        elif name == "enlarge":
            step["enlarge"] = bool(value)
        elif value and not (name == "keep" and value == "height"):
            step[name] = value

    @staticmethod
    def _wanted(name, data):
        return (
            name == "how"
            or (name == "percent" and data.get("how") == "percent")
            or (name not in ("how", "percent") and data.get("how") == "sides")
        )

    @staticmethod
    def _whole(text, label):
        value = parse_number(text, label)
        if value != int(value) or not 0 <= value <= 200000:
            raise Problem(f"{label.split(',')[0]} must be a whole number of at least 0.")
        return int(value)

    @property
    def title(self):
        """What the step is called."""
        return KINDS[self.do]


class ClaimForm(forms.Form):
    """What somebody quotes of a lens."""

    angle = forms.CharField(label="Angle of view", required=False, max_length=20)
    basis = forms.ChoiceField(
        label="Measured",
        required=False,
        choices=[
            ("", "nobody says"),
            ("horizontal", "across"),
            ("vertical", "down"),
            ("diagonal", "diagonal"),
        ],
    )
    focal = forms.CharField(label="Focal length", required=False, max_length=20)
    kind = forms.ChoiceField(
        label="which is",
        required=False,
        choices=[
            ("true", "the lens’s own"),
            ("width", "an equivalent, by 36 mm width"),
            ("diagonal", "an equivalent, by 43.27 mm diagonal"),
        ],
    )
    sensor = forms.CharField(label="Sensor", required=False, max_length=40)
    aspect = forms.CharField(label="Picture’s aspect", required=False, max_length=20)
