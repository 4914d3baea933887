"""The Light leaf of the Expose step, and the maps that all its leaves lay over the plate."""

from typing import Annotated, Literal
from urllib.parse import urlencode

import cv2
import msgspec
import numpy as np
from django.http import HttpResponse, JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.light.exposure import HOLDERS
from aperture.light.metering import SURFACES, luminance_of, waveform
from aperture.light.scales import STEPS
from aperture.plates.colour import encode_srgb
from web.expose import exposure, maps, page, rendered
from web.expose.forms import EvForm, ExposureForm
from web.shows.forms import on_form
from web.shows.history import edit
from web.shows.reading import Edit, Pixels, Text, base_of, integer, read
from web.shows.views import find
from web.ui.rows import Row

Box = Annotated[list[Pixels], msgspec.Meta(min_length=4, max_length=4)]
NEXT = {"f_number": "by the stop", "seconds": "by the shutter", "iso": "by the ISO"}


def expose(request, show, shot, ev_form=None):
    """The step's page; POST saves what is typed, or steps one figure along its marks."""
    shot = find(show, shot)
    if request.method == "POST" and ev_form is None and request.POST.get("step"):
        return _step(request, shot)
    initial = {
        "base": shot.head.number,
        "holder": request.GET.get("holder", ""),
        "size": request.GET.get("size", "third"),
    }
    posted = request.POST if request.method == "POST" and ev_form is None else None
    stop = exposure.of_camera(shot)["f_number"].value
    form = ExposureForm(
        posted, own=shot.state["exposure"], initial=initial, hints=_hints(shot), stop=stop
    )
    if posted is not None and form.is_valid():
        with on_form(form):
            values = exposure.changed(shot, form.exposure(), form.cleaned_data["holder"] or None)
            exposure.set_exposure(shot, values, form.cleaned_data["base"])
            return _back(shot, form.cleaned_data["holder"], form.cleaned_data["size"])
    own = exposure.camera_exposure(shot)
    found, problem = page.metered(shot)
    context = {
        "form": form,
        "ev_form": ev_form or _ev_form(shot, own),
        "camera_rows": page.camera_rows(shot),
        "plate_rows": _plate_rows(shot),
        "costs": page.costs(shot),
        "apart": page.apart(shot),
        "remarks": page.light_remarks(shot),
        "figures": NEXT_NAMES,
        "surfaces": [(key, name) for key, (name, _, _) in SURFACES.items()],
        "metered_rows": page.metered_rows(shot, found) if found else [],
        "metered_problem": problem,
        "metered_stops": found.stops if found else 0.0,
        "holders": NEXT.items(),
        "legend": page.legend(),
        "tools": _tools(shot),
        "boxes": _boxes(shot),
    }
    if levels := page.plate_levels(shot):
        context |= {
            "level_rows": page.level_rows(levels),
            "histogram": page.histogram_lines(shot),
        }
    context |= _pairs(shot)
    status = 422 if form.errors or (ev_form and ev_form.errors) else 200
    return page.leaf_page(request, shot, "expose", "expose/light.html", context, status)


def _ev_form(shot, own) -> EvForm:
    """With the exposure value of an exposure, if there is one."""
    ev100 = f"{own.light_ev100:.2f}" if own else ""
    return EvForm(initial={"ev": ev100, "base": shot.head.number}, auto_id="ev_%s")


NEXT_NAMES = tuple(page.NAMES.items())


def _tools(shot) -> dict:
    return {
        "meter": {"kind": "box", "to": shot.url("expose-meter"), "fields": ["surface"]},
        "pair": {"kind": "box", "to": shot.url("expose-pair")},
        "render": {"kind": "box", "to": shot.url("expose-pair"), "map": "render"},
    }


def _boxes(shot) -> list[dict]:
    own = shot.state["metered"]
    out = [{"box": own["box"], "says": SURFACES[own["surface"]][0]}] if own else []
    for number, pair in enumerate(shot.state["pairs"], 1):
        out.append({"box": pair["plate"], "says": str(number)})
        if pair["render"] != pair["plate"]:
            out.append({"box": pair["render"], "says": f"{number} in the render"})
    return out


def _pairs(shot) -> dict:
    """The pairs of patches, and what they say together."""
    found = rendered.render_of(shot)
    out: dict = {"render_name": found.name if found else "", "pairs": []}
    pairs = shot.state["pairs"]
    if found is None or not pairs:
        return out
    try:
        result = rendered.matched(shot)
    except Problem as problem:
        return out | {
            "pairs_problem": problem.sentence,
            "pairs": [{"id": pair["id"], "left": ""} for pair in pairs],
        }
    rows = [
        Row(
            "Render needs",
            f"{result.stops:+.2f} stops".replace("-", "−"),
            f"± {result.plus_minus:.2f}",
            "solved",
        ),
        Row("Balance RGB", " · ".join(f"{gain:.3f}" for gain in result.balance)),
    ]
    if len(pairs) > 1:
        rows.append(Row("Residuals", f"{result.scatter:.2f} ×", title="Over their ±: about 1"))
    left = [
        " · ".join(f"{stops:+.2f}".replace("-", "−") for stops in row) for row in result.residuals
    ]
    return out | {
        "pair_rows": rows,
        "pairs": [{"id": pair["id"], "left": each} for pair, each in zip(pairs, left)],
        "pair_stops": result.stops,
    }


def _plate_rows(shot) -> list[Row]:
    given = exposure.of_plate(shot)
    out = [
        Row(
            page.NAMES[key],
            exposure.written(shot, key, one),
            exposure.exactly(key, one),
            one.origin,
        )
        for key, one in given.items()
    ]
    own = exposure.together(given)
    return [*out, Row("EV at ISO 100", f"{own.ev100:.2f}" if own else "–")]


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


def _back(shot, holder="", size="third"):
    kept = {"holder": holder} if holder else {}
    kept |= {"size": size} if size and size != "third" else {}
    return redirect(shot.url("expose") + (f"?{urlencode(kept)}" if kept else ""))


def _step(request, shot):
    """One figure a mark on or back: “f_number 1”."""
    key, _, by = request.POST["step"].partition(" ")
    size, holder = request.POST.get("size") or "third", request.POST.get("holder") or ""
    number = integer(by)
    if key not in HOLDERS or number is None or size not in STEPS or holder not in ("", *HOLDERS):
        raise Problem("That can't be stepped.")
    if holder == key:
        raise Problem("What holds the exposure can't be stepped itself: let another one hold it.")
    exposure.step(shot, key, number, size, holder or None, base_of(request))
    return _back(shot, holder, size)


@require_POST
def ev(request, show, shot):
    """Set the light's exposure value by changing one figure."""
    shot = find(show, shot)
    form = EvForm(request.POST, auto_id="ev_%s")
    if form.is_valid():
        with on_form(form, "ev"):
            values = exposure.at_ev(shot, form.cleaned_data["ev"], form.cleaned_data["by"])
            exposure.set_exposure(shot, values, form.cleaned_data["base"])
            return _back(shot)
    return expose(request, show, shot.code, ev_form=form)


@require_POST
def brighter(request, show, shot):
    """Make the camera's picture brighter by some stops, by changing one figure."""
    shot = find(show, shot)
    holder = request.POST.get("by", "")
    try:
        stops = float(request.POST.get("stops", ""))
    except ValueError:
        raise Problem("The stops can't be read.") from None
    own = exposure.camera_exposure(shot)
    if own is None:
        raise Problem("An exposure can be changed once stop, shutter and ISO are known.")
    if holder not in HOLDERS or not abs(stops) <= 40:
        raise Problem("Say by which of stop, shutter and ISO.")
    values = exposure.at_ev(shot, own.light_ev100 - stops, holder)
    exposure.set_exposure(shot, values, base_of(request))
    return _back(shot)


class Meter(Edit, frozen=True, kw_only=True):
    """A patch of the plate, and what it is."""

    box: Box
    surface: Literal["grey", "white", "skin", "skin_dark"]


@require_POST
def meter(request, show, shot):
    """Keep which patch is known; an empty form forgets it."""
    shot = find(show, shot)
    if request.content_type != "application/json":
        edit(shot, "No metered patch", lambda state: state.update(metered=None), base_of(request))
        return redirect(shot.url("expose"))
    wish = read(request, Meter)
    patch = {"box": ordered(wish.box), "surface": wish.surface}
    edit(shot, "Metered patch", lambda state: state.update(metered=patch), wish.revision)
    return JsonResponse({})


class Pair(Edit, frozen=True, kw_only=True):
    """A patch of the plate; with an `id`, the place of that pair in the render."""

    box: Box
    id: Text = ""


@require_POST
def pair(request, show, shot):
    """Add a pair of patches, move one's place in the render, or take one away."""
    shot = find(show, shot)
    if request.content_type != "application/json":
        rendered.move_pair(shot, request.POST.get("id", ""), None, base_of(request))
        return redirect(shot.url("expose"))
    wish = read(request, Pair)
    box = ordered(wish.box)
    if wish.id:
        rendered.move_pair(shot, wish.id, box, wish.revision)
    else:
        rendered.add_pair(shot, box, wish.revision)
    return JsonResponse({})


def ordered(box: list[float]) -> list[float]:
    """Left, top, right, bottom, whichever corner was drawn first. Raises Problem where it is too
    small."""
    left, right = sorted((box[0], box[2]))
    top, bottom = sorted((box[1], box[3]))
    if right - left < 2 or bottom - top < 2:
        raise Problem("Drag a box of some pixels over the patch.")
    return [round(value, 2) for value in (left, top, right, bottom)]


@require_GET
def laid(request, show, shot, kind):
    """A map of the plate, or the render, as a picture over it."""
    shot = find(show, shot)
    if kind == "render":
        picture = rendered.shown_render(shot)
    elif kind == "both":
        picture = rendered.both_with_look(shot)
    elif kind == "wave":
        picture = _wave(shot)
    elif kind in maps.MAPS:
        picture = maps.MAPS[kind][1](shot)
    else:
        raise Problem("There is no such map.")
    answer = HttpResponse(maps.png(picture), content_type="image/png")
    answer["Cache-Control"] = "no-cache"
    return answer


def _wave(shot) -> np.ndarray:
    """(128, 336, 3) the waveform of the plate's luminance, as it is shown."""
    bright = encode_srgb(luminance_of(maps.small_plate(shot)))
    share = waveform(cv2.resize(bright.astype(np.float32), (336, 360)), 336, 128)
    strength = np.clip(share * 40, 0, 1) ** 0.5
    ink, paper = np.array([31, 38, 43]), np.array([252, 250, 245])
    return (paper + strength[..., None] * (ink - paper)).astype(np.uint8)
