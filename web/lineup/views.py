"""The Line-up step: does it really line up?"""

from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect
from django.utils import timezone
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.render.compose import KINDS
from web.elements.actions import KIND, source_digest
from web.elements.queries import newest_whole
from web.jobs import runner
from web.lineup import actions, plate_edges, snapshots, starting
from web.lineup.forms import ReturnForm, TakenForm
from web.lineup.models import Returned, Snapshot
from web.lineup.page import LOOKS, curve, page_data, remarks, rows
from web.match.lens_remarks import lens_remarks
from web.plates.frames import frames_now, number_of, shifted_since, shown
from web.plates.models import plate_of
from web.shows.forms import on_form
from web.shows.reading import integer, whole
from web.shows.thrown import verbs
from web.shows.views import find, step_page
from web.ui.sending import sent

FILES = {"render.png": "image/png", "alpha.png": "image/png", "render.exr": "image/x-exr"}


def lineup(request, show, shot, form=None, status=200):
    """A render over the plate: our own newest of the plate's size, or one that was brought back."""
    shot = find(show, shot)
    own, back, now = newest_whole(shot), list(shot.returned.all()[:30]), source_digest(shot.state)
    kinds = (actions.KIND, KIND, plate_edges.KIND)
    jobs = [job for kind in kinds if (job := runner.latest(shot, kind))]
    wanted = request.GET.get("returned")
    chosen = next(
        (one for one in back if str(one.pk) == wanted),
        back[0] if back and wanted == "newest" else None,
    )
    others = [
        ("", "the plate"),
        *([("own", "our own render")] if own and chosen else []),
        *((str(one.pk), one.name) for one in back if one != chosen),
    ]
    wanted = request.GET.get("against", "")
    laid = chosen or own
    against = own if wanted == "own" else next((one for one in back if str(one.pk) == wanted), None)
    context = {
        "looks": LOOKS,
        "others": others,
        "against": wanted if against else "",
        "plate": plate_of(shot),
        "render": own,
        "returned": chosen,
        "all_returned": [(one, one.digest != now) for one in back],
        "thrown": Returned.everything.filter(shot=shot, thrown__isnull=False).order_by("-thrown")[
            :30
        ],
        "job": next((job for job in jobs if job.under_way), None),
        "remarks": [*lens_remarks(shot.state), *remarks(shot, own, chosen, jobs, now)],
        "form": form or ReturnForm(),
        "page": page_data(shot, own, chosen, against),
        "kinds": KINDS.items(),
        "snapshots": shot.snapshots.all()[:30],
        "stale": own is not None and own.digest != now,
        "rows": rows(shot.state, own, chosen),
        "curve": curve(shot.state, chosen),
        "edges": plate_edges.over_range(shot),
        "alpha_says": _alpha_says(own, chosen),
        "frames": frames_now(shot.state, laid) if laid else [],
        "first_file": laid.frames[0] if laid and laid.frames else "",
        "taken": TakenForm(row=chosen) if chosen and chosen.taken else None,
        "facts": snapshots.facts(shot, timezone.localtime()),
    }
    return step_page(request, shot, "line-up", "lineup/lineup.html", context, status=status)


def _on_table(shot, query):
    """The render that is on the table, and its frame: (row, frame)."""
    number = whole(query.get("returned"))
    row = newest_whole(shot) if number is None else shot.returned.filter(pk=number).first()
    return row, integer(query.get("frame")) if row and row.frames else None


def _picture_at(shot, frame: str | None) -> int | None:
    """The number of the film's picture that is looked at; None where it is the one that is worked
    on, or isn't said."""
    looked_at = integer(frame)
    if not shot.state["film"] or looked_at is None:
        return None
    number = number_of(shot.state, looked_at)
    return None if number == shown(shot.state) else number


@require_GET
def values(request, show, shot):
    """What plate and render have at a place of the plate, for the loupe."""
    shot = find(show, shot)
    row, frame = _on_table(shot, request.GET)
    try:
        x, y = (float(request.GET.get(name, "")) for name in "xy")
    except ValueError:
        return HttpResponse("", content_type="text/plain")
    number = _picture_at(shot, request.GET.get("at"))
    return HttpResponse(
        snapshots.values_at(shot, row.of_frame(frame) if row else None, x, y, number),
        content_type="text/plain",
    )


def _alpha_says(own, chosen) -> list:
    """Sentences about the alpha of the render on the table."""
    if chosen:
        return list(chosen.alpha_says)
    return list(snapshots.alpha_of(own.of_frame(None))) if own else []


@require_GET
def edges(request, show, shot):
    """How far the plate's own edges lie from the stand-ins', on the frame `at` or on the one that
    is worked on."""
    shot = find(show, shot)
    return JsonResponse(plate_edges.measured(shot, _picture_at(shot, request.GET.get("at"))))


@require_POST
def measure(request, show, shot):
    """Begin to measure the plate's own edges over the marked range."""
    shot = find(show, shot)
    starting.start_edges(shot)
    return redirect(shot.url("lineup"))


@require_POST
def bring_back(request, show, shot):
    """Renders from another program: one picture, or a sequence."""
    found, form = find(show, shot), ReturnForm(request.POST, request.FILES)
    if form.is_valid():
        with on_form(form, "files"):
            starting.start_return(found, form.cleaned_data["files"])
            return redirect(found.url("lineup") + "?returned=newest")
    return lineup(request, show, shot, form, 422)


@require_POST
def take(request, show, shot, number):
    """Take a render that was brought back in another way, or again as is recognised."""
    shot = find(show, shot)
    row = get_object_or_404(Returned, pk=number, shot=shot)
    taken = None
    if (
        request.POST.get("verb") != "recognise" and row.taken
    ):  # one of an earlier version has nothing to choose from yet
        form = TakenForm(request.POST, row=row)
        if not form.is_valid():
            raise Problem(
                "A render can't be taken that way: "
                + " ".join(str(error) for errors in form.errors.values() for error in errors)
            )
        taken = form.cleaned_data["taken"]
    starting.start_again(shot, row, taken)
    return redirect(shot.url("lineup") + f"?returned={row.pk}")


@require_POST
def recount(request, show, shot, number):
    """Count the frames of a sequence that was brought back in another way: `by` more than its files
    do now."""
    shot = find(show, shot)
    row = get_object_or_404(Returned, pk=number, shot=shot)
    by = integer(request.POST.get("by"))
    if by is None:
        raise Problem("By how many frames isn't said.")
    row.shift -= by
    row.save(update_fields=["shift"])
    return redirect(shot.url("lineup") + f"?returned={row.pk}")


@require_POST
def remove(request, show, shot, number):
    """Throw away a render that was brought back; it can be taken back."""
    shot = find(show, shot)
    row = get_object_or_404(Returned, pk=number, shot=shot)
    row.throw()
    return redirect(shot.url("lineup") + f"?thrown={row.pk}")


take_back, rename = verbs(Returned, "lineup", "returned")


@require_GET
def file(request, show, shot, number, name):
    """One of the pictures of a render that was brought back."""
    row = get_object_or_404(Returned, pk=number, shot=find(show, shot))
    path = row.of_frame(integer(request.GET.get("frame"))) / name
    if name not in FILES or not path.exists():
        raise Http404
    return sent(path, FILES[name])


@require_POST
def keep(request, show, shot):
    """Keep a snapshot of what is on the table."""
    shot = find(show, shot)
    row, frame = _on_table(shot, request.POST)
    back = isinstance(row, Returned)
    if frame is not None and frame not in row.frames and request.POST.get("kind") != "plate":
        now = frame + shifted_since(shot.state, row)
        raise Problem(
            f"The render has no frame {now}: keep the plate alone, or go to another frame."
        )
    snapshots.keep(
        shot,
        request.POST.get("kind", "over"),
        request.POST.get("burn_in") == "on",
        row.of_frame(frame) if row else None,
        row.name if back else "our own",
        frame if not row or frame is None else frame + shifted_since(shot.state, row),
        _picture_at(shot, request.POST.get("at")),
    )
    return redirect(shot.url("lineup") + (f"?returned={row.pk}" if back else ""))


@require_GET
def snapshot(request, show, shot, number):
    """A snapshot's picture."""
    found = get_object_or_404(Snapshot, pk=number, shot=find(show, shot))
    if not found.file.exists():
        raise Http404
    save = request.GET.get("save") == "1"
    return sent(found.file, "image/png", found.path.replace("/", "_"), save)


@require_POST
def remove_snapshot(request, show, shot, number):
    """Throw a snapshot away."""
    shot = find(show, shot)
    found = get_object_or_404(Snapshot, pk=number, shot=shot)
    found.file.unlink(missing_ok=True)
    found.delete()
    return redirect(shot.url("lineup"))
