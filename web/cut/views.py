"""The page of a show's cut: a strip to scale, what is done to it, its files."""

from collections.abc import Mapping
from dataclasses import replace
from typing import Literal

from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from aperture.cut.cut import BETWEEN, Cut, free_ids
from aperture.errors import Problem
from aperture.formats import cut_files
from aperture.timecode import DROPPED, counted_rate, format_timecode, parse_timecode
from web.cut import actions, checks, pictures, retimed, sound_and_movie, speeds
from web.cut.pictures import WHATS
from web.plates.frames import way_of
from web.shows.models import Shot, Show
from web.shows.reading import Message, Text, given_file, read, whole
from web.shows.views import find as find_shot
from web.stage.cameras import MATCHED, camera_called
from web.ui.sending import sent

MOST_STEP = 100_000


def find(slug: str) -> Show:
    """The show at an address; 404 where there is none."""
    return get_object_or_404(Show.objects.kept(), slug=slug)


@require_GET
def cut(request, show):
    """The page."""
    show = find(show)
    shots = actions.shots_of(show)
    context = {
        "show": show,
        "page": page_data(show, shots),
        "kinds": cut_files.KINDS.items(),
        "betweens": BETWEEN.items(),
        "whats": WHATS.items(),
        "remarks": checks.remarks_of(show, shots),
        "retiming": retimed.latest(show),
    } | sound_and_movie.context(show, shots)
    return render(request, "cut/cut.html", context)


def page_data(show: Show, shots: Mapping[int, Shot] | None = None) -> dict:
    """All that the page's script draws; `shots`: as `actions.shots_of` has them, where they are
    read already."""
    shots = actions.shots_of(show) if shots is None else shots
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
        "title": made.title,
        "title_frames": made.title_frames,
        "counter": made.counter,
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
        "speed": speeds.typed(clip),
        "speed_says": speeds.about(shot, clip),
        "speed_curve": speeds.curve(clip),
        "between": clip.between,
        "over": clip.over,
        "camera": clip.camera or MATCHED,
        "cameras": _cameras(shot),
        "picture": reverse("cut-picture", args=[show.slug, shot.code, 0]).removesuffix("0.jpg"),
        "revision": shot.head.number,
        "fade_in": clip.fade_in,
        "fade_out": clip.fade_out,
        "dissolve": clip.dissolve,
        "sources": _sources(clip),
        "reach": [
            clip.first if clip.least is None else clip.least,
            clip.last if clip.most is None else clip.most,
        ],
        "handles": list(handles) if handles else None,
        "at": format_timecode(start + begin, show.rate, drop),
        **_pictures(shot),
    }


def _cameras(shot) -> list[list[str]]:
    """The cameras that a clip can be seen through: [id, name] each; the matched one first."""
    own = [[one["id"], one["name"]] for one in shot.state["cameras"]]
    return [[MATCHED, "the matched one"], *own]


def _sources(clip) -> list[float] | None:
    """The shot's frames of a clip that isn't shown plainly, with those that its dissolves need on
    either side; None of others."""
    if not clip.speeds:
        return None
    return [round(clip.moment(frame), 3) for frame in range(clip.length)]


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

    by : frames; to : a place among the clips; frame : of the clip's shot; name : of a shot, or a
    time code.
    """

    base: int
    verb: Literal[
        "move",
        "first",
        "last",
        "slip",
        "split",
        "double",
        "remove",
        "add",
        "start",
        "length",
        "speed",
        "fade",
        "title",
        "over",
        "camera",
    ]
    id: Text = ""
    by: int = 0
    to: int = 0
    frame: int = 0
    name: Text = ""
    between: Text = "repeat"
    fade_in: int = 0
    fade_out: int = 0
    dissolve: int = 0
    counter: bool = False


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
        return replace(made, start=start)
    if wish.verb == "title":
        return replace(made, title=wish.name.strip(), title_frames=wish.by, counter=wish.counter)
    if wish.verb == "camera":
        shot = actions.shots_of(show)
        clip = made.clips[made.index(wish.id)]
        own = next(one for one in shot.values() if one.code == clip.shot)
        if wish.name not in ("", MATCHED) and camera_called(own, wish.name) is None:
            raise Problem("That camera isn’t in the shot any more.")
        return made.through(wish.id, "" if wish.name == MATCHED else wish.name)
    if wish.verb == "over":
        return made.laid_over(wish.id, wish.to if wish.to >= 0 else None)
    if wish.verb == "fade":
        return made.faded(wish.id, wish.fade_in, wish.fade_out, wish.dissolve)
    if wish.verb == "speed":
        clip = made.clips[made.index(wish.id)]
        return made.retimed(wish.id, speeds.read(wish.name, clip), wish.between)
    if wish.verb == "length":
        clip = made.clips[made.index(wish.id)]
        if clip.speeds:
            raise Problem(
                "The length of a clip that goes at another speed follows from its frames: trim"
                " those.",
                "length",
            )
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
    return replace(made, clips=(*made.clips, actions.whole_clip(shot, new)))


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
        "speed": "Speed of a clip",
        "fade": "Fades of a clip",
        "over": "Laid a clip over the cut",
        "camera": "Camera of a clip",
        "title": "Title of the cut",
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


@require_GET
def sound(request, show):
    """The sound of the cut."""
    path = sound_and_movie.sound_of(find(show))
    if path is None:
        raise Http404
    return sent(path, "audio/wav")


@require_POST
def take_sound(request, show):
    """A WAV file to play with, or none."""
    show = find(show)
    if request.POST.get("remove"):
        sound_and_movie.remove_sound(show)
    else:
        upload = given_file(request, "file", "a WAV file", sound_and_movie.MOST_SOUND)
        sound_and_movie.take_sound(show, upload)
    return redirect("cut", show.slug)


@require_POST
def make_movie(request, show):
    """Begin to write the cut as a movie."""
    show = find(show)
    sound_and_movie.start_movie(
        show, request.POST.get("what", "plate"), bool(request.POST.get("burn_in"))
    )
    return redirect("cut", show.slug)


@require_POST
def retime(request, show):
    """Begin to make a clip at another speed a shot of its own."""
    show = find(show)
    retimed.start(show, request.POST.get("clip", "")[:64])
    return redirect("cut", show.slug)


@require_POST
def retime_anew(request, show, shot):
    """Begin to make a shot at another speed anew, or let it be a shot like others."""
    found = find_shot(show, shot)
    retimed.start_anew(found)
    return redirect(found.url("plate"))


@require_GET
def movie(request, show):
    """The newest movie."""
    show = find(show)
    path = sound_and_movie.movie_of(show)
    if path is None:
        raise Http404
    return sent(path, "video/mp4", f"{show.slug}_cut.mp4", save=True)


@require_GET
def picture(request, show, shot, frame):
    """What a shot shows on a frame: a render over the plate, or a drawing."""
    made = pictures.jpeg(
        find_shot(show, shot),
        frame,
        request.GET.get("what", "over"),
        request.GET.get("camera", "")[:64],
    )
    return HttpResponse(
        made, content_type="image/jpeg", headers={"Cache-Control": "private, max-age=3600"}
    )
