"""The page of a panorama's views: how it is cut, the files for a renderer, and the renders joined
again."""

import numpy as np
from django.http import HttpResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.around.steady import WAYS
from aperture.around.views import outline, unseen
from aperture.errors import Problem
from aperture.scene.overlay import parted_at_seam
from aperture.units import parse_number
from web.around import cutting, starting, steadying
from web.around.faces import take_faces
from web.handoff.answers import made_file
from web.jobs import runner
from web.jobs.models import Job
from web.lineup.forms import ReturnForm
from web.match.overlay import path_of
from web.plates.models import frame_of, plate_of
from web.shows.reading import base_of, integer, whole
from web.shows.views import find, step_page
from web.ui.rows import Remark

NEAR_POLE = 85.0  # degrees of tilt


def page(request, show, shot, error="", typed=None, status=200):
    """The views on the panorama, and what can be done with them."""
    shot = find(show, shot)
    job = runner.latest(shot, cutting.KIND)
    kept = shot.state["views"]
    context = {
        "plate": plate_of(shot),
        "job": job,
        "error": error,
        "kind": "own" if kept.get("own") else "cube",
        "size": kept.get("size", cutting.USUAL_SIZE),
        "overlap": kept.get("overlap_deg", cutting.USUAL_OVERLAP),
        "remarks": _remarks(shot, job),
        "joined": shot.returned.filter(name__endswith="views, joined").first(),
    }
    data = {"paths": [], "labels": []}
    if shot.state["film"]:
        step = steadying.step_of(shot.state) or {}
        context |= {
            "film": True,
            "frame": frame_of(shot),
            "steady": steadying.told(shot),
            "ways": WAYS,
            "way": step.get("way", "travel"),
            "heading": step.get("heading_deg", 0.0),
            "smooth": step.get("smooth", steadying.USUAL_SMOOTH),
        }
    try:
        context |= {"rows": cutting.rows_of(shot), "ready": True}
        data = _drawn(shot)
    except Problem as problem:
        context["remarks"].append(Remark("Not yet", problem.sentence, "note"))
    context["typed"] = typed if typed is not None else cutting.lines_of(cutting.views_of(shot))
    context["page"] = data
    return step_page(request, shot, "elements", "around/around.html", context, status=status)


def _drawn(shot) -> dict:
    """The views' borders over the panorama, and where their names stand."""
    panorama = cutting.panorama_of(shot)
    paths, labels = [], []
    for view in cutting.views_of(shot):
        border = outline(view, panorama)
        closed = np.concatenate([border, border[:1]])
        fine = closed[np.isfinite(closed).all(axis=1)]
        paths.append({"class": "aid", "d": path_of(parted_at_seam(panorama, [fine]))})
        camera = view.camera(panorama)
        [at] = panorama.project_directions(-camera.rotation[:, 2][None])
        width, height = panorama.grid.width, panorama.grid.height
        if abs(view.tilt_deg) > NEAR_POLE or not np.isfinite(at).all():  # there is no one place
            at = np.array([width / 2, 0.0 if view.tilt_deg > 0 else height])
        at = np.clip(
            at, np.array([0.03, 0.05]) * (width, height), np.array([0.97, 0.97]) * (width, height)
        )
        labels.append({"at": at.round(1).tolist(), "text": view.name})
    return {"paths": paths, "labels": labels}


def _remarks(shot, job) -> list[Remark]:
    out = []
    if job and job.state in (Job.FAILED, Job.CANCELLED):
        kind = "bad" if job.state == Job.FAILED else "note"
        out.append(Remark("The views weren’t joined", job.says, kind))
    try:
        share = unseen(cutting.views_of(shot), cutting.panorama_of(shot))
    except Problem:
        return out
    if share > 1e-3:
        says = f"{100 * share:.1f} % of the panorama lies in none of these views."
        out.append(Remark("Not all is seen", says, "doubt"))
    return out


@require_POST
def as_cube(request, show, shot):
    """Cut into a cube's six views."""
    shot = find(show, shot)
    try:
        size = whole(request.POST.get("size", "").strip())
        if size is None:
            raise Problem("The size of a view is a whole number of px.")
        overlap = parse_number(
            request.POST.get("overlap", "").strip().removesuffix("°"), "The overlap"
        )
        cutting.set_cube(shot, size, overlap, base_of(request))
    except Problem as problem:
        if getattr(problem, "kept", None) is not None:
            raise
        return page(request, show, shot.code, problem.sentence, status=422)
    return redirect(shot.url("around"))


@require_POST
def as_own(request, show, shot):
    """Cut into views of one's own."""
    shot, typed = find(show, shot), request.POST.get("own", "")
    try:
        cutting.set_own(shot, cutting.own_from_lines(typed), base_of(request))
    except Problem as problem:
        if getattr(problem, "kept", None) is not None:
            raise
        return page(request, show, shot.code, problem.sentence, typed, status=422)
    return redirect(shot.url("around"))


@require_GET
def written(request, show, shot):
    """The cameras of the views and how they are joined, as a zip."""
    shot = find(show, shot)
    cutting.panorama_of(shot)
    name = f"{shot.code}_views.zip"
    return made_file(lambda path: cutting.write_zip(shot, path), name, "application/zip")


@require_POST
def join(request, show, shot):
    """Begin to join the renders of the views."""
    found, form = find(show, shot), ReturnForm(request.POST, request.FILES)
    if not form.is_valid():
        return page(request, show, shot, "Choose the renders of the views first.", status=422)
    try:
        starting.start_join(found, form.cleaned_data["files"])
    except Problem as problem:
        return page(request, show, shot, problem.sentence, status=422)
    return redirect(found.url("around"))


@require_POST
def faces(request, show, shot):
    """Six files of a cube's faces as the plate."""
    shot = find(show, shot)
    files = request.FILES.getlist("files")
    if not files:
        raise Problem("Choose the six files first.")
    take_faces(shot, files, bool(request.POST.get("although")), base_of(request))
    return redirect(shot.url("gate"))


@require_POST
def steady(request, show, shot):
    """Hold the film steady along its path."""
    shot, base = find(show, shot), base_of(request)
    way = request.POST.get("way", "")
    try:
        heading = parse_number(
            (request.POST.get("heading", "").strip() or "0").removesuffix("°"), "The heading"
        )
        smooth = parse_number(request.POST.get("smooth", "").strip() or "0", "The smoothing")
        steadying.hold_steady(shot, way, heading, smooth, base)
    except Problem as problem:
        if getattr(problem, "kept", None) is not None:
            raise
        return page(request, show, shot.code, problem.sentence, status=422)
    return redirect(shot.url("around"))


@require_POST
def steady_where(request, show, shot):
    """Say whether the plate's pictures are turned so already."""
    shot = find(show, shot)
    steadying.put_where(shot, plate=bool(request.POST.get("plate")), base=base_of(request))
    return redirect(shot.url("around"))


@require_GET
def steady_picture(request, show, shot):
    """A frame as it is turned."""
    shot = find(show, shot)
    frame = integer(request.GET.get("frame"))
    made = steadying.picture(shot, frame_of(shot) if frame is None else frame)
    return HttpResponse(made, content_type="image/jpeg")


@require_POST
def render_here(request, show, shot):
    """Begin to render the stand-ins through the views, and to join them."""
    shot = find(show, shot)
    starting.start_render(shot)
    return redirect(shot.url("around"))
