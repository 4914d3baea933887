"""The page of moves: cameras out of files, checked, compared, and put to use."""

from urllib.parse import urlencode

from django.http import JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.formats import moves_in
from aperture.formats.recipe import Recipe
from aperture.units import parse_length, parse_number
from web.blobs import store
from web.jobs import runner
from web.moves import actions, page
from web.moves.forms import AS_IT_WAS, SettingsForm, needs_recipe
from web.moves.kept import Kept, move_called, moves_of
from web.moves.time_actions import KIND
from web.plates.frames import frame_at, span_of
from web.plates.models import plate_of
from web.shows.reading import base_of, given_file, given_name, integer, wants_json, whole
from web.shows.refusals import Refused
from web.shows.views import find, step_page


def moves(request, show, shot, form=None, status=200):
    """The moves of a shot; ?move= chooses one, the newest is chosen else."""
    shot = find(show, shot)
    kept = moves_of(shot.state)
    chosen = next((one for one in kept if one.id == request.GET.get("move")), None)
    if chosen is None and kept:
        chosen = next((one for one in kept if one.id == shot.state["serving"]), kept[-1])
    context = {
        "plate": plate_of(shot),
        "moves": kept,
        "serving": shot.state["serving"],
        "recipes": shot.show.recipes.all(),
        "endings": ",".join(moves_in.FORMATS),
        "formats": ", ".join(sorted({one.name for one in moves_in.FORMATS.values()})),
        "chosen": chosen,
    }
    if chosen is not None:
        context |= _of_chosen(shot, chosen, form)
    return step_page(request, shot, "match", "moves/moves.html", context, status)


def _of_chosen(shot, chosen: Kept, form) -> dict:
    first, last = span_of(shot.state)
    compared = page.compared(shot.state, chosen.id)
    drawn = compared.curve(first, last) if compared and len(compared.each) > 1 else None
    return {
        "form": form or SettingsForm(kept=chosen, base=shot.head.number),
        "needs_recipe": needs_recipe(chosen),
        "rows": page.rows(shot, chosen),
        "remarks": page.remarks(shot, chosen),
        "compared": compared,
        "job": runner.latest(shot, KIND) if shot.state["film"] else None,
        "curves": [*([drawn] if drawn else []), *page.drift(shot, chosen)],
        "evidence": shot.state["move_evidence"],
        "first": first,
        "count": last - first + 1,
        "page": {
            "seen": shot.url("moves-seen", chosen.id),
            "frame": frame_at(shot.state) if shot.state["film"] else first,
        },
    }


def _back(shot, id_: str | None = None):
    return redirect(shot.url("moves") + (f"?move={id_}" if id_ else ""))


def _recipe(shot, request, kept: Kept | None = None) -> Recipe | None:
    """The chosen recipe; of a table without one, as the show counts, or as it was understood
    before.
    """
    chosen = request.POST.get("recipe", "")
    if kept is not None and chosen in ("", AS_IT_WAS):
        return kept.recipe
    row = shot.show.recipes.filter(pk=whole(chosen)).first() if chosen else None
    if row is not None:
        return row.conventions
    return Recipe(up_axis=shot.show.up_axis, unit=shot.show.length_unit)


@require_POST
def take(request, show, shot):
    """Bring a move in out of a file."""
    shot, kinds = find(show, shot), ", ".join(moves_in.FORMATS)
    upload = given_file(request, "file", f"a file with a camera ({kinds})", moves_in.MOST_BYTES)
    is_table, data = moves_in.format_of(upload.name).needs_recipe, upload.read()
    recipe = _recipe(shot, request) if is_table else None
    if is_table and "columns" in request.POST:
        return _to_columns(shot, upload.name, data)
    try:
        shot = actions.take(shot, upload.name, data, recipe, base_of(request))
    except Refused:
        raise
    except Problem as problem:
        if not is_table or wants_json(request):
            raise
        return _to_columns(shot, upload.name, data, problem.sentence)
    return _back(shot, shot.state["moves"][-1]["id"])


def _to_columns(shot, name: str, data: bytes, says: str = ""):
    """To the page on which the columns of a table get their names."""
    query = urlencode({"file": store.put(data), "name": name[:120], "says": says})
    return redirect(shot.url("moves-columns") + f"?{query}")


@require_POST
def understand(request, show, shot, id_):
    """Read the file of a move again in another way."""
    found = find(show, shot)
    kept = move_called(found.state, id_)
    form = SettingsForm(request.POST, kept=kept, base=found.head.number)
    if not form.is_valid():
        return moves(request, show, shot, form, status=422)
    settings, base = form.cleaned_data["settings"], form.cleaned_data["base"]
    actions.understand(found, id_, settings, _recipe(found, request, kept), base)
    return _back(found, id_)


@require_POST
def rename(request, show, shot, id_):
    """Give a move another name."""
    shot = find(show, shot)
    return _back(actions.rename(shot, id_, given_name(request, 80), base_of(request)), id_)


@require_POST
def remove(request, show, shot, id_):
    """Take a move out."""
    return _back(actions.remove(find(show, shot), id_, base_of(request)))


@require_POST
def serve(request, show, shot, id_):
    """Make a move the shot's camera, or (`stop`) the shot's own match again."""
    chosen = None if "stop" in request.POST else id_
    return _back(actions.serve(find(show, shot), chosen, base_of(request)), id_)


@require_POST
def evidence(request, show, shot, id_):
    """Make a move evidence about the path, or (`stop`) leave it out again."""
    shot = find(show, shot)
    metres, degrees = None, 0.1
    if "stop" not in request.POST:
        unit = shot.show.length_unit
        metres = parse_length(request.POST.get("plus_minus", ""), unit, "The ± of its places")
        degrees = parse_number(request.POST.get("plus_minus_deg", ""), "The ± of its turns")
    return _back(actions.make_evidence(shot, id_, metres, degrees, base_of(request)), id_)


@require_POST
def into_set(request, show, shot, id_):
    """Put the camera that a move has on a frame into the set."""
    shot, frame = find(show, shot), integer(request.POST.get("frame"))
    if frame is None:
        raise Problem("Type the frame, a whole number.", "frame")
    shot = actions.put_into_set(shot, id_, frame, base_of(request))
    return redirect(shot.url("set") + f"?leaf=cameras&through={shot.state['cameras'][-1]['id']}")


@require_GET
def seen(request, show, shot, id_):
    """What is drawn over the plate on a frame."""
    shot, frame = find(show, shot), integer(request.GET.get("frame"))
    if frame is None:
        raise Problem("Say the frame, a whole number.", "frame")
    return JsonResponse(page.seen(shot, id_, frame))
