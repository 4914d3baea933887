"""The Plate step, and the plates' pixels."""

from pathlib import Path

from django.http import FileResponse, HttpResponse
from django.shortcuts import get_object_or_404, redirect

from aperture.errors import Problem
from aperture.plates.proxies import region_png
from aperture.units import format_value
from web.plates import actions
from web.plates.forms import PlateForm
from web.plates.models import Plate, plate_of
from web.shows.views import find, step_page
from web.ui.rows import Remark, Row

TILE = 256


def plate(request, show, shot):
    """The picture and what its file says; POST brings one in."""
    shot = find(show, shot)
    form = PlateForm(request.POST or None, request.FILES or None)
    if request.method == "POST" and form.is_valid():
        upload = form.cleaned_data["picture"]
        try:
            before = shot.state["plate"]
            plate = actions.bring_in(Path(upload.temporary_file_path()), upload.name)
            shot = actions.take_plate(shot, plate, form.cleaned_data["base"])
            resized = before and (before["width"], before["height"]) != (plate.width, plate.height) and shot.state["marks"]
            return redirect(shot.url("plate") + ("?resized=1" if resized else ""))
        except Problem as problem:
            form.add_error("picture", problem.sentence)
    current = plate_of(shot)
    remarks = [Remark("About this file", note, "note") for note in current.notes] if current else []
    if request.GET.get("resized"):
        remarks.insert(0, Remark("The new plate has another size", "The marks drawn on the old one were kept where they were, in pixels. "
                                 "Check each of them, or undo to go back to the old plate.", "doubt"))
    context = {"form": form, "plate": current, "rows": metadata_rows(current) if current else [],
               "picture_rows": _picture_rows(current) if current else [], "remarks": remarks}
    return step_page(request, shot, "plate", "plates/plate.html", context, status=422 if form.errors else 200)


def _picture_rows(plate) -> list[Row]:
    return [Row("File", plate.name, origin="file"), Row("Kind", f"{plate.kind}, {plate.depth}", origin="file"),
            Row("Size", f"{plate.width} × {plate.height} px", origin="file"),
            Row("Pixels", f"{plate.width * plate.height / 1e6:.1f} megapixels", origin="file")]


def metadata_rows(plate: Plate) -> list[Row]:
    """What the file says, a row each; a dash where it says nothing."""
    data = plate.metadata

    def number(key, unit, most=2):
        if key not in data:
            return "–"
        return format_value(data[key], unit=unit, places=0 if float(data[key]).is_integer() else most)[0]

    time = data.get("exposure_time")
    shutter = "–" if time is None else f"1/{1 / time:.0f} s" if time < 0.4 else f"{time:g} s"
    stop = f"f/{data['f_number']:g}" if "f_number" in data else "–"
    turned = {1: "upright", 3: "180°, applied", 6: "90° clockwise, applied", 8: "90° anticlockwise, applied"}
    orientation = turned.get(data.get("orientation"), "mirrored, applied" if "orientation" in data else "–")
    values = [("Maker", data.get("maker", "–")), ("Camera", data.get("model", "–")), ("Lens", data.get("lens", "–")),
              ("Focal length", number("focal_mm", "mm")), ("Full-frame equivalent", number("equivalent_mm", "mm")), ("Stop", stop),
              ("Exposure time", shutter), ("ISO", number("iso", "")), ("Date", data.get("date", "–")), ("Orientation", orientation)]
    return [Row(name, value, origin="file" if value != "–" else "") for name, value in values]


def _cached(response):
    response["Cache-Control"] = "private, max-age=31536000, immutable"  # addressed by content
    return response


def picture(request, digest, which):
    """The proxy or the thumbnail."""
    plate = get_object_or_404(Plate, digest=digest)
    return _cached(FileResponse(open(plate.folder / f"{which}.jpg", "rb"), content_type="image/jpeg"))


def tile(request, digest, column, row):
    """Real pixels: a PNG tile of 256 × 256."""
    plate = get_object_or_404(Plate, digest=digest)
    if column * TILE >= plate.width or row * TILE >= plate.height:
        return HttpResponse(status=404)
    return _cached(HttpResponse(region_png(plate.folder, column * TILE, row * TILE, TILE, TILE), content_type="image/png"))
