"""A filmed plate on the Plate step: bringing it in, which of its frames is worked on, its small
pictures."""

from contextlib import suppress
from pathlib import Path
from typing import Annotated
from urllib.parse import urlencode

import msgspec
import numpy as np
from django.conf import settings
from django.http import Http404, HttpResponse, JsonResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect
from django.urls import NoReverseMatch
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from aperture.plates.proxies import TILE, region_png
from aperture.plates.sequences import tell_apart
from aperture.plates.way_in import SMALLEST, WayIn
from aperture.units import parse_number
from web.jobs import runner
from web.plates import film_actions, time_actions, way_actions
from web.plates.film_actions import MOST_FILES, MOVIES
from web.plates.film_page import timecode_of
from web.plates.frames import number_of, way_of
from web.plates.full_frames import full_frame, get_ready
from web.plates.models import Film, film_of, require_film
from web.plates.starting import (
    all_small,
    start_converting,
    start_flashes,
    start_mean,
    start_small_pictures,
)
from web.shows.reading import Edit, Message, base_of, frame_range, integer, read
from web.shows.steps import registered
from web.shows.views import find
from web.ui.sending import sent

# What a page's address says is chosen: it is still chosen on another frame.
CHOSEN, MOST_QUERY = ("item", "leaf", "through"), 500


def bring_in(shot, uploads, base):
    """Take uploaded files as the shot's filmed plate, and begin to make its small pictures."""
    files = [(Path(one.temporary_file_path()), one.name) for one in uploads]
    film = film_actions.bring_in_film(files)
    shot = film_actions.take_film(shot, film, base)
    start_small_pictures(shot, film)
    return redirect(shot.url("plate"))


Name = Annotated[str, msgspec.Meta(max_length=1000)]


class Names(Message, frozen=True):
    """The names of files that the artist has chosen or dropped, with their folders."""

    names: Annotated[list[Name], msgspec.Meta(max_length=MOST_FILES)] = []


@require_POST
def sequences(request, show, shot):
    """Which sequences files are, by their names, before any of them is sent; a movie counts as
    one."""
    find(show, shot)
    found, others = tell_apart(read(request, Names).names)
    told = [
        {
            "says": f"{one.name}, {one.first}–{one.last}",
            "files": [
                *one.files.values(),
                *(name for more in one.doubled.values() for name in more),
            ],
        }
        for one in found
    ]
    movies = [name for name in others if Path(name).suffix.lower() in MOVIES]
    told += [{"says": Path(name).name, "files": [name]} for name in movies]
    return JsonResponse({"sequences": told})


def _whole(request, name: str, says: str) -> int:
    text = request.POST.get(name, "")
    number = integer(text)
    if number is None:
        raise Problem(f"“{text.strip()[:30]}” isn’t {says}: type a whole number.", name)
    return number


@require_POST
def work_on(request, show, shot):
    """Make the frame that is typed the one to work on."""
    shot = find(show, shot)
    require_film(shot)
    number = number_of(shot.state, _whole(request, "frame", "a frame"))
    shot = film_actions.work_on(shot, number, base_of(request))
    return redirect(_page_of(shot, request.POST.get("back", "")) + _chosen(request))


def _chosen(request) -> str:
    """What was chosen on the page that one comes back to, as its address has it."""
    query = QueryDict(request.POST.get("query", "").removeprefix("?")[:MOST_QUERY])
    kept = {name: query[name] for name in CHOSEN if name in query}
    return f"?{urlencode(kept)}" if kept else ""


def _page_of(shot, back: str) -> str:
    """The address of a step's page, or of one of its leaves, by its name; the Plate step's else."""
    steps = registered()
    if back in steps:
        return shot.url(steps[back].url_name)
    if back.startswith(tuple(f"{step.url_name}-" for step in steps.values())):
        with suppress(NoReverseMatch):
            return shot.url(back)
    return shot.url("plate")


@require_POST
def shift(request, show, shot):
    """Shift the whole shot, or its pictures only (`what`): the first picture is the frame that is
    typed."""
    verb = (
        time_actions.begin_pictures_at
        if request.POST.get("what") == "pictures"
        else time_actions.begin_shot_at
    )
    shot = verb(find(show, shot), _whole(request, "first", "a frame"), base_of(request))
    return redirect(shot.url("plate"))


@require_POST
def convert(request, show, shot):
    """Convert the movie into numbered pictures."""
    shot = find(show, shot)
    start_converting(shot, require_film(shot))
    return redirect(shot.url("plate"))


@require_POST
def mean(request, show, shot):
    """Average the frames that are typed, `1001–1012`, and work on their mean."""
    shot = find(show, shot)
    film = require_film(shot)
    frames = frame_range(request.POST.get("frames", ""))
    if frames is None:
        raise Problem("Frames are two whole numbers, the first and the last, such as 1001–1012.")
    start_mean(shot, film, *frames)
    return redirect(shot.url("plate"))


@require_POST
def look_for_flashes(request, show, shot):
    """Look for lamps that light up, in all of the picture or within `region`: left, top, right,
    bottom as shares of it."""
    shot = find(show, shot)
    film = require_film(shot)
    text = request.POST.get("region", "").strip()
    region = None
    if text:
        try:
            left, top, right, bottom = (
                min(1.0, max(0.0, parse_number(part))) for part in text.split(",")
            )
        except ValueError:
            raise Problem("The area can’t be read: draw it on the picture.") from None
        if not (left < right and top < bottom):
            raise Problem("The area is empty: draw it on the picture.")
        # Drawn on the picture as it has come in; looked for in the film as it is.
        size, way = (film.width, film.height), way_of(shot.state)
        corners = np.array([[left, top], [right, bottom]]) * way.size(*size)
        ends = way.back(corners, size) / size
        region = *ends.min(axis=0).tolist(), *ends.max(axis=0).tolist()
    start_flashes(shot, film, region)
    return redirect(shot.url("plate") + "#clapper")


@require_POST
def way_in(request, show, shot):
    """Turn, mirror or make the plate's pictures smaller on their way in."""
    shot = find(show, shot)
    width = request.POST.get("width", "").strip()
    pixels = _whole(request, "width", "a width in px") if width else 0
    if width and not SMALLEST <= pixels <= 99_999:
        raise Problem(f"The width is at least {SMALLEST} px. Leave it empty to keep the file’s.")
    quarters = _whole(request, "quarters", "a number of quarters") % 4
    way = WayIn(request.POST.get("flip") == "on", quarters, pixels)
    shot = way_actions.set_way_in(shot, way, base_of(request))
    return redirect(shot.url("plate"))


@require_POST
def set_by_flash(request, show, shot):
    """Shift the pictures so that the one in which a lamp lights up is the frame that is typed."""
    shot = find(show, shot)
    film = require_film(shot)
    number = _whole(request, "number", "a picture")
    frame = _whole(request, "frame", "a frame")
    shot = time_actions.begin_pictures_at(shot, frame - (number - film.first), base_of(request))
    return redirect(shot.url("plate"))


FrameNumber = Annotated[int, msgspec.Meta(ge=-1_999_999_998, le=1_999_999_998)]


class Range(Edit, frozen=True, kw_only=True):
    """First and last frame that are marked; None: the whole plate."""

    range: tuple[FrameNumber, FrameNumber] | None = None


@require_POST
def mark_range(request, show, shot):
    """Mark the range of the shot, from the strip."""
    wanted = read(request, Range)
    shot = time_actions.mark_range(find(show, shot), wanted.range, wanted.revision)
    return JsonResponse({"revision": shot.head.number, "undo_label": shot.head.label})


@require_POST
def make_small(request, show, shot):
    """Go on with the small pictures where their job was stopped or failed."""
    shot = find(show, shot)
    film, running = film_of(shot), runner.latest(shot, film_actions.KIND)
    if film and not (running and running.under_way):
        start_small_pictures(shot, film)
    return redirect(shot.url("plate"))


def addressed_by_content(response):
    """An answer that may be kept for ever, as its address says what it holds."""
    response["Cache-Control"] = "private, max-age=31536000, immutable"
    return response


def small(request, digest, kind, number):
    """A small picture or a thumbnail; nothing (204) until it has been made, and for one that can't
    be."""
    path = settings.DATA / "films" / digest / kind / f"{number}.jpg"
    try:
        response = sent(path, "image/jpeg")
    except FileNotFoundError:
        if not Film.objects.filter(digest=digest).exists():
            raise Http404 from None
        return HttpResponse(status=204, headers={"Cache-Control": "no-store"})
    return addressed_by_content(response)


@require_GET
def tile(request, digest, number, column, row):
    """Real pixels of any picture: a PNG tile of 256 × 256."""
    film = get_object_or_404(Film, digest=digest)
    way = WayIn.parse(request.GET.get("way", ""))
    if way is None:
        raise Http404
    width, height = way.size(film.width, film.height)
    if column * TILE >= width or row * TILE >= height:
        return HttpResponse(status=404)
    png = region_png(full_frame(film, number, way), column * TILE, row * TILE, TILE, TILE)
    return addressed_by_content(HttpResponse(png, content_type="image/png"))


def strip(shot) -> dict | None:
    """What the frame strip's script needs; None for a photograph."""
    film = film_of(shot)
    if film is None:
        return None
    get_ready()
    part = shot.state["film"]
    job = runner.latest(shot, film_actions.KIND)
    rate, way = film.rate or shot.show.rate, way_of(shot.state)
    return {
        "digest": film.digest,
        "first": film.first,
        "last": film.last,
        "offset": part["offset"],
        "shown": part["shown"],
        "missing": film_actions.missing_of(film),
        "rate": float(rate),
        "timecode": timecode_of(film, rate),
        "range": shot.state["range"],
        "saves": shot.url("film-range"),
        "complete": all_small(film),
        "size": way.size(film.width, film.height),
        "way": {"name": str(way), "flip": way.flip, "quarters": way.quarters},
        "progress": shot.url("job-progress", film_actions.KIND) if job and job.under_way else None,
    }
