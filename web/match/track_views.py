"""The Tracks leaf of the Match page: beginning the long work, the tracks for the page's script, and
the verbs on them."""

from collections.abc import Sequence

import numpy as np
from django.http import HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.fence import run_fenced
from aperture.formats import points
from aperture.track.tracks import PLACED
from web.match import following, page, path_advice, tracking
from web.match.actions import remove_plane
from web.match.aids import Wish as AidsWish
from web.match.path_fits import film_document, path_fit
from web.match.starting import start_following, start_following_spots, start_solving
from web.match.track_verbs import AreaWish, Wish, carry_out, carry_out_area
from web.match.views import saved
from web.plates.models import require_film
from web.shows.reading import Message, base_of, given_file, read, whole
from web.shows.views import find

MOST_BYTES = 200_000_000  # of a table of points


def _whole(request, name: str, least: int, most: int) -> int:
    number = whole(request.POST.get(name, "").strip())
    if number is None or not least <= number <= most:
        raise Problem(f"Type a whole number from {least} to {most}.", name)
    return number


@require_POST
def follow(request, show, shot):
    """Begin to follow points through the marked range, or the spots of the frame that is worked on
    (`what`)."""
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
    """The tracks for the page's script, little-endian: how many places, then of all the track and
    the picture (int32), x, y and the residual (float32, px; −1 where the place isn't part of the
    path, −2 where nothing is solved), and whether it was placed by hand (uint8).
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
            (tracks.state == PLACED).astype("u1"),
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
    """The tracks' ids and what is told of them, beside `arrays`; and the keep-out areas."""
    state = find(show, shot).state
    tracks = tracking.tracks_of(state)
    return JsonResponse(
        {
            "ids": tracks.ids,
            "about": tracks.about,
            "keep_out": state["keep_out"],
            "leverage": _leverages(state, tracks.ids),
            "residual": _per_picture(state),
        }
    )


def _leverages(state, ids: Sequence[str]) -> list[float]:
    """Of each track the share of what the path's tracks determine; 0 where nothing is solved of
    it."""
    points_ = (path_fit(state) or {"points": {}})["points"]
    return [points_.get(id_, {}).get("leverage") or 0.0 for id_ in ids]


@require_GET
def advice(request, show, shot):
    """What to measure or follow next, for a quantity of the path."""
    shot = find(show, shot)
    told = path_advice.context(shot, request.GET.get("quantity", ""))
    return render(request, "match/_path_advice.html", told | {"shot": shot, "show": shot.show})


def _per_picture(state) -> dict | None:
    """The path's residual per picture, px, from the first one on; None without a path."""
    fit = path_fit(state)
    if not fit or not state["film"]:
        return None
    path = fit["path"]
    first = path["frames"][0] + state["shift"] - state["path"]["shift"] - state["film"]["offset"]
    return {"first": first, "values": path["residual_px"]}


class Looked(Message, frozen=True):
    """A frame that is looked at, and the aids that the page wishes for."""

    frame: int
    aids: AidsWish | None = None


@require_POST
def guides(request, show, shot):
    """The guides and aids of the path's camera on a frame: what is drawn over it while it is looked
    at."""
    looked = read(request, Looked)
    return JsonResponse(page.overlay_at(find(show, shot), looked.frame, looked.aids))


@require_POST
def change(request, show, shot):
    """Carry out a verb on the chosen tracks."""
    shot = find(show, shot)
    require_film(shot)
    wish = read(request, Wish)
    shot, chosen = carry_out(shot, wish)
    return saved(request, shot, wish.aids, {"chosen": chosen} if chosen else {})


@require_POST
def area(request, show, shot):
    """Carry out a verb on keep-out areas."""
    shot = find(show, shot)
    require_film(shot)
    wish = read(request, AreaWish)
    return saved(request, carry_out_area(shot, wish), wish.aids)


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
    elif plane := request.POST.get("plane"):
        remove_plane(shot, plane, base_of(request))
    elif request.POST.get("focals"):
        tracking.forget_focals(shot, base_of(request))
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
    """Take tracks from a table of frame, name, x, y, with the origin and pixel centres that were
    asked."""
    shot = find(show, shot)
    require_film(shot)
    upload = given_file(request, "table", "a table of points, a .csv or .txt file", MOST_BYTES)
    plate = shot.state["plate"]
    convention = points.Convention(
        from_bottom=request.POST.get("origin") == "bottom",
        centres=request.POST.get("centres") == "whole",
        height=plate["height"],
    )
    found = run_fenced(points.read, upload.read(), convention)
    tracking.take_imported(shot, found, upload.name[:80], base_of(request))
    return redirect(shot.url("match"))
