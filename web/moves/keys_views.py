"""The page on which a move is drawn by keys, flown by hand, and flown by an aircraft."""

from typing import Annotated, Any

import msgspec
import numpy as np
from django.http import JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.moves.flight import PRESETS
from aperture.moves.readings import NAMES, Limits
from aperture.units import parse_number
from web.moves import authoring, keys_page
from web.moves.kept import move_called, rate_of
from web.moves.models import MoveLimits
from web.plates.models import plate_of
from web.shows.reading import Edit, Message, Text, base_of, read
from web.shows.views import find, step_page

USUAL_TOLERANCE = 0.5  # px
Pose = Annotated[list[float], msgspec.Meta(min_length=16, max_length=16)]


@require_GET
def keys(request, show, shot, id_):
    """Draw a move."""
    shot = find(show, shot)
    kept = move_called(shot.state, id_)
    authored = authoring.require_authored(kept)
    limits = MoveLimits.of(shot.show)
    context = {
        "kept": kept,
        "authored": authored,
        "page": keys_page.page_data(shot, kept, authored),
        "plate": plate_of(shot),
        "claim": keys_page.claim_of_flying_lens(shot, authored),
        "presets": [(name, title) for name, (title, _) in PRESETS.items()],
        "aircraft": keys_page.AIRCRAFT.items(),
        "channels": keys_page.TITLES.items(),
        "views": [("plan", "From above"), ("front", "Front"), ("side", "Side")],
        "read_outs": [(name, title) for name, (title, _) in keys_page.READ_OUTS.items()],
        "limits": [
            (name, f"{title} ({unit})", getattr(limits, name))
            for name, (title, unit) in NAMES.items()
        ],
    }
    return step_page(request, shot, "match", "moves/keys.html", context)


@require_POST
def begin(request, show, shot):
    """Begin a move."""
    shot = authoring.begin(find(show, shot), base_of(request))
    return redirect(shot.url("moves-keys", shot.state["moves"][-1]["id"]))


@require_POST
def thin(request, show, shot, id_):
    """A move of few keys out of one with a key on every frame."""
    shot = find(show, shot)
    px = parse_number(request.POST.get("tolerance") or str(USUAL_TOLERANCE), "The tolerance")
    shot = authoring.thin_out(shot, id_, px, base_of(request))
    return redirect(shot.url("moves-keys", shot.state["moves"][-1]["id"]))


class Drawn(Message, frozen=True, kw_only=True):
    """Keys and what flies them, as the page has them."""

    authored: dict[str, Any]
    aircraft: dict[str, Any] | None = None


@require_POST
def attempt(request, show, shot, id_):
    """What keys would make."""
    shot, wish = find(show, shot), read(request, Drawn)
    kept = move_called(shot.state, id_)
    made = authoring.from_message({"authored": wish.authored, "aircraft": wish.aircraft})
    return JsonResponse(keys_page.sampled(shot, kept, *made))


class Save(Edit, frozen=True, kw_only=True):
    """Keys to be kept. `run`: small edits of one kind become one revision."""

    authored: dict[str, Any]
    aircraft: dict[str, Any] | None = None
    label: Text = "keys"
    run: Text = ""
    key_here: Pose | None = None
    flying_lens: bool = False
    frame: int = 0


@require_POST
def save(request, show, shot, id_):
    """Keep the keys; with `key_here` after putting keys with a camera's pose on a frame."""
    shot, wish = find(show, shot), read(request, Save)
    authored, aircraft = authoring.from_message(
        {"authored": wish.authored, "aircraft": wish.aircraft}
    )
    if wish.key_here is not None:
        authored = authoring.key_here(authored, wish.frame, _pose(wish.key_here))
    if wish.flying_lens:
        authored = authoring.for_flying(authored)
    shot = authoring.set_keys(
        shot, id_, authored, aircraft, wish.label, wish.revision, wish.run[:60]
    )
    return _saved(shot, id_)


class Record(Edit, frozen=True, kw_only=True):
    """A flight by hand: poses at moments, in seconds after a frame, thinned out within px."""

    authored: dict[str, Any]
    aircraft: dict[str, Any] | None = None
    frame: int
    seconds: Annotated[list[float], msgspec.Meta(max_length=authoring.MOST_RECORDED)]
    poses: Annotated[list[Pose], msgspec.Meta(max_length=authoring.MOST_RECORDED)]
    px: float = USUAL_TOLERANCE


@require_POST
def record(request, show, shot, id_):
    """Keep what was flown by hand."""
    shot, wish = find(show, shot), read(request, Record)
    authored, aircraft = authoring.from_message(
        {"authored": wish.authored, "aircraft": wish.aircraft}
    )
    poses = np.array([_pose(one) for one in wish.poses])
    flight = authoring.Recorded(wish.frame, np.array(wish.seconds), poses)
    authored = authoring.recorded(authored, flight, authoring.grid_of(shot), rate_of(shot), wish.px)
    shot = authoring.set_keys(shot, id_, authored, aircraft, "recorded", wish.revision)
    return _saved(shot, id_)


def _saved(shot, id_) -> JsonResponse:
    kept = move_called(shot.state, id_)
    authored = authoring.require_authored(kept)
    return JsonResponse(
        {
            "revision": shot.head.number,
            "undo_label": shot.head.label,
            "authored": authored.to_json(),
            "made": keys_page.sampled(shot, kept, authored, kept.aircraft),
        }
    )


def _pose(values: list[float]) -> np.ndarray:
    """(4, 4) of numbers. Raises Problem where they are no pose."""
    pose = np.array(values, float).reshape(4, 4)
    turn = pose[:3, :3]
    if not np.isfinite(pose).all() or np.abs(turn @ turn.T - np.eye(3)).max() > 1e-4:
        raise Problem("That isn’t the pose of a camera.")
    left, _, right = np.linalg.svd(turn)  # single precision in the browser
    pose[:3, :3] = left @ right
    return pose


@require_POST
def limits(request, show, shot, id_):
    """What the show's dolly and head can do."""
    shot = find(show, shot)
    typed = {
        name: parse_number(request.POST.get(name, ""), title) for name, (title, _) in NAMES.items()
    }
    found = Limits(**typed)
    MoveLimits.objects.update_or_create(show=shot.show, defaults={"settings": found.to_json()})
    return redirect(shot.url("moves-keys", id_))
