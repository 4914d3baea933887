"""What may come into the catalogue: fields in, the catalogue's documents out."""

from django import forms

from aperture.errors import Problem
from aperture.formats.catalogue import rate_text
from aperture.lens.distortion import NAMES
from aperture.lens.projections import MATCHED, OF_LENSES
from aperture.units import exact_length, exact_number, parse_length, parse_number, parse_rate

TEXT = forms.Textarea(attrs={"rows": 2})


def _list(cell: str) -> list[str]:
    return [
        part.strip()
        for part in cell.replace("\n", ";").replace(",", ";").split(";")
        if part.strip()
    ]


class DocumentForm(forms.Form):
    """Fields with units; each `_put_<field>` raises Problem, which becomes the sentence beside
    it."""

    def clean(self):
        """`cleaned_data["document"]`: what the fields say."""
        data, self.document = super().clean() or self.cleaned_data, {}
        for name in list(self.fields):
            if name in data and name not in self.errors:
                try:
                    self.put(name, data[name])
                except Problem as problem:
                    self.add_error(name, problem.sentence)
        return data

    def put(self, name, text):
        """Read one field into `self.document`."""
        raise NotImplementedError

    def whole(self, text, name, least=1):
        """A whole number of at least `least`."""
        value = parse_number(text, name)
        if value != int(value) or value < least:
            raise Problem(f"{name} must be a whole number of at least {least}.")
        return int(value)

    def mm(self, text, name):
        """A size on the sensor or a focal length, in mm."""
        value = round(parse_length(text, "mm", name) * 1000, 9)
        if value <= 0:
            raise Problem(f"{name} must be above zero.")
        return value


class BodyForm(DocumentForm):
    """A body without its modes."""

    maker = forms.CharField(max_length=120, required=False)
    name = forms.CharField(max_length=120, error_messages={"required": "Give the body a name."})
    photosites_width = forms.CharField(label="Photosites across", max_length=12)
    photosites_height = forms.CharField(label="Photosites down", max_length=12)
    width_mm = forms.CharField(label="Whole sensor, width", max_length=20)
    height_mm = forms.CharField(label="Whole sensor, height", max_length=20)
    notes = forms.CharField(max_length=2000, required=False, widget=TEXT)

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        if self.initial:  # a body that has modes has its sizes there
            del self.fields["width_mm"], self.fields["height_mm"]

    @staticmethod
    def initial_of(body: dict) -> dict:
        """What the form shows of a body."""
        return {
            "maker": body["maker"],
            "name": body["name"],
            "notes": body["notes"],
            "photosites_width": body["photosites"][0],
            "photosites_height": body["photosites"][1],
        }

    def put(self, name, text):
        """Photosites are counted."""
        if name.startswith("photosites"):
            self.document.setdefault("photosites", []).append(
                self.whole(text, self.fields[name].label)
            )
        elif name.endswith("_mm"):
            self.size = (*getattr(self, "size", ()), self.mm(text, self.fields[name].label))
        else:
            self.document[name] = text


class ModeForm(DocumentForm):
    """A sensor mode. An empty corner is the middle; an empty recorded size is one pixel for each
    photosite."""

    mode = forms.CharField(
        label="Mode",
        max_length=120,
        error_messages={"required": "Give the mode a name, for example Open gate."},
    )
    width = forms.CharField(label="Window across, photosites", max_length=12)
    height = forms.CharField(label="Window down, photosites", max_length=12)
    left = forms.CharField(label="From the left", max_length=12, required=False)
    top = forms.CharField(label="From the top", max_length=12, required=False)
    width_mm = forms.CharField(label="Width", max_length=20)
    height_mm = forms.CharField(label="Height", max_length=20)
    recorded_width = forms.CharField(label="Recorded across, px", max_length=12, required=False)
    recorded_height = forms.CharField(label="Recorded down, px", max_length=12, required=False)
    squeezes = forms.CharField(label="Squeezes", max_length=120, required=False)
    rates = forms.CharField(label="Frame rates", max_length=300, required=False)

    def __init__(self, *args, photosites, **kwargs):
        super().__init__(*args, **kwargs)
        self.photosites = photosites

    @staticmethod
    def initial_of(mode: dict) -> dict:
        """What the form shows of a mode."""
        left, top, width, height = mode["window"]
        recorded = mode.get("recorded") or ["", ""]
        return {
            "mode": mode["name"],
            "left": left,
            "top": top,
            "width": width,
            "height": height,
            "width_mm": f"{mode['width_mm']!r} mm",
            "height_mm": f"{mode['height_mm']!r} mm",
            "recorded_width": recorded[0],
            "recorded_height": recorded[1],
            "squeezes": "; ".join(map(exact_number, mode["squeezes"])),
            "rates": "; ".join(rate_text(rate) for rate in mode["rates"]),
        }

    def put(self, name, text):
        """Sizes, lists of squeezes and rates."""
        label, values = self.fields[name].label, self.__dict__.setdefault("values", {})
        if name == "mode":
            self.document["name"] = text
        elif name in ("width_mm", "height_mm"):
            self.document[name] = self.mm(text, label)
        elif name == "squeezes":
            self.document[name] = [parse_number(part, "A squeeze") for part in _list(text)]
        elif name == "rates":
            self.document[name] = [
                str(parse_rate(part))
                for part in text.replace(",", ";").replace("\n", ";").split(";")
                if part.strip()
            ]
        elif text:
            values[name] = self.whole(text, label, 0 if name in ("left", "top") else 1)

    def clean(self):
        """Puts window and recorded size together."""
        data = super().clean() or self.cleaned_data
        values = self.__dict__.get("values", {})
        if "width" in values and "height" in values:
            size = [values["width"], values["height"]]
            corner = [
                values.get(key, max(0, (whole - part) // 2))
                for key, whole, part in zip(("left", "top"), self.photosites, size)
            ]
            self.document["window"] = corner + size
        recorded = [values.get("recorded_width"), values.get("recorded_height")]
        if any(recorded) and not all(recorded):
            self.add_error("recorded_height", "Give both recorded sizes, or neither.")
        elif all(recorded):
            self.document["recorded"] = recorded
        return data


class LensForm(DocumentForm):
    """A lens. A range like 18–40 is a zoom; distortion is a line a focal length."""

    maker = forms.CharField(max_length=120, required=False)
    name = forms.CharField(max_length=120, error_messages={"required": "Give the lens a name."})
    focal = forms.CharField(label="Focal length, or its range", max_length=40)
    stops = forms.CharField(label="Stops, widest–smallest", max_length=40, required=False)
    squeeze = forms.CharField(label="Squeeze", max_length=20, required=False)
    projection = forms.ChoiceField(
        label="Projection", choices=[(name, name) for name in MATCHED if name in OF_LENSES]
    )
    close_focus = forms.CharField(label="Close focus", max_length=20, required=False)
    entrance_pupil = forms.CharField(
        label="Entrance pupil from sensor", max_length=20, required=False
    )
    distortion = forms.CharField(
        label="Distortion: focal length, k1 k2 k3 p1 p2, a line each",
        max_length=4000,
        required=False,
        widget=forms.Textarea(attrs={"rows": 3}),
    )
    notes = forms.CharField(max_length=2000, required=False, widget=TEXT)

    @staticmethod
    def initial_of(lens: dict) -> dict:
        """What the form shows of a lens."""
        low, high = map(exact_number, lens["focal_mm"])
        stops = [exact_number(stop) for stop in lens.get("stops") or ()]
        lines = [
            " ".join(
                [
                    f"{exact_number(row['focal_mm'])} mm:",
                    *(repr(row.get(name, 0.0)) for name in NAMES),
                ]
            )
            for row in lens["distortion"]
        ]
        return {
            "maker": lens["maker"],
            "name": lens["name"],
            "notes": lens["notes"],
            "projection": lens["projection"],
            "squeeze": exact_number(lens["squeeze"]),
            "focal": f"{low} mm" if low == high else f"{low}–{high} mm",
            "stops": "–".join(stops),
            "close_focus": (
                exact_length(lens["close_focus_m"], "m") if "close_focus_m" in lens else ""
            ),
            "entrance_pupil": (
                f"{exact_number(lens['entrance_pupil_mm'])} mm"
                if "entrance_pupil_mm" in lens
                else ""
            ),
            "distortion": "\n".join(lines),
        }

    def put(self, name, text):
        """Ranges are parted by a dash."""
        text = text.strip() if isinstance(text, str) else text
        if name in ("maker", "name", "notes", "projection"):
            self.document[name] = text
        elif name == "focal":
            ends = [self.mm(part.replace("mm", ""), "The focal length") for part in _range(text)]
            self.document["focal_mm"] = sorted([ends[0], ends[-1]])
        elif name == "stops" and text:
            ends = [
                parse_number(part.lower().removeprefix("f/").removeprefix("t"), "A stop")
                for part in _range(text)
            ]
            self.document["stops"] = sorted([ends[0], ends[-1]])
        elif name == "squeeze":
            self.document["squeeze"] = parse_number(text or "1", "The squeeze")
        elif name == "close_focus" and text:
            self.document["close_focus_m"] = parse_length(text, "m", "The close focus")
        elif name == "entrance_pupil" and text:
            self.document["entrance_pupil_mm"] = (
                parse_length(text, "mm", "The entrance pupil") * 1000
            )
        elif name == "distortion":
            self.document["distortion"] = [
                _distortion_line(line) for line in text.splitlines() if line.strip()
            ]


def _range(text: str) -> list[str]:
    parts = [
        part.strip() for part in text.replace("—", "–").replace("-", "–").split("–") if part.strip()
    ]
    if not 1 <= len(parts) <= 2:
        raise Problem("Type one number, or two with a dash between them: 18–40.")
    return parts


def _distortion_line(line: str) -> dict:
    words = line.replace(":", " ").replace("mm", " ").split()
    if not 2 <= len(words) <= 6:
        raise Problem(
            f"“{line[:60]}” can't be read: type a focal length and up to five coefficients, for"
            " example 35: -0.08 0.01."
        )
    values = [parse_number(word, "A coefficient") for word in words]
    return {"focal_mm": values[0]} | dict(zip(NAMES, values[1:]))
