"""The page that lays a move into the set."""

from typing import Annotated, Literal

import msgspec
import numpy as np
from django.http import JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from aperture.errors import Problem
from aperture.moves.by_hand import dragged
from aperture.units import parse_length, parse_number
from web.match.forms import SurveyForm
from web.moves import align_actions, align_page, page
from web.moves.alignment import alignment_of
from web.moves.kept import move_called, moves_of
from web.plates.frames import frame_at, span_of
from web.plates.models import plate_of
from web.shows.reading import Edit, Message, Place, base_of, read
from web.shows.views import find, step_page
from web.stage.places import places_of

Stands = Annotated[list[float], msgspec.Meta(min_length=16, max_length=16)]
FIELDS = ("x", "y", "z", "heading", "tilt", "roll", "scale")


def align(request, show, shot, id_, form=None, status=200):
    """References of a move, where they say that it stands, and where it does."""
    shot = find(show, shot)
    kept = move_called(shot.state, id_)
    usual = {"unit": "m", "up_axis": "Y", "base": shot.head.number}
    context = {
        "plate": plate_of(shot),
        "kept": kept,
        "others": [one for one in moves_of(shot.state) if one.id != kept.id],
        "laid": align_page.laid(shot, kept),
        "options": alignment_of(shot.state, id_),
        "places": list(places_of(shot)),
        "points_form": form or SurveyForm(initial=usual, auto_id="id_points_%s"),
        "typed": align_page.stand_rows(shot, kept.stands),
        "page": {
            "seen": shot.url("moves-seen", id_),
            "hand": shot.url("moves-hand", id_),
            "stand": shot.url("moves-stand", id_),
            "sight": shot.url("moves-sight", id_),
            "places": {name: world for name, world in places_of(shot).items()},
            "stands": kept.stands.ravel().tolist(),
            "frame": frame_at(shot.state) if shot.state["film"] else span_of(shot.state)[0],
        },
    }
    return step_page(request, shot, "match", "moves/align.html", context, status)


def _back(shot, id_):
    return redirect(shot.url("moves-align", id_))


@require_POST
def points(request, show, shot, id_):
    """Reference points of the move's space, as a table."""
    found = find(show, shot)
    form = SurveyForm(request.POST, request.FILES, auto_id="id_points_%s")
    if not form.is_valid():
        return align(request, show, shot, id_, form, status=422)
    given, base = form.cleaned_data["points"], form.cleaned_data["base"]
    return _back(align_actions.add_points(found, id_, given, base), id_)


class Sight(Edit, frozen=True, kw_only=True):
    """A point of the set that was seen on a frame: at px of the plate, or on the lens axis."""

    place: Annotated[str, msgspec.Meta(max_length=200)]
    frame: int
    at: Place | None = None
    of: Annotated[str, msgspec.Meta(max_length=40)] | None = None


@require_POST
def sight(request, show, shot, id_):
    """Add a sighting."""
    shot, wish = find(show, shot), read(request, Sight)
    px = list(wish.at) if wish.at is not None else None
    align_actions.add_sighting(
        shot, id_, wish.place, wish.frame, wish.revision, px, wish.of or None
    )
    return JsonResponse({"ok": True})


@require_POST
def references(request, show, shot, id_):
    """What is typed of the references, and what is solved."""
    shot = find(show, shot)
    given = {}
    for one in alignment_of(shot.state, id_)["references"]:
        key = one["id"]
        typed = request.POST.get(f"pm_{key}", "")
        plus_minus = parse_number(typed, "The ±") if typed.strip() else one["plus_minus"]
        if not plus_minus > 0:
            raise Problem(f"The ± of “{one['name']}” is above zero.", f"pm_{key}")
        given[key] = {
            "place": request.POST.get(f"place_{key}", one["place"])[:200],
            "plus_minus": plus_minus,
            "on": f"on_{key}" in request.POST,
            "gone": f"gone_{key}" in request.POST,
        }
    level = request.POST.get("level_deg", "").strip()
    options = {
        "scale": "scale" in request.POST,
        "pupil": "pupil" in request.POST,
        "level_deg": parse_number(level, "The ± of the level") if level else None,
    }
    if options["level_deg"] is not None and not 0 < options["level_deg"] <= 90:
        raise Problem("The ± of the level is an angle above zero, in degrees.", "level_deg")
    base = base_of(request)
    return _back(align_actions.set_references(shot, id_, given, options, base), id_)


@require_POST
def stand_referred(request, show, shot, id_):
    """Stand the move where its references say."""
    return _back(align_actions.stand_as_referred(find(show, shot), id_, base_of(request)), id_)


@require_POST
def stand_typed(request, show, shot, id_):
    """Stand the move as typed."""
    shot = find(show, shot)
    unit = shot.show.length_unit
    typed = {name: request.POST.get(name, "").strip() for name in FIELDS}
    x, y, z = (parse_length(typed[name] or "0", unit, name.upper()) for name in FIELDS[:3])
    pan, tilt, roll = (parse_number(typed[name] or "0", name.capitalize()) for name in FIELDS[3:6])
    scale = parse_number(typed["scale"] or "1", "The scale")
    where = align_actions.Stand((x, y, z), pan, tilt, roll, scale)
    kept = move_called(shot.state, id_)
    label = f"Typed where {kept.name} stands"
    return _back(align_actions.stand(shot, id_, where.matrix(), label, base_of(request)), id_)


class Hand(Message, frozen=True, kw_only=True):
    """A drag over the plate. `stands`: where the move stood when it began."""

    frame: int
    stands: Stands
    way: Literal["slide", "turn", "raise"]
    start: Place
    end: Place


@require_POST
def hand(request, show, shot, id_):
    """Where the move would stand after a drag, and the set as it would be seen then."""
    shot, wish = find(show, shot), read(request, Hand)
    stands = _matrix(wish.stands)
    camera = page.camera_at(shot, id_, wish.frame, stands)
    if camera is None:
        raise Problem(f"The move has no camera on frame {wish.frame}.")
    stands = dragged(camera, stands, wish.way, wish.start, wish.end)
    return JsonResponse(
        {
            "stands": stands.ravel().tolist(),
            "typed": align_page.stand_rows(shot, stands),
            "seen": page.seen(shot, id_, wish.frame, stands),
        }
    )


class Let(Edit, frozen=True, kw_only=True):
    """The end of a drag."""

    stands: Stands


@require_POST
def stand(request, show, shot, id_):
    """Stand the move where it was dragged to."""
    shot, wish = find(show, shot), read(request, Let)
    kept = move_called(shot.state, id_)
    label = f"Stood {kept.name} by hand"
    align_actions.stand(shot, id_, _matrix(wish.stands), label, wish.revision)
    return JsonResponse({"ok": True})


def _matrix(values: list[float]) -> np.ndarray:
    """(4, 4) of numbers that a page sent. Raises Problem where they aren't where a space stands."""
    matrix = np.array(values, float).reshape(4, 4)
    size = np.linalg.det(matrix[:3, :3]) if np.isfinite(matrix).all() else 0.0
    scale = np.cbrt(size)
    rigid = matrix[:3, :3] / scale if scale > 0 else np.zeros((3, 3))
    is_turn = np.abs(rigid @ rigid.T - np.eye(3)).max() < 1e-6
    if not is_turn or np.abs(matrix[3] - [0, 0, 0, 1]).max() > 0 or np.abs(matrix).max() > 1e7:
        raise Problem("That isn’t a place where a move can stand.")
    return matrix
