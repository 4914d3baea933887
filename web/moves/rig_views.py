"""The page of the simulated rig: a stand-in for the device on the stage."""

from django.http import HttpResponse, JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.formats import rig_files
from aperture.formats.recipe import Recipe
from web.moves import actions, align_actions
from web.moves.rig_page import PLACES, POINT_SPREAD_M, RigForm, drawn, points_of, written
from web.shows.models import Shot
from web.shows.reading import base_of
from web.shows.views import find, step_page

GROUPS = {
    "The move": ("kind", "turn_deg", "seconds", "profile"),
    "The rig": ("mount", "side", "arm_m", "focal_mm"),
    "Where it stands in the set": ("stand_x", "stand_z", "stand_turn"),
    "What it writes": ("ending", "unit", "up_axis", "rate"),
}


@require_GET
def rig(request, show, shot):
    """Program the rig, and see it play."""
    shot = find(show, shot)
    form = RigForm(request.GET, shot)
    problem, move = "", None
    if form.is_valid():
        try:
            move = drawn(shot, form)
        except Problem as error:
            problem = error.sentence
    context = {
        "form": form,
        "groups": [(name, [form[field] for field in fields]) for name, fields in GROUPS.items()],
        "places": [
            (title, name, [form[f"{name}_{axis}"] for axis in "xyz"])
            for name, title in PLACES.items()
        ],
        "problem": problem,
        "move": move,
        "page": {"play": shot.url("rig-play"), "move": move},
    }
    return step_page(request, shot, "match", "moves/rig.html", context)


@require_GET
def played(request, show, shot):
    """What a program does, for the page's script."""
    shot = find(show, shot)
    return JsonResponse(drawn(shot, _valid(RigForm(request.GET, shot))))


@require_GET
def file(request, show, shot):
    """The move as a file."""
    shot = find(show, shot)
    form = _valid(RigForm(request.GET, shot))
    return _attached(written(form), f"rig_{shot.code}{form.cleaned_data['ending']}")


@require_GET
def points(request, show, shot):
    """The rig's reference points as a table."""
    shot = find(show, shot)
    table = rig_files.references(
        points_of(shot, _valid(RigForm(request.GET, shot))), POINT_SPREAD_M
    )
    return _attached(table.encode(), f"rig_{shot.code}_points.csv")


@require_POST
def send(request, show, shot):
    """Send the move to the shot, and what the rig knows of the set's points."""
    shot = find(show, shot)
    form = _valid(RigForm(request.POST, shot))
    ending = form.cleaned_data["ending"]
    recipe = None
    if ending in rig_files.FLAT:
        recipe = Recipe(up_axis=form.cleaned_data["up_axis"], unit=form.cleaned_data["unit"])
    shot = actions.take(shot, f"Rig{ending}", written(form), recipe, base_of(request))
    id_ = shot.state["moves"][-1]["id"]
    known = points_of(shot, form)
    if known:
        given = [
            {"name": name, "world": at.tolist(), "plus_minus": POINT_SPREAD_M}
            for name, at in list(known.items())[: align_actions.MOST_REFERENCES]
        ]
        shot = align_actions.add_points(shot, id_, given, Shot.objects.get(pk=shot.pk).head.number)
    return redirect(shot.url("moves") + f"?move={id_}")


def _valid(form: RigForm) -> RigForm:
    if not form.is_valid():
        field, errors = next(iter(form.errors.items()))
        label = form.fields[field].label if field in form.fields else ""
        raise Problem(f"{label}: {errors[0]}" if label else str(errors[0]), field)
    return form


def _attached(data: bytes, name: str) -> HttpResponse:
    response = HttpResponse(data, content_type="application/octet-stream")
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response
