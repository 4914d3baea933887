"""The Hand-off step: what the next person needs."""

import io
import math
import zipfile

from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.formats import delimited, gltf
from aperture.formats.prepared import added, losses, prepared
from aperture.formats.straight import KINDS
from aperture.formats.usd import aperture_of
from aperture.plates.sequences import ranges_of
from aperture.units import LENGTH_UNITS, format_value
from web.cut.actions import in_order
from web.gates.gate import all_around, plate_origin
from web.handoff import contents, files, pdf, remembered, tables
from web.handoff import storyboard as boards
from web.handoff.answers import download
from web.handoff.camera_sheet import camera_sheet, drawn
from web.handoff.straight import sizes_of
from web.handoff.writers import Source
from web.match.curves import curve
from web.match.fits import fit_of
from web.match.lens_remarks import lens_remarks
from web.match.path_fits import is_old, path_fit, placed_path, served
from web.plates.frames import frame_at, span_of
from web.plates.models import plate_of
from web.shows.models import Shot, Show
from web.shows.reading import base_of
from web.shows.views import find, step_page
from web.ui.rows import Remark, Row


def handoff(request, show, shot):
    """The camera sheet, and the files."""
    shot = find(show, shot)
    sheet, remarks, rows = camera_sheet(shot), [], []
    if sheet.missing:
        remarks.append(Remark("Nothing to hand off yet", sheet.missing, "note"))
    chosen = tables.chosen(shot, request.GET.get("recipe"))
    if sheet.camera:
        written = sheet.camera
        if chosen is not None:
            written, said = _by_recipe(sheet.camera, chosen.conventions)
            remarks += said
        remarks += _one_for_all(shot) + _losses(written) + _conflicts(shot)
        if old := remembered.remark(shot):
            remarks.insert(0, old)
        rows = _rows(shot, written, chosen.conventions if chosen else None)
    frames = sheet.series[0].frames if sheet.series else [0]
    context = {
        "plate": plate_of(shot),
        "around": all_around(shot.state),
        "sheet": sheet,
        "drawings": [drawn(one) for one in sheet.drawings],
        "curves": [_curve(one, frames) for one in sheet.series],
        "first": frames[0],
        "count": frames[-1] - frames[0] + 1,
        "poses": [_pose(shot, one) for one in sheet.poses],
        "check": "\n".join(sheet.check),
        "kinds": files.kinds_for(shot),
        "straight_kinds": [(key, name) for key, (_, name) in KINDS.items()],
        "straight_sizes": list(sizes_of(shot).items()) if sheet.camera else [],
        "choices": contents.choices(shot) if sheet.camera else [],
        "rows": rows,
        "remarks": [*lens_remarks(shot.state), *remarks],
        "handed_off": shot.handed_off.all()[:8],
        **(tables.context(shot, request.GET.get("recipe")) if sheet.camera else {}),
    }
    return step_page(request, shot, "hand-off", "handoff/handoff.html", context)


def _conflicts(shot) -> list[Remark]:
    """That the evidence of the shot's own camera disagrees."""
    if served(shot.state) is not None:
        return []
    by_path = placed_path(shot.state) is not None
    found = path_fit(shot.state) if by_path else fit_of(shot.state)
    conflicts = found["conflicts"][:1] if found else []
    return [Remark("Evidence still disagrees", one["says"], "doubt") for one in conflicts]


def _curve(series, frames: list[int]):
    """A quantity over all frames of the range; a frame without it is a gap."""
    known = dict(zip(series.frames, series.values))
    every = [known.get(frame) for frame in range(frames[0], frames[-1] + 1)]
    return curve(series.name, series.unit, every)


def _pose(shot, pose) -> dict:
    """One line of the table of the move."""
    camera = pose.camera
    place = [shot.show.length(float(value), places=3)[0] for value in camera.position]
    turns = [f"{math.degrees(angle):z.2f}°".replace("-", "−") for angle in camera.angles]
    words = [*place, *turns, f"{camera.lens.focal_mm:.2f} mm"]
    return {"why": pose.why, "frame": pose.frame, "words": words}


def _one_for_all(shot) -> list[Remark]:
    """Of a film: which frame the camera was matched on, and what it is written for."""
    if not shot.state["film"]:
        return []
    first, last = span_of(shot.state)
    path = placed_path(shot.state)
    if path is not None:
        return _of_path(shot, path, first, last)
    says = (
        f"It was matched on frame {frame_at(shot.state)}, and is written for {first}–{last}. "
        "If the camera moved, it is right on that frame only."
    )
    return [Remark("One camera for all frames", says, "doubt")]


def _of_path(shot, path, first: int, last: int) -> list[Remark]:
    """What to know of a camera per frame: frames that have none, and whether it is of the evidence
    as it is now.
    """
    out = []
    gaps = [frame for frame in range(first, last + 1) if frame not in path]
    if gaps:
        why = (
            "the path wasn't solved there" if served(shot.state) is None else "the move lacks them"
        )
        says = f"{ranges_of(gaps)[:200]}: {why}, and the files leave them out."
        out.append(Remark("Frames without a camera", says, "doubt"))
    if served(shot.state) is None and is_old(shot.state):
        says = (
            "Tracks, marks, facts or the lens have changed since. Solve it again on the Match step."
        )
        out.append(Remark("The path is of earlier evidence", says, "doubt"))
    return out


def _losses(camera) -> list[Remark]:
    """What a format can't carry."""
    if camera.lens.projection.around:
        says = (
            "The formats of scenes have cameras that look one way: theirs would see a part of it, "
            "stretched. The JSON and the text table say where it stands and how it is turned."
        )
        return [Remark("A panorama is no such camera", says, "doubt")]
    out = [Remark("glTF carries less", loss, "note") for loss in gltf.losses(camera)]
    for loss in gltf.losses(camera, "COLLADA", "is left out"):
        out.append(Remark("COLLADA carries less", loss, "note"))
    if camera.lens.distorts:
        says = (
            "Its camera has no distortion: the coefficients are custom attributes. "
            + gltf.without_distortion(camera)
        )
        out.append(Remark("OpenUSD carries less", says, "note"))
    return out


def _by_recipe(camera, recipe) -> tuple[Camera, list[Remark]]:
    """The camera as a recipe has it, and what is to be known of that; as it is where it can't be
    baked."""
    try:
        made = prepared(camera, recipe)
    except Problem as problem:
        return camera, [Remark("The recipe can’t be followed", problem.sentence, "bad")]
    out = [Remark("Of this recipe", says, "note") for says in losses(recipe, camera)]
    more = added(camera, made)
    if more.any:
        says = (
            f"Its picture is {made.grid.width} × {made.grid.height} px: the plate’s with"
            f" {more.left} px more on the left, {more.right} on the right, {more.top} above and"
            f" {more.bottom} below. Render at that size, and cut it off again."
        )
        out.append(Remark("Baked into overscan", says, "note"))
    return made, out


def _rows(shot, camera, recipe=None) -> list[Row]:
    """The camera as the files have it."""
    aperture, origin = aperture_of(camera), plate_origin(shot.state)
    wide, high = (
        format_value(value, unit="mm", places=4)[0]
        for value in (aperture.horizontal, aperture.vertical)
    )
    # + 0 makes 0.0 of −0.0.
    right, up = aperture.horizontal_offset + 0, aperture.vertical_offset + 0
    offsets = f"{right:.3f}, {up:.3f} mm".replace("-", "−")
    axes = f"{shot.show.up_axis} up, {shot.show.get_length_unit_display()}"
    first, last = span_of(shot.state)
    if recipe is not None:
        axes = f"{recipe.up_axis} up, {LENGTH_UNITS[recipe.unit]}"
        first, last = first + recipe.frame_offset, last + recipe.frame_offset
    frames = str(first) if first == last else f"{first}–{last}"
    at_rate = f"{frames} at {shot.show.rate_text} fps"
    return [
        Row("Horizontal aperture", wide, origin=origin),
        Row("Vertical aperture", high, origin=origin),
        Row("Aperture offsets", offsets, origin="assumed"),
        Row("Up axis, unit", axes, origin="typed"),
        Row("Frame" if first == last else "Frames", at_rate, origin="typed"),
    ]


@require_POST
def choose(request, show, shot):
    """Let what is ticked go into the files of the scene, and nothing else."""
    shot = find(show, shot)
    contents.choose(shot, set(request.POST.getlist("goes")), base_of(request))
    return redirect(shot.url("handoff"))


@require_GET
def sheets(request, show):
    """The camera sheets of all shots of a show that aren't archived, after an index."""
    show, shots = _of_show(show)
    return download(pdf.sheets_pdf(show, shots), f"{show.slug}_sheets.pdf", "application/pdf")


@require_GET
def storyboard(request, show):
    """The pictures of all shots, with their descriptions and notes."""
    show, shots = _of_show(show)
    kind = request.GET.get("kind", "plate")
    return download(
        pdf.storyboard_pdf(show, shots, kind), f"{show.slug}_storyboard.pdf", "application/pdf"
    )


@require_GET
def storyboard_page(request, show):
    """The same as a page, with a choice of what stands in the panels."""
    show, shots = _of_show(show)
    kind = request.GET.get("kind", "plate")
    kind = kind if kind in boards.PICTURES else "plate"
    context = {
        "show": show,
        "panels": [boards.panel_of(shot, kind) for shot in shots],
        "kinds": boards.PICTURES.items(),
        "kind": kind,
    }
    return render(request, "handoff/storyboard.html", context)


@require_GET
def storyboard_picture(request, show, shot):
    """A panel's picture, with how the camera moves."""
    made = boards.jpeg_of(boards.panel_of(find(show, shot), request.GET.get("kind", "plate")), 640)
    if made is None:
        raise Http404
    return HttpResponse(made[0], content_type="image/jpeg")


@require_GET
def notes(request, show):
    """What is written about all shots, as a table."""
    show, shots = _of_show(show)
    rows = [{"code": shot.code, **shot.written} for shot in shots]
    text = delimited.table(["code", *Shot.WRITTEN], rows)
    return download(text.encode(), f"{show.slug}_notes.csv", "text/csv; charset=utf-8")


def _of_show(slug: str) -> tuple[Show, list[Shot]]:
    show = get_object_or_404(Show.objects.kept(), slug=slug)
    shots = in_order(show)
    if not shots:
        raise Problem("This show has no shots yet.")
    return show, shots


@require_GET
def file(request, show, shot, ending):
    """One file, or all of them as a zip."""
    shot = find(show, shot)
    chosen = tables.chosen(shot, request.GET.get("recipe"))
    name = chosen.name if chosen else ""
    recipe = chosen.conventions if chosen else None
    if ending == "zip":
        buffer = io.BytesIO()
        with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
            for path, data in files.package(shot, recipe).items():
                archive.writestr(path, data)
        remembered.remember(shot, "all files", name)
        return download(buffer.getvalue(), f"{shot.code}_camera.zip", "application/zip")
    if ending not in files.KINDS:
        raise Http404
    data = files.contents(Source(shot, recipe), ending)
    remembered.remember(shot, files.KINDS[ending].name, name)
    return download(
        data,
        f"{shot.code}_camera.{ending}",
        files.KINDS[ending].content_type,
    )
