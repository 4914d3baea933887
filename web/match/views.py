"""The Match step's page. A drag asks `preview` for its consequences; when it ends, `save` appends
one revision."""

import msgspec
from django.http import Http404, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from aperture.errors import Problem
from aperture.fence import run_fenced
from aperture.match.document import from_bytes, validate
from aperture.match.solve import solve
from aperture.path.document import as_still, is_film
from web.match import actions, film_documents, match_remarks, page, report, sheet
from web.match.aids import Wish
from web.match.fits import document_of, fit_of
from web.plates.models import plate_of
from web.shows.history import edit
from web.shows.reading import Edit, Message, Text, base_of, given_file, read, whole
from web.shows.views import find, step_page

MOST_BYTES = 20_000_000  # of a match document


def match(request, show, shot):
    """The plate with its marks, and the report; ?revision= shows an earlier one, to look at."""
    shot = find(show, shot)
    looked, newest = whole(request.GET.get("revision")), shot.head.number
    if looked == newest:
        looked = None
    if looked is not None:
        shot.head, shot.locked = get_object_or_404(shot.revisions, number=looked), True
    leaf = request.COOKIES.get(report.COOKIE) if looked is None else None
    context = report.context(shot, leaf) | {
        "plate": plate_of(shot),
        "page": page.data(shot),
        "looked": looked,
        "newest": newest,
    }
    if looked is not None:  # undo would go on from the newest, which isn't what is shown
        context |= {"undoable": None, "redoable": None}
    return step_page(request, shot, "match", "match/match.html", context)


@require_GET
def leaf(request, show, shot, leaf):
    """One leaf of the report, for a page that hadn't it open."""
    shot = find(show, shot)
    if leaf not in report.LEAVES or (leaf == "tracks" and not shot.state["film"]):
        raise Http404
    return render(request, f"match/leaves/{leaf}.html", report.context(shot, leaf))


class Drawn(Edit, frozen=True, kw_only=True):
    """The marks as they are drawn on the page; `run` as in `history.edit`; `later`: the page asks
    for what follows from them by itself."""

    marks: list
    label: Text = "Marks"
    run: Text = ""
    aids: Wish | None = None
    later: bool = False


class Asked(Message, frozen=True):
    """What the page shows besides the marks."""

    aids: Wish | None = None
    straight: bool = False
    report: bool = False


@require_POST
def preview(request, show, shot):
    """What the fit would be with these marks; nothing is saved."""
    shot = find(show, shot)
    drawn = read(request, Drawn)
    state = shot.state | {"marks": drawn.marks}
    document = document_of(state)
    if document is None:
        raise Problem("Bring in a plate before marking it.")
    validate(document)
    fit = solve(document, warm=fit_of(shot.state), checked=True, explain=False).document
    shot = shot.supposing(state)
    context = {
        "figures": sheet.figures(shot, fit),
        "remarks": match_remarks.sorted_remarks(shot, fit),
        "fit": fit,
        "shot": shot,
        "request": request,
    }
    without_map = msgspec.structs.replace(drawn.aids or Wish(), map=False)  # too slow for a drag
    html = render(request, "match/_figures.html", context).content.decode()
    return JsonResponse(
        {
            "overlay": page.overlay(shot, state, fit, without_map),
            "figures": html,
            "residuals": fit["residuals"]["marks"] if fit["ok"] else {},
            "ok": fit["ok"],
        }
    )


def saved(request, shot, wished=None, more=None) -> JsonResponse:
    """What the page needs after an edit that it asked for by script, and `more` of its own."""
    renewed = {"report": report.renewed(request, shot).content.decode()}
    return JsonResponse(page.data(shot, wished) | renewed | (more or {}))


@require_POST
def save(request, show, shot):
    """Append the marks as a revision."""
    shot = find(show, shot)
    drawn = read(request, Drawn)
    shot = actions.set_marks(shot, drawn.marks, drawn.label, drawn.revision, drawn.run)
    if drawn.later:
        return JsonResponse({"revision": shot.head.number, "later": True})
    return saved(request, shot, drawn.aids)


@require_http_methods(["GET", "POST"])
def state(request, show, shot):
    """The marks and overlay as they are now; POST with the aids that the page wishes for, and
    whether for the report."""
    asked = read(request, Asked)
    shot = find(show, shot)
    if asked.report:
        return saved(request, shot, asked.aids)
    return JsonResponse(page.data(shot, asked.aids, asked.straight))


@require_GET
def document(request, show, shot):
    """The match document."""
    return JsonResponse(document_of(find(show, shot).state) or {}, json_dumps_params={"indent": 2})


@require_POST
def load(request, show, shot):
    """Take marks, facts, planes and lens from a match document file; of one of a film its tracks
    too."""
    shot = find(show, shot)
    upload = given_file(request, "document", "a match document, a .json file", MOST_BYTES)
    data = run_fenced(from_bytes, upload.read())
    plate = shot.state["plate"]
    if not plate or (data["image"]["width"], data["image"]["height"]) != (
        plate["width"],
        plate["height"],
    ):
        raise Problem(
            f"The document is about a picture of {data['image']['width']} ×"
            f" {data['image']['height']} px, and this shot's plate has another size."
        )

    if data["version"] == 2 and not shot.state["film"] and not is_film(data):
        data = as_still(data)
    if data["version"] == 2:
        film_documents.take(shot, data, upload.name[:80], base_of(request))
        return redirect(shot.url("match"))

    def change(state):
        state["marks"], state["facts"], state["planes"] = (
            data.get("marks", []),
            data.get("facts", []),
            data.get("planes", []),
        )
        state["lens"] = {"focal_mm": None} | data.get("lens", {})
        state["robust"] = data.get("robust", False)
        if "gate" in data:
            state["gate"] = {"squeeze": 1.0, **data["gate"], "origin": "file", "name": ""}

    edit(shot, f"Took {upload.name[:80]}", change, base_of(request))
    return redirect(shot.url("match"))
