"""The Match step. A drag asks `preview` for its consequences; when it ends, `save` appends one revision."""



from django.http import HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.match.document import InvalidDocument, loads, validate
from aperture.match.solve import camera_of, solve
from web.match import actions, sheet
from web.match.fits import document_of, fit_of
from web.match.forms import FocalForm, HeightForm, LengthForm, MarkForm
from web.match.overlay import draw
from web.plates.models import plate_of
from web.shows import steps
from web.shows.actions import Locked, Stale, edit, next_revision
from web.shows.models import Shot
from web.shows.views import find, step_page


def match(request, show, shot):
    """The plate with its marks, and the report."""
    shot = find(show, shot)
    context = _report_context(shot) | {"plate": plate_of(shot), "page": _page_data(shot)}
    return step_page(request, shot, "match", "match/match.html", context)


def _page_data(shot, fit=None) -> dict:
    """What the page's script needs: the marks and what is drawn over the plate."""
    fit = fit or fit_of(shot.state)
    return {"revision": shot.head.number, "locked": shot.locked, "marks": shot.state["marks"], "facts": shot.state["facts"],
            "overlay": _overlay(shot, shot.state, fit), "residuals": (fit or {}).get("residuals", {}).get("marks", {})}


def _overlay(shot, state, fit):
    camera = camera_of(fit, document_of(state)) if fit and fit["ok"] else None
    return draw(camera, fit or {}, state["marks"], shot.show)


def _report_context(shot, forms=None) -> dict:
    fit = fit_of(shot.state)
    spots = [mark for mark in shot.state["marks"] if mark["kind"] == "spot"]
    base, focal = {"base": shot.head.number}, shot.state["lens"].get("focal_mm")
    plate = plate_of(shot)
    said = plate.metadata.get("focal_mm") if plate else None
    ends = {"start": spots[0]["id"], "end": spots[-1]["id"]} if spots else {}
    given = {"focal": f"{focal['value']:g} mm", "focal_plus_minus": f"{focal['plus_minus']:g} mm"} if focal else {}
    ready = {"length": LengthForm(show=shot.show, spots=spots, initial=base | ends, prefix="length"),
             "height": HeightForm(show=shot.show, initial=base, prefix="height"), "focal": FocalForm(initial=base | given, prefix="focal")}
    return {"shot": shot, "show": shot.show, "fit": fit, "figures": sheet.figures(shot, fit), "remarks": sheet.remarks(shot, fit), "file_focal": said,
            "evidence": sheet.evidence(shot, fit), "forms": ready | (forms or {}), "spot_count": len(spots),
            "undoable": shot.head.parent, "redoable": next_revision(shot)}


def _whole_report(request, shot, forms=None):
    """The report with what else on the page an edit changes: the history and the row of steps."""
    return render(request, "match/_report.html", _report_context(shot, forms) | {"fresh_history": True, "steps": steps.strip(shot, "match")})


def _answer(request, shot, forms=None):
    """The report anew; the page's script is told to fetch the marks."""
    response = _whole_report(request, shot, forms)
    response["HX-Trigger"] = "evidence-changed"
    return response


def _marks_from(request) -> tuple[list, int | None, str]:
    data = loads(request.body)
    if not isinstance(data, dict) or not isinstance(data.get("marks"), list):
        raise InvalidDocument("The page sent no list of marks.", "/marks")
    base = data.get("base")
    return data["marks"], base if isinstance(base, int) else None, str(data.get("label") or "Marks")[:100]


@require_POST
def preview(request, show, shot):
    """What the fit would be with these marks; nothing is saved."""
    shot = find(show, shot)
    marks, _, _ = _marks_from(request)
    state = shot.state | {"marks": marks}
    document = document_of(state)
    if document is None:
        raise Problem("Bring in a plate before marking it.")
    validate(document)
    fit = solve(document, warm=fit_of(shot.state), checked=True, explain=False).document
    shot.head.state = state  # for the report's functions only; never saved
    context = {"figures": sheet.figures(shot, fit), "remarks": sheet.remarks(shot, fit), "fit": fit, "shot": shot, "request": request}
    html = render(request, "match/_figures.html", context).content.decode()
    return JsonResponse({"overlay": _overlay(shot, state, fit), "figures": html,
                         "residuals": fit["residuals"]["marks"] if fit["ok"] else {}, "ok": fit["ok"]})


@require_POST
def save(request, show, shot):
    """Append the marks as a revision."""
    shot = find(show, shot)
    marks, base, label = _marks_from(request)
    shot = actions.set_marks(shot, marks, label, base)
    return JsonResponse(_page_data(shot) | {"report": _whole_report(request, shot).content.decode()})


@require_GET
def state(request, show, shot):
    """The marks and overlay as they are now."""
    return JsonResponse(_page_data(find(show, shot)))


@require_GET
def document(request, show, shot):
    """The match document."""
    return JsonResponse(document_of(find(show, shot).state) or {}, json_dumps_params={"indent": 2})


@require_POST
def add_fact(request, show, shot, kind):
    """A length or the camera's height, typed."""
    shot = find(show, shot)
    spots = [mark for mark in shot.state["marks"] if mark["kind"] == "spot"]
    form = LengthForm(request.POST, show=shot.show, spots=spots, prefix=kind) if kind == "length" else HeightForm(request.POST, show=shot.show, prefix=kind)
    if not form.is_valid():
        return _answer(request, shot, {kind: form})
    data = form.cleaned_data
    fact = {"kind": "length" if kind == "length" else "camera_height", "metres": data["metres"], "plus_minus": data["plus_minus_m"]}
    if kind == "length":
        fact |= {"from": data["start"], "to": data["end"]}
        fact |= {"along": data["along"]} if data["along"] else {}
        fact |= {"name": data["name"]} if data["name"] else {}
    return _answer(request, actions.add_fact(shot, fact, data["base"]))


@require_POST
def set_focal(request, show, shot):
    """The focal length as evidence, or to be solved."""
    shot = find(show, shot)
    form = FocalForm(request.POST, prefix="focal")
    if not form.is_valid():
        return _answer(request, shot, {"focal": form})
    if form.cleaned_data["lens"] and not shot.state["gate"]:
        form.add_error("focal", "A focal length in millimetres means nothing without the gate: give its size on the Gate step.")
        return _answer(request, shot, {"focal": form})
    return _answer(request, actions.set_focal(shot, form.cleaned_data["lens"], form.cleaned_data["base"]))


def _mark(shot: Shot, id_: str) -> dict:
    marks = {mark["id"]: mark for mark in shot.state["marks"]}
    if id_ not in marks:
        raise Problem("That mark is gone already.")
    return marks[id_]


def mark(request, show, shot, id_):
    """The form for one mark, and what is typed into it."""
    shot = find(show, shot)
    current = _mark(shot, id_)
    initial = {"name": current.get("name", ""), "axis": current.get("axis"), "sigma_px": f"{current.get('sigma_px', 0.5):g}", "base": shot.head.number}
    form = MarkForm(request.POST or None, mark=current, show=shot.show, initial=initial)
    if request.method == "POST" and form.is_valid():
        try:
            return _answer(request, actions.set_mark(shot, form.cleaned_data["mark"], form.cleaned_data["base"]))
        except (Locked, Stale):
            raise
        except Problem as problem:
            form.add_error(None, problem.sentence)
    points = [(index + 1, form[x], form[y]) for index, (x, y) in enumerate(form.point_fields)]
    world = [form[axis] for axis in ("across", "up", "along")] if current["kind"] == "spot" else []
    response = render(request, "match/_mark.html", {"shot": shot, "mark": current, "form": form, "points": points, "world": world})
    if request.method == "POST":
        response["HX-Retarget"] = "#mark"
    return response


def _base(request) -> int | None:
    base = request.POST.get("base", "")
    return int(base) if base.isdecimal() else None


def _verb(request, show, shot, id_, label, alter):
    shot = actions.change_item(find(show, shot), id_, label, alter, _base(request))
    if request.htmx:
        return _answer(request, shot)
    return HttpResponse(status=302, headers={"Location": shot.url("match")})


@require_POST
def switch(request, show, shot, id_):
    """Off or on."""
    off = request.POST.get("off") == "1"
    return _verb(request, show, shot, id_, f"{'Left out' if off else 'Took in'} {id_}",
                 lambda item: {**item, "off": True} if off else {key: value for key, value in item.items() if key != "off"})


@require_POST
def widen(request, show, shot, id_):
    """Three times the ±."""
    def alter(item):
        key = "plus_minus" if "plus_minus" in item else "sigma_px"
        return item | {key: 3 * item.get(key, 0.5)}
    return _verb(request, show, shot, id_, f"Widened the ± of {id_}", alter)


@require_POST
def remove(request, show, shot, id_):
    """Take a mark or fact out; undo brings it back."""
    return _verb(request, show, shot, id_, f"Removed {id_}", lambda item: None)


@require_POST
def load(request, show, shot):
    """Take marks, facts and lens from a match document file."""
    shot = find(show, shot)
    upload = request.FILES.get("document")
    if upload is None:
        raise Problem("Choose a match document, a .json file.")
    data = loads(upload.read(20_000_000))
    validate(data)
    plate = shot.state["plate"]
    if not plate or (data["image"]["width"], data["image"]["height"]) != (plate["width"], plate["height"]):
        raise Problem(f"The document is about a picture of {data['image']['width']} × {data['image']['height']} px, and this shot's plate has another size.")
    def change(state):
        state["marks"], state["facts"] = data.get("marks", []), data.get("facts", [])
        state["lens"] = {"focal_mm": None} | data.get("lens", {})
        if "gate" in data:
            state["gate"] = {"squeeze": 1.0, **data["gate"], "origin": "file", "name": ""}
    edit(shot, f"Took {upload.name[:80]}", change)
    return HttpResponse(status=302, headers={"Location": shot.url("match")})


