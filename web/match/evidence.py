"""The Match step's typed evidence: facts, marks by number, the lens, planes; switching, widening,
removing."""

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST

from aperture.errors import Problem
from aperture.match.file_focal import FILE_SHARE
from web.match import actions, report, sheet
from web.match.fact_forms import FORMS, NAMES, LensForm
from web.match.fits import fit_of
from web.match.forms import FocalForm, MarkForm, PlaneForm
from web.plates.models import metadata_of, plate_of
from web.shows.forms import on_form
from web.shows.models import Shot
from web.shows.reading import base_of
from web.shows.views import find


def _spots(shot):
    return [mark for mark in shot.state["marks"] if mark["kind"] == "spot"]


@require_POST
def add_fact(request, show, shot, kind):
    """A new fact, typed into the form of its kind."""
    shot = find(show, shot)
    if kind not in FORMS:
        raise Problem("There is no such kind of fact.")
    form = FORMS[kind](request.POST, show=shot.show, spots=_spots(shot), prefix=kind)
    if form.is_valid():
        with on_form(form):
            return report.answer(
                request, actions.add_fact(shot, form.fact(), form.cleaned_data["base"])
            )
    return report.answer(request, shot, {kind: form})


@require_POST
def set_focal(request, show, shot):
    """The focal length as evidence, or to be solved."""
    shot = find(show, shot)
    form = FocalForm(request.POST, prefix="focal")
    if not form.is_valid():
        return report.answer(request, shot, {"focal": form})
    if form.cleaned_data["lens"] and not shot.state["gate"]:
        form.add_error(
            "focal",
            "A focal length in millimetres means nothing without the gate: give its size on the"
            " Gate step.",
        )
        return report.answer(request, shot, {"focal": form})
    return report.answer(
        request, actions.set_focal(shot, form.cleaned_data["lens"], form.cleaned_data["base"])
    )


@require_POST
def set_lens(request, show, shot):
    """Projection, centre, distortion: what is given and what is left free."""
    shot = find(show, shot)
    form = LensForm(request.POST, prefix="lens")
    if form.is_valid():
        with on_form(form):
            return report.answer(
                request,
                actions.set_lens(
                    shot, form.cleaned_data["lens"], "Lens of the match", form.cleaned_data["base"]
                ),
            )
    return report.answer(request, shot, {"lens": form})


@require_POST
def hold(request, show, shot, what):
    """A remedy: hold what the marks don't determine. The centre in the middle, or the lens straight
    (or as given)."""
    shot = find(show, shot)
    lens = {
        key: value
        for key, value in shot.state["lens"].items()
        if key not in ("focal_mm", "focal_kept", "name")
    }
    if what == "centre":
        lens["principal_point"] = "centre"
    elif what in ("k1", "k2", "k3", "p1", "p2", "distortion"):
        bend = lens.get("distortion", "none")
        bend = {} if bend == "none" else dict(bend)
        left = [name for name in bend.get("free", ()) if what not in ("distortion", name)]
        bend = {key: value for key, value in bend.items() if key != "free"} | (
            {"free": left} if left else {}
        )
        lens["distortion"] = bend or "none"
    else:
        raise Problem("There is nothing of that name to hold.")
    actions.set_lens(
        shot,
        lens,
        "Centre held in the middle" if what == "centre" else f"{what} held",
        base_of(request),
    )
    return HttpResponse(status=302, headers={"Location": shot.url("match")})


@require_POST
def free(request, show, shot, what):
    """A remedy: free a coefficient of distortion that the marks ask for."""
    shot = find(show, shot)
    if what not in LensForm.COEFFICIENTS:
        raise Problem("There is no coefficient of that name.")
    kept = ("focal_mm", "focal_kept", "name")
    lens = {key: value for key, value in shot.state["lens"].items() if key not in kept}
    bend = lens.get("distortion", "none")
    bend = {} if bend == "none" else dict(bend)
    lens["distortion"] = bend | {"free": sorted({*bend.get("free", ()), what})}
    actions.set_lens(shot, lens, f"{what} freed", base_of(request))
    return HttpResponse(status=302, headers={"Location": shot.url("match")})


@require_POST
def take_file_focal(request, show, shot):
    """A remedy: the focal length that the file tells, as a fact with its ±."""
    shot = find(show, shot)
    plate = plate_of(shot)
    focal_mm = metadata_of(shot.state, plate).get("focal_mm")
    if not focal_mm or not shot.state["gate"]:
        raise Problem("The file tells no focal length, or the gate isn't known.")
    given = {"value": focal_mm, "plus_minus": round(FILE_SHARE * focal_mm, 4)}
    actions.set_focal(shot, given, base_of(request))
    return HttpResponse(status=302, headers={"Location": shot.url("match")})


@require_POST
def mistrust(request, show, shot):
    """Let the fit leave out marks that the others contradict, or not."""
    shot = find(show, shot)
    robust = request.POST.get("robust") == "1"
    return report.answer(request, actions.set_robust(shot, robust, base_of(request)))


@require_POST
def put_plane(request, show, shot):
    """A named plane for spots to lie on."""
    shot = find(show, shot)
    form = PlaneForm(request.POST, show=shot.show, prefix="plane")
    if not form.is_valid():
        return report.answer(request, shot, {"plane": form})
    data = form.cleaned_data
    return report.answer(
        request,
        actions.put_plane(
            shot,
            {"name": data["name"], "axis": data["axis"], "metres": data["place"]},
            data["base"],
        ),
    )


@require_POST
def remove_plane(request, show, shot, id_):
    """Take a plane out."""
    return report.answer(request, actions.remove_plane(find(show, shot), id_, base_of(request)))


def _item(shot: Shot, id_: str) -> dict:
    items = {item["id"]: item for item in shot.state["marks"] + shot.state["facts"]}
    if id_ not in items:
        raise Problem("That mark is gone already.")
    return items[id_]


def mark(request, show, shot, id_):
    """The form for one mark or fact, what it does to the fit, and what is typed into it."""
    shot = find(show, shot)
    current = _item(shot, id_)
    if "kind" in current and current["kind"] in NAMES:
        return _fact(request, shot, current)
    initial = {
        "name": current.get("name", ""),
        "axis": current.get("axis"),
        "sigma_px": f"{current.get('sigma_px', 0.5):g}",
        "check": current.get("check", False),
        "base": shot.head.number,
    }
    form = MarkForm(
        request.POST or None,
        mark=current,
        show=shot.show,
        planes=shot.state.get("planes", []),
        initial=initial,
    )
    if request.method == "POST" and form.is_valid():
        with on_form(form):
            return report.answer(
                request,
                actions.set_mark(shot, form.cleaned_data["mark"], form.cleaned_data["base"]),
            )
    spot = current["kind"] == "spot"
    context = {
        "points": [(index + 1, form[x], form[y]) for index, (x, y) in enumerate(form.point_fields)],
        "world": [form[axis] for axis in ("across", "up", "along")] if spot else [],
        "kind": current["kind"].capitalize(),
    }
    return _shown(request, shot, current, form, context)


def _fact(request, shot, current):
    kind = FORMS[NAMES[current["kind"]]]
    form = kind(
        request.POST or None,
        show=shot.show,
        spots=_spots(shot),
        initial=kind.initial_of(current, shot.show) | {"base": shot.head.number},
        prefix="changed",
    )
    if request.method == "POST" and form.is_valid():
        return report.answer(
            request,
            actions.change_fact(shot, current["id"], form.fact(), form.cleaned_data["base"]),
        )
    return _shown(request, shot, current, form, {"fact": True, "kind": kind.title})


def _shown(request, shot, current, form, context):
    context |= {
        "shot": shot,
        "mark": current,
        "form": form,
        "does": sheet.does(shot, fit_of(shot.state), current["id"]),
    }
    response = render(request, "match/_mark.html", context)
    if request.method == "POST":
        response["HX-Retarget"] = "#mark"
        response.status_code = 422
    return response


def _verb(request, show, shot, id_, label, alter):
    shot = actions.change_item(find(show, shot), id_, label, alter, base_of(request))
    if request.htmx:
        return report.answer(request, shot)
    return HttpResponse(status=302, headers={"Location": shot.url("match")})


@require_POST
def switch(request, show, shot, id_):
    """Off or on."""
    off = request.POST.get("off") == "1"
    return _verb(
        request,
        show,
        shot,
        id_,
        f"{'Left out' if off else 'Took in'} {id_}",
        lambda item: (
            {**item, "off": True}
            if off
            else {key: value for key, value in item.items() if key != "off"}
        ),
    )


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
