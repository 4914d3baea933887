"""The Tracks leaf of the Match page: beginning the long work, the tracks for the page's script, and the verbs on them."""

from typing import Annotated, Literal

import msgspec
import numpy as np
from django.http import HttpResponse, JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.fence import run_fenced
from aperture.formats import points
from aperture.units import parse_length
from web.match import following, tracking
from web.match.aids import Wish as AidsWish
from web.match.overlay import draw
from web.match.path_fits import film_document, path_fit, path_of_state
from web.match.starting import start_following, start_following_spots, start_solving
from web.match.views import saved
from web.plates.models import require_film
from web.shows.reading import Edit, Text, base_of, read, whole
from web.shows.views import find

# How well a tape is read, where nothing is typed: metres.
USUAL_PLUS_MINUS_M = 0.005
MOST_BYTES = 200_000_000  # of a table of points


def _whole(request, name: str, least: int, most: int) -> int:
    text = request.POST.get(name, "").strip()
    if not (text.isascii() and text.isdigit() and least <= int(text[:9]) <= most):
        raise Problem(f"Type a whole number from {least} to {most}.", name)
    return int(text)


@require_POST
def follow(request, show, shot):
    """Begin to follow points through the marked range, or the spots of the frame that is worked on (`what`)."""
    shot = find(show, shot)
    reach = _whole(request, "reach", min(following.REACHES), max(following.REACHES))
    if request.POST.get("what") == "spots":
        start_following_spots(shot, reach)
    else:
        wanted = _whole(request, "wanted", following.FEWEST_WANTED, following.MOST_WANTED)
        start_following(shot, wanted, reach)
    return redirect(shot.url("match"))


@require_POST
def solve(request, show, shot):
    """Begin to solve the path."""
    shot = find(show, shot)
    start_solving(shot)
    return redirect(shot.url("match"))


@require_GET
def arrays(request, show, shot):
    """The tracks for the page's script, little-endian: how many places, then of all the track and the picture
    (int32), x, y and the residual (float32, px; −1 where the place isn't part of the path, −2 where nothing is solved).
    """
    shot = find(show, shot)
    tracks = tracking.tracks_of(shot.state)
    data = b"".join(
        part.tobytes()
        for part in (
            np.array([len(tracks.frame)], "<i4"),
            tracks.track.astype("<i4"),
            tracks.frame.astype("<i4"),
            tracks.xy.astype("<f4"),
            _residuals(shot, tracks).astype("<f4"),
        )
    )
    return HttpResponse(data, content_type="application/octet-stream")


def _residuals(shot, tracks) -> np.ndarray:
    """Per place the residual of its track, px."""
    fit = path_fit(shot.state)
    if not fit or not len(tracks):
        return np.full(len(tracks.frame), -2.0)
    points_ = fit["points"]
    each = [
        points_[id_]["residual_px"] if points_.get(id_, {}).get("residual_px") is not None else -1.0
        for id_ in tracks.ids
    ]
    return np.array(each)[tracks.track]


@require_GET
def told(request, show, shot):
    """The tracks' ids and what is told of them, beside `arrays`."""
    tracks = tracking.tracks_of(find(show, shot).state)
    return JsonResponse({"ids": tracks.ids, "about": tracks.about})


@require_GET
def guides(request, show, shot):
    """The guides of the path's camera on a frame: what is drawn over it while it is looked at."""
    shot = find(show, shot)
    frame = whole(request.GET.get("frame"))
    path = path_of_state(shot.state)
    if frame is None or path is None or frame not in path:
        return JsonResponse({"paths": [], "labels": [], "says": ""})
    camera, determined = path.at(frame), path_fit(shot.state)["determined"]
    told = {"camera": {"position_m": camera.position.tolist()}, "determined": determined}
    return JsonResponse(draw(camera, told, [], shot.show.length_unit, residuals=False))


Ids = Annotated[list[Text], msgspec.Meta(max_length=tracking.MOST_CHOSEN)]
Verb = Literal["remove", "end", "floor", "origin", "free", "off", "on", "distance", "height"]


class Wish(Edit, frozen=True, kw_only=True):
    """A verb on chosen tracks; `frame` for those about a frame, `length` and `plus_minus` as typed."""

    verb: Verb
    ids: Ids = []
    frame: int = 0
    length: Text = ""
    plus_minus: Text = ""
    aids: AidsWish | None = None


@require_POST
def change(request, show, shot):
    """Carry out a verb on the chosen tracks."""
    shot = find(show, shot)
    require_film(shot)
    wish = read(request, Wish)
    return saved(request, _VERBS[wish.verb](shot, wish), wish.aids)


def _floor(shot, wish):
    return tracking.tell(
        shot, wish.ids, "On the floor", wish.revision, world=[None, 0, None], world_plus_minus=0.0
    )


def _origin(shot, wish):
    if len(set(wish.ids)) != 1:
        raise Problem("The origin is one track: choose one.")
    return tracking.tell(
        shot, wish.ids, "Origin", wish.revision, world=[0, 0, 0], world_plus_minus=0.0
    )


def _free(shot, wish):
    return tracking.tell(
        shot, wish.ids, "Place unknown", wish.revision, world=None, world_plus_minus=None
    )


def _measured(shot, wish) -> dict[str, float]:
    """A typed length and its ±, metres."""
    unit = shot.show.length_unit
    metres = parse_length(wish.length, unit)
    plus_minus = (
        parse_length(wish.plus_minus, unit) if wish.plus_minus.strip() else USUAL_PLUS_MINUS_M
    )
    if plus_minus < 0:
        raise Problem("A ± is never below zero.", "plus_minus")
    return {"metres": metres, "plus_minus": plus_minus}


def _distance(shot, wish):
    ids = list(dict.fromkeys(wish.ids))
    if len(ids) != 2:
        raise Problem("A distance lies between two tracks: choose two.")
    fact = {"kind": "length", "from": ids[0], "to": ids[1], **_measured(shot, wish)}
    if fact["metres"] <= 0:
        raise Problem("A distance is above zero.", "length")
    return tracking.add_fact(shot, fact, wish.revision)


def _height(shot, wish):
    number = tracking.picture_of(shot.state, wish.frame)
    fact = {"kind": "camera_height", "frame": number, **_measured(shot, wish)}
    return tracking.add_fact(shot, fact, wish.revision)


_VERBS = {
    "remove": lambda shot, wish: tracking.remove(shot, wish.ids, wish.revision),
    "end": lambda shot, wish: tracking.end(
        shot, wish.ids, tracking.picture_of(shot.state, wish.frame), wish.revision
    ),
    "floor": _floor,
    "origin": _origin,
    "free": _free,
    "off": lambda shot, wish: tracking.tell(
        shot, wish.ids, "Switched off", wish.revision, off=True
    ),
    "on": lambda shot, wish: tracking.tell(shot, wish.ids, "Switched on", wish.revision, off=None),
    "distance": _distance,
    "height": _height,
}


@require_POST
def drop(request, show, shot):
    """Take a fact back: what is known of a track's place, or a fact about tracks and frames."""
    shot = find(show, shot)
    if track := request.POST.get("track"):
        tracking.tell(
            shot,
            [track],
            "Place unknown",
            base_of(request),
            world=None,
            world_plus_minus=None,
        )
    else:
        tracking.remove_fact(shot, request.POST.get("fact", ""), base_of(request))
    return redirect(shot.url("match"))


@require_GET
def document(request, show, shot):
    """The match document, version 2."""
    return JsonResponse(film_document(find(show, shot).state) or {})


@require_GET
def table(request, show, shot):
    """The tracks as a table of frame, name, x, y, ±."""
    shot = find(show, shot)
    tracks = tracking.tracks_of(shot.state)
    offset = shot.state["film"]["offset"] if shot.state["film"] else 0
    response = HttpResponse(points.write(tracks.shifted(offset)), content_type="text/csv")
    response["Content-Disposition"] = f'attachment; filename="{shot.code}_tracks.csv"'
    return response


@require_POST
def take_table(request, show, shot):
    """Take tracks from a table of frame, name, x, y, with the origin and pixel centres that were asked."""
    shot = find(show, shot)
    require_film(shot)
    upload = request.FILES.get("table")
    if upload is None:
        raise Problem("Choose a table of points, a .csv or .txt file.", "table")
    plate = shot.state["plate"]
    convention = points.Convention(
        from_bottom=request.POST.get("origin") == "bottom",
        centres=request.POST.get("centres") == "whole",
        height=plate["height"],
    )
    found = run_fenced(points.read, upload.read(MOST_BYTES), convention)
    tracking.take_imported(shot, found, upload.name[:80], base_of(request))
    return redirect(shot.url("match"))
