"""The Plate step, and the plates' pixels."""

from pathlib import Path

from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_POST

from aperture.errors import Problem
from aperture.light.exposure import format_seconds, format_stop
from aperture.plates.colour import TRANSFERS
from aperture.plates.film import Film as Filmed
from aperture.plates.original import explain
from aperture.plates.proxies import TILE, region_png
from aperture.stereo.packing import KINDS
from aperture.units import format_value
from web.jobs import runner
from web.plates import actions, convert_actions, film_views, flash_actions, mean_actions
from web.plates.film_actions import is_film
from web.plates.film_page import about_film, about_shot, clapper, curves, film_rows
from web.plates.forms import PlateFactsForm, PlateForm
from web.plates.frames import span_of, way_of
from web.plates.models import (
    Plate,
    film_of,
    metadata_of,
    own_transfer,
    plate_of,
    transfer_of,
)
from web.plates.referred import roots
from web.plates.way_actions import QUARTERS, in_words
from web.shows.forms import on_form
from web.shows.models import Show
from web.shows.views import find, step_page
from web.ui.rows import Remark, Row
from web.ui.sending import sent


def plate(request, show, shot):
    """The picture and what its file says; POST brings one in."""
    shot = find(show, shot)
    form = PlateForm(request.POST or None, request.FILES or None)
    if request.method == "POST" and form.is_valid():
        upload, several = form.cleaned_data["picture"], request.FILES.getlist("picture")
        with on_form(form, "picture"):
            if is_film([one.name for one in several]):
                return film_views.bring_in(shot, several, form.cleaned_data["base"])
            before = shot.state["plate"]
            plate = actions.bring_in(Path(upload.temporary_file_path()), upload.name)
            shot = actions.take_plate(shot, plate, form.cleaned_data["base"])
            resized = (
                before
                and (before["width"], before["height"]) != (plate.width, plate.height)
                and shot.state["marks"]
            )
            return redirect(shot.url("plate") + ("?resized=1" if resized else ""))
    return _page(request, shot, form)


# How one picture holds both eyes'.
PACKINGS = [(key, name) for key, name in KINDS.items() if key.startswith(("side", "over"))]
MOST_PICTURES = 100


@require_POST
def photographs(request, show):
    """Several pictures at once: a shot of each."""
    show = get_object_or_404(Show.objects.kept(), slug=show)
    pictures = request.FILES.getlist("pictures")
    if not pictures:
        raise Problem("Choose one picture or more: JPEG, PNG, TIFF, OpenEXR or DPX.")
    if len(pictures) > MOST_PICTURES:
        raise Problem(f"Bring at most {MOST_PICTURES} pictures at once.")
    made, refused = actions.shots_of_pictures(show, pictures)
    if refused:
        done = f"{len(made)} of {len(pictures)} shots were made. " if made else ""
        raise Problem(done + " ".join(refused[:3]))
    return redirect(show)


@require_POST
def facts(request, show, shot):
    """What is typed of how the plate was taken."""
    shot = find(show, shot)
    current = plate_of(shot)
    if current is None:
        raise Problem("Bring in a picture first.")
    form = PlateFactsForm(request.POST, prefix="facts")
    if form.is_valid():
        actions.set_facts(
            shot,
            form.facts(current.metadata, own_transfer(plate_of(shot))),
            form.cleaned_data["base"],
        )
        return redirect(shot.url("plate"))
    return _page(request, shot, PlateForm(), form)


def _page(request, shot, form, facts_form=None):
    current = plate_of(shot)
    known = metadata_of(shot.state, current)
    remarks = _about_file(current, known, resized=bool(request.GET.get("resized")))
    typed = shot.state.get("plate_facts", {})
    transfer = transfer_of(shot.state)
    opened = facts_form is not None
    facts_form = facts_form or PlateFactsForm(
        initial=PlateFactsForm.initial_of(known, transfer) | {"base": shot.head.number},
        prefix="facts",
    )
    film = film_of(shot)
    if film:
        remarks += about_film(film, shot.show, shot.url("plate"))
    speed_remarks, retiming = about_shot(shot)
    context = {
        "form": form,
        "film": film,
        "packings": PACKINGS,
        "media": bool(roots()),
        "way": way_of(shot.state),
        "quarters": QUARTERS.items(),
        "way_says": in_words(way_of(shot.state)),
        "strip": film_views.strip(shot),
        "film_rows": film_rows(film, shot.state) if film else [],
        "clapper": clapper(shot, film) if film else None,
        "job": runner.latest(shot, flash_actions.KIND),
        "averaging": runner.latest(shot, mean_actions.KIND),
        "speed_remarks": speed_remarks,
        "retiming": retiming,
        "converting": runner.latest(shot, convert_actions.KIND),
        "curves": curves(film, shot.state) if film else [],
        "averaged": bool(film and current and mean_actions.is_mean(current.name)),
        "filmed": Filmed.read(film.folder) if film else None,
        "span": "–".join(map(str, span_of(shot.state))) if film else "",
        "facts_form": facts_form,
        "facts_opened": opened,
        "plate": current,
        "rows": metadata_rows(known, typed) if current else [],
        "picture_rows": _picture_rows(current, transfer, typed) if current else [],
        "remarks": remarks,
    }
    status = 422 if form.errors or facts_form.errors else 200
    return step_page(request, shot, "plate", "plates/plate.html", context, status=status)


def _about_file(plate: Plate | None, known: dict, resized: bool) -> list[Remark]:
    """What is said of the plate's file, and of its size."""
    out = []
    if resized:
        says = (
            "The marks drawn on the old one were kept where they were, in pixels. "
            "Check each of them, or undo to go back to the old plate."
        )
        out.append(Remark("The new plate has another size", says, "doubt"))
    if plate is None:
        return out
    out += [Remark("About this file", note, "note") for note in plate.notes]
    if "file_width" in known and "file_height" in known:
        original = known["file_width"], known["file_height"]
        told = explain(original, (plate.width, plate.height))
        if told:
            out.append(Remark("Not the camera's own file", told, "note"))
    return out


def _picture_rows(plate, transfer, typed) -> list[Row]:
    origin = "typed" if "transfer" in typed else "assumed"
    return [
        Row("File", plate.name, origin="file"),
        Row("Kind", f"{plate.kind}, {plate.depth}", origin="file"),
        Row("Size", f"{plate.width} × {plate.height} px", origin="file"),
        Row("Pixels", f"{plate.width * plate.height / 1e6:.1f} megapixels", origin="file"),
        Row("Encoded as", TRANSFERS[transfer][0], origin=origin),
    ]


def metadata_rows(data: dict, typed: dict) -> list[Row]:
    """What is known of how the plate was taken, one row each; a dash where nothing is.

    `data`: the file's word and what was typed; `typed`: only the latter.
    """

    def number(key, unit, most=2):
        if key not in data:
            return "–"
        return format_value(
            data[key], unit=unit, places=0 if float(data[key]).is_integer() else most
        )[0]

    time = data.get("exposure_time")
    shutter = "–" if time is None else format_seconds(time)
    stop = format_stop(data["f_number"]) if "f_number" in data else "–"
    turned = {
        1: "upright",
        3: "180°, applied",
        6: "90° clockwise, applied",
        8: "90° anticlockwise, applied",
    }
    orientation = "–"
    if "orientation" in data:
        orientation = turned.get(data["orientation"], "mirrored, applied")
    values = [
        ("Maker", "maker", data.get("maker", "–")),
        ("Camera", "model", data.get("model", "–")),
        ("Lens", "lens", data.get("lens", "–")),
        ("Focal length", "focal_mm", number("focal_mm", "mm")),
        ("Full-frame equivalent", "equivalent_mm", number("equivalent_mm", "mm")),
        ("Stop", "f_number", stop),
        ("Exposure time", "exposure_time", shutter),
        ("ISO", "iso", number("iso", "")),
        ("Date", "date", data.get("date", "–")),
        ("Orientation", "orientation", orientation),
    ]
    rows = []
    for name, key, value in values:
        origin = "typed" if key in typed else "file"
        rows.append(Row(name, value, origin="" if value == "–" else origin))
    return rows


def picture(request, digest, which):
    """The proxy or the thumbnail."""
    plate = get_object_or_404(Plate, digest=digest)
    return film_views.addressed_by_content(sent(plate.folder / f"{which}.jpg", "image/jpeg"))


def tile(request, digest, column, row):
    """Real pixels: a PNG tile of 256 × 256."""
    plate = get_object_or_404(Plate, digest=digest)
    if column * TILE >= plate.width or row * TILE >= plate.height:
        return HttpResponse(status=404)
    return film_views.addressed_by_content(
        HttpResponse(
            region_png(plate.folder, column * TILE, row * TILE, TILE, TILE),
            content_type="image/png",
        )
    )
