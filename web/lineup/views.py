"""The Line-up step: does it really line up?"""

import shutil
import tempfile
from pathlib import Path

from django import forms
from django.http import FileResponse, Http404
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.render.compose import KINDS
from aperture.render.returned import ENDINGS
from aperture.scene.overlay import wire
from web.elements.actions import KIND, source_digest
from web.jobs import runner
from web.jobs.models import Job
from web.lineup import actions, snapshots
from web.lineup.models import Returned, Snapshot
from web.match.fits import camera_of_state
from web.match.overlay import path_of
from web.plates.models import plate_of
from web.shows.views import find, step_page
from web.stage.stand_ins import shown, stand_in_from
from web.ui.rows import Remark, Row

LOOKS = (("over", "Over", "O", "Render over the plate"), ("plate", "Plate", "P", "Plate alone"), ("alpha", "Alpha", "A", "Alpha alone"),
         ("difference", "Difference", "X", "Difference of the two"), ("flicker", "Flicker", "K", "Flicker between the two"))
FILES = {"render.png": "image/png", "alpha.png": "image/png"}


class ReturnForm(forms.Form):
    """A render's file."""

    file = forms.FileField(error_messages={"required": "Choose a file first."})


def lineup(request, show, shot, form=None, status=200):
    """A render over the plate: our own newest of the plate's size, or one that was brought back."""
    shot = find(show, shot)
    own = _own(shot)
    back = list(shot.returned.all()[:30])
    chosen = next((one for one in back if str(one.pk) == request.GET.get("returned")), None)
    job, now = runner.latest(shot, KIND), source_digest(shot.state)
    camera = camera_of_state(shot.state)
    base = shot.url("lineup") + f"/returned/{chosen.pk}/" if chosen else shot.url("elements") + f"/{own.pk}/" if own else ""
    wires = [path_of(wire(camera, stand_in_from(item))) for item in shown(shot.state)] if camera else []
    page = {"wire": wires,
            "arrows": chosen.offsets.get("arrows", []) if chosen else [],
            "render": base + "render.png" if base else None, "alpha": base + "alpha.png",
            "shade": base + "shade.png" if own and not chosen and (own.folder / "shade.png").exists() else None}
    context = {"looks": LOOKS, "plate": plate_of(shot), "render": own, "returned": chosen, "all_returned": [(one, one.digest != now) for one in back],
               "job": job,
               "remarks": _returned_remarks(chosen, now) if chosen else _own_remarks(shot, own, job, now), "form": form or ReturnForm(), "page": page,
               "kinds": KINDS.items(), "snapshots": shot.snapshots.all()[:30],
               "stale": own is not None and own.digest != now, "rows": _rows(own, chosen)}
    return step_page(request, shot, "line-up", "lineup/lineup.html", context, status=status)


def _own(shot):
    """Our newest render of the plate's size."""
    return next((one for one in shot.renders.all()[:50] if one.whole), None)


def _rows(own, chosen) -> list[Row]:
    if chosen:
        if not (found := chosen.offsets):
            return []
        return [Row("Outlines off, median", f"{found['median']:.2f} px"), Row("95 % within", f"{found['most']:.2f} px"),
                Row("Measured at", f"{found['points']} points")]
    return [Row("Size", f"{own.width} × {own.height} px"), Row("From revision", str(own.revision)), Row("Took", f"{own.seconds:.1f} s")] if own else []


def _returned_remarks(chosen, now) -> list[Remark]:
    out = [Remark("Put right" if mended else "Look at this", says, "note" if mended else "doubt") for says, mended in chosen.findings]
    if chosen.digest != now:
        out.append(Remark("Compared with an older set", "The camera or the stand-ins have changed since it was brought back: bring it in again.", "doubt"))
    if not chosen.offsets:
        return [*out, Remark("Not measured", "There are too few clean edges in common with the stand-ins to say how far it is off.", "doubt")]
    return out + [Remark("How it lies", " ".join(chosen.offsets["says"]), "good" if chosen.offsets["most"] < 0.25 else "doubt")]


def _own_remarks(shot, own, job, now) -> list[Remark]:
    out = []
    again = (("Render the stand-ins again" if own else "Render the stand-ins",
              {"action": shot.url("elements-again"), "fields": {"back": shot.url("lineup")}}),)
    if job and job.state in (Job.FAILED, Job.CANCELLED):
        out.append(Remark("The last render did not finish", job.says, "bad" if job.state == Job.FAILED else "note"))
    if own is not None and own.digest != now:
        out.append(Remark("This render is old", f"It was made from revision {own.revision}; the camera or the stand-ins have changed since.", "doubt", again))
    if own is None and not (job and job.under_way):
        out.append(Remark("Nothing rendered yet", "Render the stand-ins of the Set step through the matched camera, at the plate’s exact size.", "note", again))
    return out


@require_POST
def bring_back(request, show, shot):
    """A render from another program."""
    found, form = find(show, shot), ReturnForm(request.POST, request.FILES)
    if form.is_valid():
        file = form.cleaned_data["file"]
        ending = Path(file.name).suffix.lower()
        try:
            if ending.lstrip(".") not in ENDINGS:
                raise Problem("A render comes back as PNG, TIFF or EXR.")
            with tempfile.TemporaryDirectory() as folder:
                path = Path(folder) / f"file{ending}"
                with open(path, "wb") as out:
                    for chunk in file.chunks():
                        out.write(chunk)
                row = actions.bring_back(found, path, file.name)
            return redirect(found.url("lineup") + f"?returned={row.pk}")
        except Problem as problem:
            form.add_error("file", problem.sentence)
    return lineup(request, show, shot, form, 422)


@require_POST
def remove(request, show, shot, number):
    """Throw away a render that was brought back."""
    shot = find(show, shot)
    row = get_object_or_404(Returned, pk=number, shot=shot)
    folder = row.folder
    row.delete()
    shutil.rmtree(folder, ignore_errors=True)
    return redirect(shot.url("lineup"))


@require_GET
def file(request, show, shot, number, name):
    """One of the pictures of a render that was brought back."""
    path = get_object_or_404(Returned, pk=number, shot=find(show, shot)).folder / name
    if name not in FILES or not path.exists():
        raise Http404
    return FileResponse(open(path, "rb"), content_type=FILES[name])


@require_POST
def keep(request, show, shot):
    """Keep a snapshot of what is on the table."""
    shot = find(show, shot)
    chosen = shot.returned.filter(pk=request.POST["returned"]).first() if request.POST.get("returned", "").isdecimal() else None
    render = chosen or _own(shot)
    snapshots.keep(shot, request.POST.get("kind", "over"), request.POST.get("burn_in") == "on", render.folder if render else None,
                   chosen.name if chosen else "our own")
    return redirect(shot.url("lineup") + (f"?returned={chosen.pk}" if chosen else ""))


@require_GET
def snapshot(request, show, shot, number):
    """A snapshot's picture."""
    found = get_object_or_404(Snapshot, pk=number, shot=find(show, shot))
    if not found.file.exists():
        raise Http404
    return FileResponse(open(found.file, "rb"), content_type="image/png", as_attachment=request.GET.get("save") == "1",
                        filename=found.path.replace("/", "_"))


@require_POST
def remove_snapshot(request, show, shot, number):
    """Throw a snapshot away."""
    shot = find(show, shot)
    found = get_object_or_404(Snapshot, pk=number, shot=shot)
    found.file.unlink(missing_ok=True)
    found.delete()
    return redirect(shot.url("lineup"))
