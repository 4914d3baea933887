"""The Line-up step: does it really line up?"""

from django.http import FileResponse, Http404, JsonResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_GET, require_POST

from web.jobs import runner
from web.jobs.models import Job
from web.lineup import actions
from web.lineup.models import Render
from web.plates.models import plate_of
from web.shows.views import find, step_page
from web.ui.rows import Remark, Row

TYPES = {"render.png": "image/png", "alpha.png": "image/png", "render.exr": "image/x-exr"}


def lineup(request, show, shot):
    """The newest render over the plate."""
    shot = find(show, shot)
    render, job = shot.renders.first(), runner.latest(shot, actions.KIND)
    stale = render is not None and render.digest != actions.source_digest(shot.state)
    remarks = []
    again = (("Render the stand-ins again" if render else "Render the stand-ins", {"action": shot.url("lineup-render"), "fields": {}}),)
    if job and job.state in (Job.FAILED, Job.CANCELLED):
        remarks.append(Remark("The last render did not finish", job.says, "bad" if job.state == Job.FAILED else "note"))
    if stale:
        remarks.append(Remark("This render is old", f"It was made from revision {render.revision}; the camera or the stand-ins have "
                              "changed since.", "doubt", again))
    if render is None and not (job and job.state == Job.RUNNING):
        remarks.append(Remark("Nothing rendered yet", "Render the stand-ins of the Set step through the matched camera, at the plate’s exact size.", "note",
                              again))
    rows = [Row("Size", f"{render.width} × {render.height} px"), Row("From revision", str(render.revision)),
            Row("Took", f"{render.seconds:.1f} s")] if render else []
    context = {"plate": plate_of(shot), "render": render, "job": job, "remarks": remarks, "rows": rows, "stale": stale}
    return step_page(request, shot, "line-up", "lineup/lineup.html", context)


@require_POST
def render(request, show, shot):
    """Begin a render."""
    shot = find(show, shot)
    actions.start_render(shot)
    return redirect(shot.url("lineup"))


@require_GET
def progress(request, show, shot):
    """How far the newest render is."""
    job = runner.latest(find(show, shot), actions.KIND)
    return JsonResponse({"state": job.state, "progress": job.progress, "says": job.says} if job else {"state": "none"})


@require_POST
def cancel(request, show, shot):
    """Ask the running render to stop."""
    shot = find(show, shot)
    Job.objects.filter(shot=shot, kind=actions.KIND, state=Job.RUNNING).update(cancel_asked=True)
    return redirect(shot.url("lineup"))


@require_GET
def file(request, show, shot, number, name):
    """One of a render's files."""
    found = get_object_or_404(Render, pk=number, shot=find(show, shot))
    path = found.folder / name
    if name not in TYPES or not path.exists():
        raise Http404
    return FileResponse(open(path, "rb"), content_type=TYPES[name], as_attachment=request.GET.get("save") == "1", filename=f"{shot}_{name}")
