"""The Blur leaf: the shape of the opening, drawn at nine places of the frame, and motion blur."""

import cv2
import numpy as np
from django import forms
from django.http import HttpResponse, JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.light.motion import PHASES
from aperture.light.pupil import NINE, Pupil
from aperture.scene.way import riding
from aperture.units import exact_number, parse_number
from web.expose import blurring, exposure, focus_page, maps, page
from web.match.path_fits import require_camera
from web.plates.models import plate_of
from web.shows.forms import BaseField, on_form
from web.shows.reading import Message, Place, base_of, given_file, read
from web.shows.views import find
from web.ui.rows import Remark, Row

FIELDS = (
    ("blades", "Blades", "0 is a round opening"),
    ("turn_deg", "Turned by (°)", "Anticlockwise, as seen in the picture"),
    ("curvature", "Blades’ curve", "0 straight, 1 a circle"),
    ("spherical", "Rim or middle", "−1 light in the middle, 1 at the rim: spherical aberration"),
    ("squeeze", "Taller by", "How much taller than wide: an anamorphic lens’s squeeze"),
    ("cats_eye", "Cat’s eye", "0 none, 1 nothing is left at the corner"),
    ("onset", "begins at", "Of the half diagonal"),
    ("swirl", "Swirl", "How much it is drawn along the circle about the middle, at the corner"),
)
WIDE, HIGH, SPOT = 336, 189, 62  # px of the drawing


class PupilForm(forms.Form):
    """The opening's figures."""

    base = BaseField()

    def __init__(self, *args, pupil: Pupil, **kwargs):
        super().__init__(*args, **kwargs)
        for name, label, title in FIELDS:
            value = getattr(pupil, name)
            self.fields[name] = forms.CharField(
                label=label,
                max_length=20,
                initial=exact_number(value),
                widget=forms.TextInput(attrs={"title": title, "data-pupil": ""}),
            )

    def clean(self):
        """`cleaned_data["pupil"]`: the opening, without its picture."""
        data = super().clean() or self.cleaned_data
        values = {}
        for name, label, _ in FIELDS:
            with on_form(self, name):
                values[name] = parse_number(data.get(name) or "", label)
        if not self.errors:
            with on_form(self):
                if values["blades"] != int(values["blades"]):
                    raise Problem("The number of blades is a whole number.", "blades")
                data["pupil"] = Pupil.from_json(values | {"blades": int(values["blades"])})
        return data


def blur(request, show, shot):
    """The leaf; POST saves the opening's shape."""
    shot = find(show, shot)
    pupil = blurring.pupil_of(shot)
    form = PupilForm(request.POST or None, pupil=pupil, initial={"base": shot.head.number})
    if request.method == "POST" and form.is_valid():
        blurring.set_pupil(shot, form.cleaned_data["pupil"], form.cleaned_data["base"])
        return redirect(shot.url("expose-blur"))
    own = shot.state["shutter"]
    readout = own.get("readout_ms")
    context = {
        "form": form,
        "picture_name": shot.state["pupil"].get("picture_name", ""),
        "phases": PHASES.items(),
        "phase": own.get("phase", "centre"),
        "readout": "" if readout is None else f"{readout:g}",
        "readout_hint": f"as matched: {blurring.known_readout_ms(shot):g}",
        "motion_rows": _motion_rows(shot),
        "remarks": _remarks(shot),
        "tools": {"streak": {"kind": "point", "to": shot.url("expose-blur-streak"), "tells": True}},
    }
    status = 422 if form.errors else 200
    return page.leaf_page(request, shot, "expose-blur", "expose/blur.html", context, status)


def _remarks(shot) -> list[Remark]:
    if exposure.of_camera(shot)["seconds"].value is None:
        says = "How long the shutter is open isn’t known: type it on the Light leaf."
        return [Remark("No shutter", says, "note")]
    return []


def _motion_rows(shot) -> list[Row]:
    shutter = blurring.shutter_of(shot)
    rows = [
        Row("Open for", f"{360 * shutter.open_frames:.1f}°", f"{shutter.open_frames:.3f} frames")
    ]
    if shutter.readout_frames:
        rows.append(Row("Last row later by", f"{shutter.readout_frames:.3f} frames"))
    longest = page.longest_streak(shot)
    if longest is None:
        rows.append(Row("Longest streak", "–", title=blurring.STILL))
    else:
        rows.append(Row("Longest streak", f"{longest:.1f} px", title="Of the stand-ins’ corners"))
    return rows


@require_GET
def spots(request, show, shot):
    """Blur spots at nine places of the frame, by the figures in the address: as a picture."""
    shot = find(show, shot)
    own = blurring.pupil_of(shot)
    values = own.to_json()
    for name, label, _ in FIELDS:
        if request.GET.get(name):
            values[name] = parse_number(request.GET[name], label)
    if values["blades"] != int(values["blades"]):
        raise Problem("The number of blades is a whole number.")
    values["blades"] = int(values["blades"])
    pupil = Pupil.from_json(values, own.picture)
    answer = HttpResponse(maps.png(nine(pupil, _aspect(shot))), content_type="image/png")
    answer["Cache-Control"] = "no-cache"
    return answer


def _aspect(shot) -> float:
    plate = plate_of(shot)
    return plate.width / plate.height if plate else 16 / 9


def nine(pupil: Pupil, aspect: float) -> np.ndarray:
    """(HIGH, WIDE, 3) light spots over black, where they are in the frame."""
    light = np.zeros((HIGH, WIDE))
    half = np.hypot(aspect, 1)
    for x, y in NINE:
        spot = pupil.spot((x * aspect / half, y / half), SPOT, 3)
        left = round((x + 1) / 2 * (WIDE - SPOT))
        top = round((1 - y) / 2 * (HIGH - SPOT))
        light[top : top + SPOT, left : left + SPOT] += spot
    shown = np.clip(light / max(float(light.max()), 1e-6), 0, 1) ** 0.7
    grey = (18 + 225 * shown).astype(np.uint8)
    return cv2.cvtColor(grey, cv2.COLOR_GRAY2RGB)


@require_POST
def picture(request, show, shot):
    """Take a picture of an opening, or forget it."""
    shot = find(show, shot)
    if request.POST.get("forget"):
        blurring.set_picture(shot, None, "", base_of(request))
    else:
        upload = given_file(request, "picture", "a picture of an opening", blurring.MOST_BYTES)
        blurring.set_picture(shot, upload.read(), upload.name, base_of(request))
    return redirect(shot.url("expose-blur"))


@require_POST
def shutter(request, show, shot):
    """Keep the shutter's phase and readout."""
    shot = find(show, shot)
    text = request.POST.get("readout", "").strip().removesuffix("ms").strip()
    readout = parse_number(text, "The readout") if text else None
    phase = request.POST.get("phase", "")
    if phase not in PHASES:
        raise Problem("A shutter starts on its frame, is centred on it, or ends on it.")
    blurring.set_shutter(shot, phase, readout, base_of(request))
    return redirect(shot.url("expose-blur"))


class At(Message, frozen=True):
    """A place of the plate."""

    at: Place


@require_POST
def streak(request, show, shot):
    """How far a place of the set goes while the shutter is open."""
    shot, wish = find(show, shot), read(request, At)
    metres, name = focus_page.hit(shot, wish.at)
    camera = require_camera(shot.state)
    ray = camera.rays(np.array([wish.at]))[0]
    along = -(ray @ camera.rotation)[2]
    point = camera.position + ray * metres / along
    items = blurring.exposed_items(shot.state)
    which = np.array([list(items).index(name) if name in items else -1])
    ways = [item.way for item in items.values()]
    found = blurring.streaks_of(shot, riding(ways, which, point[None], blurring.moment_of(shot)))
    if found is None:
        raise Problem(blurring.STILL)
    px, skew = float(found.lengths[0]), found.skews[0]
    says = f"{name}: a streak of {px:.1f} px"
    if np.isfinite(skew).all() and np.hypot(*skew) > 0.05:
        says += f", displaced by {skew[0]:+.1f}, {skew[1]:+.1f} px by the readout"
    line = [found.starts[0].tolist(), found.ends[0].tolist()]
    ok = np.isfinite(line).all()
    return JsonResponse({"says": says.replace("-", "−"), "line": line if ok else None})
