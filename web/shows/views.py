"""Shows, their boards, and the verbs that all steps share: undo, redo, lock, take a revision."""

import json
from collections.abc import Callable

from django.core.paginator import Paginator
from django.db.models import Count, Q
from django.http import Http404, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.http import url_has_allowed_host_and_scheme
from django.views.decorators.http import require_GET, require_POST

from web.shows import history, organise, steps
from web.shows.differences import STEPS, in_words, steps_of
from web.shows.forms import ShotForm, ShowForm
from web.shows.models import Shot, Show, read_together
from web.shows.reading import base_of, wants_json
from web.ui.prepared import Prepared

_at_address = Prepared(
    lambda show, shot: Shot.objects.with_head().kept().filter(show__slug=show, code=shot)
)


def find(show: str, shot: str) -> Shot:
    """The shot at an address, with its show and head; 404 where there is none."""
    found = _at_address.first(show, shot)
    if found is None:
        raise Http404
    read_together([found])
    return found


# How the pixels of a panorama lie around, for the light table; the step that knows registers it.
_find_around: list[Callable[[Shot], dict | None]] = []


def register_around(find: Callable[[Shot], dict | None]) -> None:
    """Add what knows how a panorama's pixels lie around; called by its app."""
    _find_around[:] = [find]


def _around(shot: Shot) -> dict | None:
    return _find_around[0](shot) if _find_around else None


def step_page(
    request, shot: Shot, step: str, template: str, context: dict | None = None, status: int = 200
):
    """A step's page inside the frame that all share."""
    frame = {
        "show": shot.show,
        "shot": shot,
        "state": shot.state,
        "step": step,
        "steps": steps.strip(shot, step),
        "undoable": shot.head.parent_id is not None,
        "undo_label": shot.head.label,
        "redoable": history.next_revision(shot),
        "lies_around": json.dumps(around) if (around := _around(shot)) else "",
    }
    return render(request, template, frame | (context or {}), status=status)


def without_its_page(request, key: str, sentence: str, status: int):
    """A step's page where the page itself can't be shown: head, steps, undo and history, and the
    sentence."""
    address = request.resolver_match.kwargs
    shot = find(address["show"], address["shot"])
    context = {"sentence": sentence, "revisions": history.listed(shot)}
    return step_page(request, shot, key, "shows/without_its_page.html", context, status)


def shows(request):
    """All shows, and the form for a new one."""
    form = ShowForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        return redirect(form.save())
    listing = _listing(request, organise.SHOW_SORTS, "newest")
    present = Q(shots__deleted__isnull=True, shots__archived=False)
    listed = organise.found_shows(listing["text"], listing["sort"], listing["archived"])
    listed = listed.annotate(shot_count=Count("shots", filter=present))
    for show in listed:
        shots = list(show.shots.with_head().kept().filter(archived=False))
        show.steps = steps.tally(shots)
        first = next((shot for shot in shots if "plate" in shot.head.parts), None)
        show.thumbnail = first.state["plate"]["digest"] if first else None
    return render(
        request,
        "shows/shows.html",
        {
            "shows": listed,
            "form": form,
            "listing": listing,
            "deleted": Show.objects.visible("leads")
            .filter(deleted__isnull=False)
            .order_by("-deleted"),
        },
        status=422 if form.errors else 200,
    )


def _listing(request, sorts: dict, usual: str) -> dict:
    """How a list is wanted: searched for `text`, in an order, those that are archived or not."""
    sort = request.GET.get("sort", usual)
    return {
        "text": request.GET.get("q", "").strip()[:120],
        "sort": sort if sort in sorts else usual,
        "sorts": [(key, name) for key, (name, _) in sorts.items()],
        "archived": request.GET.get("archived") == "1",
    }


def board(request, show):
    """A show's shots with the standing of every step, and the form for a new shot."""
    show = get_object_or_404(Show.objects.kept(), slug=show)
    form = ShotForm(request.POST or None, show=show)
    if request.method == "POST" and form.is_valid():
        shot = history.create_shot(
            show, form.cleaned_data["code"], form.cleaned_data["description"]
        )
        return redirect(shot.url("plate"))
    listing = _listing(request, organise.SORTS, "code")
    wanted = list(organise.found_shots(show, listing["text"], listing["sort"], listing["archived"]))
    rows = list(zip(wanted, steps.strips(wanted)))
    step, state = request.GET.get("step", ""), request.GET.get("state", "")
    if step in steps.NAMES or state in steps.STATES:
        rows = [(shot, strip) for shot, strip in rows if _is_so(strip, step, state)]
    return render(
        request,
        "shows/board.html",
        {
            "show": show,
            "rows": rows,
            "form": form,
            "listing": listing,
            "step_names": list(steps.NAMES.values()),
            "step_choices": steps.NAMES.items(),
            "state_choices": steps.STATES.items(),
            "step": step,
            "state": state,
            "deleted": show.shots.filter(deleted__isnull=False).order_by("-deleted"),
        },
        status=422 if form.errors else 200,
    )


def _is_so(strip: list[dict], step: str, state: str) -> bool:
    """Whether a step of a shot, or any where none is told, is in a state, or begun where none is
    told."""
    asked = [item for item in strip if step in ("", item["key"])]
    return any(item["state"] == state if state else item["state"] != "nothing" for item in asked)


def _after(request, shot, says, back="plate"):
    if wants_json(request):
        return JsonResponse({"says": says, "revision": find(shot.show.slug, shot.code).head.number})
    wanted = request.POST.get("back", "")
    own = url_has_allowed_host_and_scheme(wanted, allowed_hosts={request.get_host()})
    return redirect(wanted if own and wanted.startswith("/") else shot.url(back))


MOST_ROWS = 60


@require_GET
def told_history(request, show, shot):
    """Who changed what, with the difference in words and figures; of one person, or one step."""
    shot = find(show, shot)
    rows = shot.revisions.filter(folded=False).select_related("by", "parent").order_by("-number")
    people = sorted({row.by.username for row in rows if row.by})
    who, step = request.GET.get("who", ""), request.GET.get("step", "")
    if who in people:
        rows = rows.filter(by__username=who)
    wanted = [row for row in rows if step not in STEPS or step in steps_of(row)]
    pages = Paginator(wanted, MOST_ROWS).get_page(request.GET.get("page"))
    told = [{"revision": row, "steps": steps_of(row), "says": in_words(row)} for row in pages]
    context = {
        "show": shot.show,
        "shot": shot,
        "rows": told,
        "pages": pages,
        "people": people,
        "who": who,
        "steps": [(key, steps.NAMES.get(key, key)) for key in STEPS],
        "step": step,
    }
    return render(request, "shows/history.html", context)


@require_POST
def undo(request, show, shot):
    """Move back by one edit."""
    shot = find(show, shot)
    return _after(request, shot, history.undo(shot, base_of(request)))


@require_POST
def redo(request, show, shot):
    """Move forward again."""
    shot = find(show, shot)
    return _after(request, shot, history.redo(shot, base_of(request)))


@require_POST
def lock(request, show, shot):
    """Lock or unlock the camera."""
    shot = find(show, shot)
    locked = request.POST.get("locked") == "1"
    history.set_locked(shot, locked, base_of(request))
    return _after(
        request, shot, "The camera is locked." if locked else "The camera is unlocked.", "match"
    )


@require_POST
def restore(request, show, shot, number):
    """Make a revision the current one."""
    shot = find(show, shot)
    history.restore(shot, number, base_of(request))
    return _after(request, shot, f"Revision {number} was taken.")


@require_POST
def name_revision(request, show, shot, number):
    """Give a revision a name, or take it away."""
    shot = find(show, shot)
    history.name_revision(shot, number, request.POST.get("name", ""))
    return _after(request, shot, f"Revision {number} has its name.", "match")
