"""The page of a show's cut: a strip to scale, what is done to it, its files."""

from typing import Literal

from django.http import JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from aperture.cut.cut import Cut, free_ids
from aperture.errors import Problem
from aperture.formats import cut_files
from aperture.timecode import DROPPED, counted_rate, format_timecode, parse_timecode
from web.cut import actions
from web.plates.frames import way_of
from web.shows.models import Show
from web.shows.reading import Message, Text, given_file, read, whole

MOST_STEP = 100_000


def find(slug: str) -> Show:
    """The show at an address; 404 where there is none."""
    return get_object_or_404(Show.objects.kept(), slug=slug)


@require_GET
def cut(request, show):
    """The page."""
    show = find(show)
    context = {"show": show, "page": page_data(show), "kinds": cut_files.KINDS.items()}
    return render(request, "cut/cut.html", context)


def page_data(show: Show) -> dict:
    """All that the page's script draws."""
    shots = actions.shots_of(show)
    made, head = actions.cut_of(show, shots), actions.head_of(show)
    by_code = {shot.code: shot for shot in shots.values()}
    used = {clip.shot for clip in made.clips}
    following = actions.next_of(show, head)
    drop = show.rate in DROPPED
    return {
        "revision": head.number if head else 0,
        "undo": head.label if head else "",
        "redo": following.label if following else "",
        "rate": float(show.rate),
        "start": made.start,
        "start_says": format_timecode(made.start, show.rate, drop),
        "length": made.length,
        "seconds": round(made.length / float(show.rate), 3),
        "timecode": {
            "count": counted_rate(show.rate),
            "left_out": DROPPED.get(show.rate, 0),
        },
        "clips": [
            _clip(clip, begin, by_code[clip.shot], show, made.start, drop)
            for clip, begin in zip(made.clips, made.begins)
        ],
        "left_out": [
            {"code": code, "description": shot.description}
            for code, shot in by_code.items()
            if code not in used
        ],
    }


def _clip(clip, begin: int, shot, show: Show, start: int, drop: bool) -> dict:
    handles = clip.handles
    return {
        "id": clip.id,
        "code": clip.shot,
        "description": shot.description,
        "url": shot.url("plate"),
        "begin": begin,
        "first": clip.first,
        "last": clip.last,
        "length": clip.length,
        "handles": list(handles) if handles else None,
        "at": format_timecode(start + begin, show.rate, drop),
        **_pictures(shot),
    }


def _pictures(shot) -> dict:
    """Where a clip's pictures are: of a film by number, of a photograph one."""
    state = shot.state
    if state["film"]:
        way = way_of(state)
        return {
            "film": state["film"]["digest"],
            "offset": state["film"]["offset"],
            "way": {"flip": way.flip, "quarters": way.quarters},
        }
    return {"photograph": state["plate"]["digest"]} if state["plate"] else {}


class Wish(Message, frozen=True, kw_only=True):
    """What is done to the cut. `base`: the number of the cut that the page shows.

    by : frames; to : a place among the clips; frame : of the clip's shot; name : of a shot, or a time
    code.
    """

    base: int
    verb: Literal[
        "move", "first", "last", "slip", "split", "double", "remove", "add", "start", "length"
    ]
    id: Text = ""
    by: int = 0
    to: int = 0
    frame: int = 0
    name: Text = ""


@require_POST
def do(request, show):
    """Change the cut."""
    show, wish = find(show), read(request, Wish)
    if max(abs(wish.by), abs(wish.to), abs(wish.frame)) > 10**8:
        raise Problem("So many frames aren’t in any cut.")
    actions.change(show, _label(wish), lambda made: _done(show, made, wish), wish.base)
    return JsonResponse(page_data(show))


def _done(show: Show, made: Cut, wish: Wish) -> Cut:
    new = next(free_ids(made.clips))
    if wish.verb == "add":
        return _added(show, made, wish.name, new)
    if wish.verb == "start":
        start = parse_timecode(wish.name, show.rate)
        return Cut(made.clips, made.rate, start)
    if wish.verb == "length":
        clip = made.clips[made.index(wish.id)]
        return made.trimmed(wish.id, last_by=wish.by - clip.length)
    verbs = {
        "move": lambda: made.moved(wish.id, wish.to),
        "first": lambda: made.trimmed(wish.id, first_by=wish.by),
        "last": lambda: made.trimmed(wish.id, last_by=wish.by),
        "slip": lambda: made.slipped(wish.id, wish.by),
        "split": lambda: made.split(wish.id, wish.frame, new),
        "double": lambda: made.doubled(wish.id, new),
        "remove": lambda: made.without(wish.id),
    }
    return verbs[wish.verb]()


def _added(show: Show, made: Cut, code: str, new: str) -> Cut:
    shot = next((one for one in actions.shots_of(show).values() if one.code == code), None)
    if shot is None:
        raise Problem("There is no such shot in the show.")
    return Cut((*made.clips, actions.whole_clip(shot, new)), made.rate, made.start)


def _label(wish: Wish) -> str:
    return {
        "move": "Moved a clip",
        "first": "Trimmed a beginning",
        "last": "Trimmed an end",
        "length": "Length of a clip",
        "slip": "Slipped a clip",
        "split": "Split a clip",
        "double": "Doubled a clip",
        "remove": "Took a clip out",
        "add": f"Put {wish.name} in",
        "start": "Start of the cut",
    }[wish.verb]


@require_POST
def step(request, show, verb):
    """Undo or redo."""
    show = find(show)
    base = whole(request.POST.get("base"))
    if base is None:
        raise Problem("This page is too old: load it again.")
    (actions.undo if verb == "undo" else actions.redo)(show, base)
    return redirect("cut", show.slug)


@require_GET
def file(request, show, kind):
    """The cut as a file."""
    show = find(show)
    made = actions.cut_of(show)
    if not made.clips:
        raise Problem("The cut is empty: put a shot in first.")
    text = cut_files.write(made, kind, show.name)
    answer = JsonResponse({})
    answer.content = text.encode()
    answer["Content-Type"] = "application/json" if kind == "otio" else "text/plain; charset=utf-8"
    answer["Content-Disposition"] = f'attachment; filename="{show.slug}_cut.{kind}"'
    return answer


@require_POST
def take(request, show):
    """Make the cut that a file says."""
    show = find(show)
    upload = given_file(request, "file", "an OpenTimelineIO file or an EDL", cut_files.MOST_BYTES)
    kind = "edl" if upload.name.lower().endswith(".edl") else "otio"
    actions.take(show, upload.read(), kind, whole(request.POST.get("base")) or 0)
    return redirect("cut", show.slug)
