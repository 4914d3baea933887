"""The Expose page: how the plate was exposed, and how the virtual camera is."""

from django.shortcuts import redirect

from web.expose import exposure
from web.expose.forms import ExposureForm
from web.plates.models import plate_of
from web.shows.forms import on_form
from web.shows.views import find, step_page
from web.ui.rows import Remark, Row

NAMES = {"f_number": "Stop", "seconds": "Shutter", "iso": "ISO"}


def expose(request, show, shot):
    """The step's page; POST saves what is typed."""
    shot = find(show, shot)
    own = shot.state["exposure"]
    initial = ExposureForm.initial_of(own) | {"base": shot.head.number}
    form = ExposureForm(request.POST or None, initial=initial, hints=_hints(shot))
    if request.method == "POST" and form.is_valid():
        with on_form(form):
            exposure.set_exposure(shot, form.exposure(), form.cleaned_data["base"])
            return redirect(shot.url("expose"))
    plate, camera = exposure.of_plate(shot), exposure.of_camera(shot)
    context = {
        "plate": plate_of(shot),
        "form": form,
        "plate_rows": _rows(shot, plate),
        "camera_rows": _rows(shot, camera),
        "remarks": _remarks(shot, plate),
        "apart": _apart(plate, camera),
    }
    status = 422 if form.errors else 200
    return step_page(request, shot, "expose", "expose/expose.html", context, status)


def _rows(shot, given) -> list[Row]:
    rows = [
        Row(NAMES[key], exposure.written(shot, key, one), origin=one.origin)
        for key, one in given.items()
    ]
    together = exposure.together(given)
    value = f"{together.ev100:.2f}" if together else "–"
    origins = {one.origin for one in given.values()}
    origin = "typed" if "typed" in origins else "file"
    return [*rows, Row("EV at ISO 100", value, origin=origin if together else "")]


def _hints(shot) -> dict:
    """What an empty field stands for."""
    plate = exposure.of_plate(shot)
    return {
        field: f"as the plate: {exposure.written(shot, key, plate[key])}"
        if plate[key].value is not None
        else hint
        for field, key, hint in (
            ("f_number", "f_number", "for example f/5.6"),
            ("shutter", "seconds", "for example 1/48 s or 180°"),
            ("iso", "iso", "for example 800"),
        )
    }


def _remarks(shot, plate) -> list[Remark]:
    missing = [NAMES[key] for key, one in plate.items() if one.value is None]
    if not shot.state["plate"] or not missing:
        return []
    says = f"The plate's file doesn't say: {', '.join(missing)}. Type it below, or on the Plate step where it is the plate's own."
    return [Remark("The plate's exposure isn't known", says, "note")]


def _apart(plate, camera) -> str:
    """By how many stops the camera's picture is brighter or darker than the plate; empty where that isn't known."""
    first, second = exposure.together(plate), exposure.together(camera)
    if not first or not second:
        return ""
    stops = first.ev100 - second.ev100
    if abs(stops) < 0.005:
        return "The camera is exposed as the plate was."
    word = "brighter" if stops > 0 else "darker"
    return f"The camera's picture is {abs(stops):.2f} stops {word} than the plate."
