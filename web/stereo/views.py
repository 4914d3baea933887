"""The page of stereo: two cameras from the shot's one, what an audience sees of them, and pictures
for two eyes."""

from dataclasses import replace

from django import forms
from django.http import Http404
from django.shortcuts import redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.stereo.packing import KINDS
from aperture.stereo.pair import MODES, Pair
from aperture.units import parse_length
from web.elements import starting
from web.elements.actions import EYES, KIND, Order, next_order
from web.handoff.answers import made_file
from web.jobs import runner
from web.match.tracking import baseline_of, set_baseline
from web.plates.frames import is_pair, number_now, offset_of
from web.plates.models import plate_of
from web.shows.forms import BaseField, on_form
from web.shows.reading import base_of, integer
from web.shows.views import find, step_page
from web.stereo import files, seen, settings
from web.stereo.plates import frames_of, take_pair

LENGTHS = (
    ("interaxial", "Interaxial", "interaxial_m", "From one entrance pupil to the other"),
    (
        "convergence",
        "Convergence",
        "convergence_m",
        "What lies so far away along the axis is on the screen",
    ),
    ("screen", "Screen’s width", "screen_m", ""),
    ("seat", "Seat, from it", "seat_m", ""),
    ("eyes", "Eyes apart", "eyes_m", ""),
)


class StereoForm(forms.Form):
    """The distances of both cameras and of the audience; `cleaned_data["values"]` are metres."""

    mode = forms.ChoiceField(label="They look", choices=list(MODES.items()), required=False)
    base = BaseField()

    def __init__(self, *args, shot, **kwargs):
        self.shot = shot
        own = settings.USUAL | shot.state["stereo"]
        if (pair := settings.pair_of(shot)) is not None:
            own |= {"interaxial_m": pair.interaxial_m, "convergence_m": pair.convergence_m}
        initial = {"mode": own["mode"], "base": shot.head.number}
        initial |= {
            name: shot.show.length(own[key], places=4)[0]
            for name, _, key, _ in LENGTHS
            if key in own
        }
        super().__init__(*args, initial=initial, **kwargs)
        for name, label, _, title in LENGTHS:
            self.fields[name] = forms.CharField(
                label=label,
                max_length=30,
                required=False,
                widget=forms.TextInput(attrs={"title": title}),
            )

    def clean(self):
        """Lengths in the show's unit where bare."""
        data = super().clean() or self.cleaned_data
        values: dict[str, float | None] = {}
        for name, label, key, _ in LENGTHS:
            text = (data.get(name) or "").strip()
            with on_form(self, name):
                if text:
                    values[key] = parse_length(
                        text, self.shot.show.length_unit, f"The {label.lower()}"
                    )
                elif key in ("screen_m", "seat_m", "eyes_m"):
                    values[key] = None
        of_plate = is_pair(self.shot.state)  # its two eyes are solved, not typed
        both = "interaxial_m" in values and "convergence_m" in values
        if not both and not of_plate and not self.errors:
            self.add_error(None, "Type the interaxial distance and the convergence.")
        data["values"] = values | {"mode": data.get("mode") or settings.USUAL["mode"]}
        return data


def page(request, show, shot):
    """The pair, its parallaxes, and what goes out; POST keeps what is typed."""
    shot = find(show, shot)
    form = StereoForm(request.POST or None, shot=shot)
    if request.method == "POST" and form.is_valid():
        with on_form(form):
            _keep(shot, form.cleaned_data["values"], form.cleaned_data["base"])
            return redirect(shot.url("stereo"))
    offset, now = offset_of(shot.state), number_now(shot.state)
    keys = shot.state["stereo"].get("keys", [])
    length = shot.show.length
    context = {
        "plate": plate_of(shot),
        "form": form,
        "job": runner.latest(shot, KIND),
        "filmed": bool(shot.state["film"]),
        "frame": now + offset,
        "keys": [
            {
                "frame": int(number + offset),
                "here": number == now,
                "says": f"{length(apart, places=4)[0]} apart, converging at {length(away)[0]}",
            }
            for number, apart, away in sorted(keys)
        ],
        "kinds": KINDS.items(),
        "both": files.has_both(shot),
        "of_plate": is_pair(shot.state),
        "baseline": _baseline_words(shot),
        "page": seen.drawn(shot),
    } | seen.context(shot)
    status = 422 if form.errors else 200
    return step_page(request, shot, "elements", "stereo/stereo.html", context, status=status)


def _keep(shot, values, base):
    """What is typed; with keys, the two distances go into one on the frame that is worked on."""
    keys = shot.state["stereo"].get("keys")
    if keys:
        number = number_now(shot.state)
        own = [number, values["interaxial_m"], values["convergence_m"]]
        values = values | {"keys": sorted([*(key for key in keys if key[0] != number), own])}
    settings.set_stereo(shot, "Stereo", base, **values)


@require_POST
def key(request, show, shot):
    """A key of both distances on the frame that is worked on; or one taken out."""
    shot, base = find(show, shot), base_of(request)
    frame = integer(request.POST.get("frame"))
    if request.POST.get("verb") == "remove":
        if frame is None:
            raise Problem("Say on which frame the key is.")
        settings.without_key(shot, frame - offset_of(shot.state), base)
    else:
        settings.with_key(shot, number_now(shot.state), base)
    return redirect(shot.url("stereo"))


def _baseline_words(shot) -> tuple[str, str]:
    """The baseline and its ±, as they are typed."""
    fact = baseline_of(shot.state)
    if fact is None:
        return "", ""
    value, spread = shot.show.length(fact["metres"], fact["plus_minus"], places=4)
    return value, spread.removeprefix("± ")


@require_POST
def plate(request, show, shot):
    """Both eyes' pictures as the plate."""
    shot = find(show, shot)
    take_pair(
        shot, request.FILES.getlist("files"), request.POST.get("kind", "side"), base_of(request)
    )
    return redirect(shot.url("gate"))


@require_POST
def baseline(request, show, shot):
    """How far apart both eyes of the plate stand."""
    shot, base = find(show, shot), base_of(request)
    text, unit = request.POST.get("baseline", "").strip(), shot.show.length_unit
    metres = parse_length(text, unit, "The baseline") if text else None
    spread = request.POST.get("plus_minus", "").strip()
    plus_minus = parse_length(spread, unit, "Its ±") if spread else 0.01 * (metres or 0.0)
    if metres is not None:
        Pair(metres, 1.0)  # the same limits
        if plus_minus < 0:
            raise Problem("A ± is never below zero.", "plus_minus")
    set_baseline(shot, metres, plus_minus, base)
    return redirect(shot.url("stereo"))


@require_GET
def cameras(request, show, shot):
    """Both cameras, over all frames, as a zip."""
    shot = find(show, shot)
    name = f"{shot.code}_stereo.zip"
    return made_file(lambda path: files.write_cameras(shot, path), name, "application/zip")


@require_POST
def render_eyes(request, show, shot):
    """Begin to render the stand-ins for both eyes, as the last render was ordered."""
    shot = find(show, shot)
    if not is_pair(shot.state) and settings.pair_of(shot) is None:
        raise Problem("Type both distances first.")
    order = next_order(shot, shot.renders.first()) if shot.renders.exists() else Order()
    if is_pair(shot.state):  # each of its frames is an eye
        starting.start_render(shot, replace(order, eye="", frames=frames_of(shot)))
    else:
        starting.start_eyes(shot, [replace(order, eye=eye) for eye in EYES])
    return redirect(shot.url("stereo"))


@require_GET
def picture(request, show, shot, ending):
    """The newest renders of both eyes as one picture."""
    shot = find(show, shot)
    if ending not in ("png", "exr"):
        raise Http404
    kind = request.GET.get("kind", "side")
    name = f"{shot.code}_{kind.replace(' ', '-')}.{ending}"
    types = {"png": "image/png", "exr": "image/x-exr"}
    return made_file(lambda path: files.write_packed(shot, kind, path), name, types[ending])
