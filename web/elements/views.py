"""The Elements step: the stand-ins rendered in passes."""

from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from web.elements import actions, looked, starting
from web.elements.forms import OrderForm
from web.elements.models import Render
from web.elements.queries import newest_renders
from web.expose.looks import names_of
from web.gates.gate import all_around
from web.jobs import runner
from web.jobs.models import Job
from web.match.lens_remarks import lens_remarks
from web.plates.frames import frames_now, shifted_since
from web.plates.models import plate_of
from web.shows.reading import integer
from web.shows.thrown import verbs
from web.shows.views import find, step_page
from web.ui.rows import Remark, Row
from web.ui.sending import sent

ALWAYS = ("render.png", "alpha.png", "render.exr", "shade.png")
TYPES = {".png": "image/png", ".exr": "image/x-exr"}


def elements(request, show, shot, form=None, status=200):
    """A render's layers, how the next one is wanted, and all renders so far."""
    shot = find(show, shot)
    renders, job, now = (
        newest_renders(shot)[:30],
        runner.latest(shot, actions.KIND),
        actions.source_digest(shot.state),
    )
    chosen = next(
        (one for one in renders if str(one.pk) == request.GET.get("render")),
        renders[0] if renders else None,
    )
    remarks = _remarks(shot, chosen, job, now)
    rows = _rows(chosen, shot.state) if chosen else []
    looks = _looks(chosen) if chosen else []
    has_look = bool(names_of(shot))
    if chosen and has_look:
        looks.append((looked.NAME, looked.TITLE))
    context = {
        "has_look": has_look,
        "around": all_around(shot.state),
        "plate": plate_of(shot),
        "render": chosen,
        "frames": frames_now(shot.state, chosen) if chosen else [],
        "shift": shifted_since(shot.state, chosen) if chosen else 0,
        "job": job,
        "remarks": [*lens_remarks(shot.state), *remarks],
        "rows": rows,
        "looks": looks,
        "thrown": (
            Render.everything.filter(shot=shot, thrown__isnull=False).order_by("-thrown")[:30]
        ),
        "history": [(one, one.digest != now, frames_now(shot.state, one)) for one in renders],
        "form": (
            form
            or OrderForm(
                show=shot.show,
                grids=actions.grids(shot),
                order=actions.next_order(shot, renders[0] if renders else None),
            )
        ),
    }
    return step_page(request, shot, "elements", "elements/elements.html", context, status=status)


def _rows(render, state) -> list[Row]:
    rows = [
        Row("Size", f"{render.width} × {render.height} px"),
        Row("From revision", str(render.revision)),
        Row("Took", f"{render.seconds:.1f} s"),
    ]
    if eye := render.wanted.get("eye"):
        rows.append(Row("Of a stereo pair", f"the {eye} eye"))
    if render.frames:
        frames = frames_now(state, render)
        rows.append(Row("Frames", f"{frames[0]}–{frames[-1]}"))
    return rows


def _looks(render) -> list[tuple[str, str]]:
    """The files of a render that the page can show, and what each is called."""
    return [("render.png", "Beauty, over black"), ("alpha.png", "Alpha"), *map(tuple, render.looks)]


def _remarks(shot, render, job, now) -> list[Remark]:
    out = []
    if job and job.state in (Job.FAILED, Job.CANCELLED):
        out.append(
            Remark(
                "The last render did not finish",
                job.says,
                "bad" if job.state == Job.FAILED else "note",
            )
        )
    if render and render.digest != now:
        out.append(
            Remark(
                "This render is old",
                f"It was made from revision {render.revision}; the camera or the stand-ins have"
                " changed since.",
                "doubt",
                (("Render them again", {"action": shot.url("elements-again"), "fields": {}}),),
            )
        )
    if render and render.digest == now and _other_light(shot, render):
        out.append(
            Remark(
                "Its exposure or blur is old",
                "Stop, shutter, focus or the blur’s shape have changed on the Expose step since.",
                "doubt",
                (("Render them again", {"action": shot.url("elements-again"), "fields": {}}),),
            )
        )
    if render is None and not (job and job.under_way):
        out.append(
            Remark(
                "Nothing rendered yet",
                "Choose the passes and render the stand-ins through the matched camera.",
                "note",
            )
        )
    return out


def _other_light(shot, render) -> bool:
    """Whether a render has a lens, a shutter or an exposure that the shot has no more."""
    wanted = render.wanted
    if not any(wanted.get(name) for name in ("depth", "motion", "exposed")):
        return False
    return wanted.get("of_light") != actions.light_digest(shot.state)


@require_POST
def order(request, show, shot):
    """Begin a render as the form wants it."""
    found = find(show, shot)
    form = OrderForm(
        request.POST, show=found.show, order=actions.Order(), grids=actions.grids(found)
    )
    if form.is_valid():
        try:
            starting.start_render(found, form.cleaned_data["order"])
            return redirect(found.url("elements"))
        except Problem as problem:
            if problem.place not in form.fields:
                raise
            form.add_error(problem.place, problem.sentence)
    return elements(request, show, shot, form, 422)


@require_POST
def again(request, show, shot):
    """Begin a render as the newest one was wanted."""
    shot = find(show, shot)
    newest = shot.renders.first()
    starting.start_render(shot, actions.next_order(shot, newest) if newest else None)
    return redirect(
        request.POST.get("back")
        if request.POST.get("back", "").startswith("/shows/")
        else shot.url("elements")
    )


@require_POST
def remove(request, show, shot, number):
    """Throw a render away; it can be taken back."""
    shot = find(show, shot)
    found = get_object_or_404(Render, pk=number, shot=shot)
    if shot.renders.count() == 1:
        raise Problem("This is the only render: the line-up needs it. Render again first.")
    found.throw()
    return redirect(shot.url("elements"))


take_back, rename = verbs(Render, "elements", "render")


def _named(shot, name, path, found):
    """A frame's file carries its number before the ending, as sequences do."""
    stem, ending = name.split(".")
    if not found.frames:
        return f"{shot.code}_{name}"
    frame = int(path.parent.name) + shifted_since(shot.state, found)
    return f"{shot.code}_{stem}.{frame:04}.{ending}"


@require_GET
def with_look(request, show, shot, number):
    """The beauty of a render with the shot's look, as an EXR."""
    shot = find(show, shot)
    found = get_object_or_404(Render, pk=number, shot=shot)
    frame = integer(request.GET.get("frame"))
    data = looked.as_exr(looked.looked(shot, found, frame))
    answer = HttpResponse(data, content_type="image/x-exr")
    name = _named(shot, "render.exr", found.of_frame(frame) / "render.exr", found)
    answer["Content-Disposition"] = f'attachment; filename="{name.replace("render", "look")}"'
    return answer


@require_GET
def file(request, show, shot, number, name):
    """One of a render's files."""
    shot = find(show, shot)
    found = get_object_or_404(Render, pk=number, shot=shot)
    if name == looked.NAME:
        picture = looked.looked(shot, found, integer(request.GET.get("frame")))
        return HttpResponse(looked.as_png(picture), content_type="image/png")
    path = found.of_frame(integer(request.GET.get("frame"))) / name
    if name not in ALWAYS and name not in {look[0] for look in found.looks} or not path.exists():
        raise Http404
    save = request.GET.get("save") == "1"
    return sent(path, TYPES[path.suffix], _named(shot, name, path, found), save)
