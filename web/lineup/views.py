"""The Line-up step: does it really line up?"""

from web.elements.actions import KIND, source_digest
from web.jobs import runner
from web.jobs.models import Job
from web.plates.models import plate_of
from web.shows.views import find, step_page
from web.ui.rows import Remark, Row


def lineup(request, show, shot):
    """The newest render of the plate's size over the plate."""
    shot = find(show, shot)
    render = next((one for one in shot.renders.all()[:50] if one.whole), None)
    job = runner.latest(shot, KIND)
    stale = render is not None and render.digest != source_digest(shot.state)
    remarks = []
    again = (("Render the stand-ins again" if render else "Render the stand-ins",
              {"action": shot.url("elements-again"), "fields": {"back": shot.url("lineup")}}),)
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
