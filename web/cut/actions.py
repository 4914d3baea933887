"""The cut of a show: read, changed, undone, taken from a file."""

from collections.abc import Callable, Mapping

from django.db import transaction

from aperture.cut.cut import MOST_CLIPS, Clip, Cut, free_ids
from aperture.errors import Problem
from aperture.formats.cut_files import Read, laid, read
from web.cut.models import CutHead, CutRevision
from web.plates.frames import frame_at, span_of
from web.shows.history import create_shot
from web.shows.models import Shot, Show
from web.shows.organise import free_code
from web.shows.refusals import Moved

STILL_SECONDS = 2  # for which a photograph is held
ELSEWHERE = "The cut was changed in another window: this page shows it as it was. Load it again."


def shots_of(show: Show) -> dict[int, Shot]:
    """The shots that can stand in the cut, by key, in the order of their codes."""
    rows = show.shots.with_head().kept().filter(archived=False).order_by("code")
    return {shot.pk: shot for shot in rows}


def reach_of(shot: Shot) -> tuple[int, int] | None:
    """First and last frame that a shot has pictures of; None for a photograph, and for a shot
    without a plate."""
    film = shot.state["film"]
    if not film:
        return None
    return frame_at(shot.state, film["first"]), frame_at(shot.state, film["last"])


def whole_clip(shot: Shot, id_: str) -> Clip:
    """All of a shot: its marked range, or the time for which a photograph is held."""
    reach, (first, last) = reach_of(shot), span_of(shot.state)
    if reach is None:
        return Clip(id_, shot.code, first, first + round(STILL_SECONDS * shot.show.rate) - 1)
    return Clip(id_, shot.code, max(first, reach[0]), min(last, reach[1]), *reach)


def head_of(show: Show) -> CutRevision | None:
    """The revision that is on screen; None before the first change."""
    row = CutHead.objects.select_related("head").filter(show=show).first()
    return row.head if row else None


def cut_of(show: Show, shots: Mapping[int, Shot] | None = None) -> Cut:
    """The cut as it stands: all shots in the order of their codes where nobody has made another
    one.

    What a shot has lost since (its film is another one) is trimmed; shots that are gone are left
    out.
    """
    shots = shots_of(show) if shots is None else shots
    head = head_of(show)
    if head is None:
        ids = free_ids(())
        return Cut(tuple(whole_clip(shot, next(ids)) for shot in shots.values()), show.rate)
    clips = [
        clip
        for kept in head.data["clips"]
        if (shot := shots.get(kept["shot"])) and (clip := _clip(shot, kept))
    ]
    told = {key: head.data[key] for key in OF_CUT if key in head.data}
    return Cut(tuple(clips), show.rate, head.data["start"], **told)


# What else is kept of a cut, and of a clip, where it isn't as usual.
OF_CUT = ("title", "title_frames", "counter")
OF_CLIP = ("between", "fade_in", "fade_out", "dissolve", "over", "camera")


def _clip(shot: Shot, kept: Mapping) -> Clip | None:
    reach = reach_of(shot)
    shift = shot.state["shift"]
    first, last = kept["first"] + shift, kept["last"] + shift
    if reach is not None:
        first, last = max(first, reach[0]), min(last, reach[1])
        if last < first:
            return whole_clip(shot, kept["id"])
    told = {key: kept[key] for key in OF_CLIP if key in kept}
    speeds = tuple((frame + shift, speed) for frame, speed in kept.get("speeds", ()))
    least, most = reach or (None, None)
    return Clip(kept["id"], shot.code, first, last, least, most, speeds, **told)


def save(show: Show, cut: Cut, label: str, base: int) -> CutRevision:
    """Keep a cut. Raises Moved where it isn't the one any more that the page shows (`base`; 0
    before the first)."""
    shots = {shot.code: shot for shot in shots_of(show).values()}
    data = {"start": cut.start, "clips": [_json(clip, shots[clip.shot]) for clip in cut.clips]}
    data |= {key: getattr(cut, key) for key in OF_CUT if getattr(cut, key)}
    with transaction.atomic():
        Show.objects.select_for_update().get(pk=show.pk)
        head = _head_at(show, base)
        if head is not None and head.data == data:
            return head
        last = show.cut_revisions.last()
        row = CutRevision.objects.create(
            show=show,
            number=last.number + 1 if last else 1,
            parent=head,
            label=label[:200],
            data=data,
        )
        CutHead.objects.update_or_create(show=show, defaults={"head": row})
    return row


def _head_at(show: Show, base: int) -> CutRevision | None:
    head = head_of(show)
    number = head.number if head else 0
    if number != base:
        raise Moved(ELSEWHERE, number)
    return head


def _json(clip: Clip, shot: Shot) -> dict:
    shift = shot.state["shift"]
    return {
        "id": clip.id,
        "shot": shot.pk,
        "first": clip.first - shift,
        "last": clip.last - shift,
    } | _more(clip, shift)


def _more(clip: Clip, shift: int) -> dict:
    """What a clip has beside its frames, where it isn't as usual."""
    usual = Clip("", "", 0, 0)
    out = {key: getattr(clip, key) for key in OF_CLIP if getattr(clip, key) != getattr(usual, key)}
    if clip.speeds:
        out["speeds"] = [[frame - shift, speed] for frame, speed in clip.speeds]
    return out


def change(show: Show, label: str, made: Callable[[Cut], Cut], base: int) -> CutRevision:
    """Keep what `made` makes of the cut. Raises Problem where it can't be."""
    return save(show, made(cut_of(show)), label, base)


def undo(show: Show, base: int) -> None:
    """Back to the cut before. Raises Problem where there is none."""
    with transaction.atomic():
        head = _head_at(show, base)
        if head is None:
            raise Problem("There is nothing to undo in the cut.")
        if head.parent is None:
            CutHead.objects.filter(show=show).delete()
        else:
            CutHead.objects.filter(show=show).update(head=head.parent)


def redo(show: Show, base: int) -> None:
    """On to the cut that was undone last. Raises Problem where there is none."""
    with transaction.atomic():
        following = next_of(show, _head_at(show, base))
        if following is None:
            raise Problem("There is nothing to redo in the cut.")
        CutHead.objects.update_or_create(show=show, defaults={"head": following})


def next_of(show: Show, head: CutRevision | None) -> CutRevision | None:
    """The revision that was made last after one."""
    return show.cut_revisions.filter(parent=head).last()


def in_order(show: Show) -> list[Shot]:
    """The shots as they come first in the cut, and after them those that aren't in it."""
    shots = shots_of(show)
    by_code = {shot.code: shot for shot in shots.values()}
    codes = dict.fromkeys(clip.shot for clip in cut_of(show, shots).clips)
    return [by_code[code] for code in [*codes, *(code for code in by_code if code not in codes)]]


def take(show: Show, data: bytes, kind: str, base: int) -> tuple[int, int]:
    """Make the cut that a file says; (clips, shots that were made for it). Raises Problem.

    A clip belongs to the shot whose code its name is, or begins with; where there is none, an empty
    shot is made.
    """
    found, start = read(data, kind, show.rate)
    with transaction.atomic():
        shots = {shot.code.lower(): shot for shot in shots_of(show).values()}
        ids, made = free_ids(()), 0

        def clip_of(one: Read) -> Clip:
            nonlocal made
            code = _code(one.name)
            shot = shots.get(code.lower())
            if shot is None:
                shot = shots[code.lower()] = create_shot(show, free_code(show, code), "")
                made += 1
            reach = reach_of(shot)
            first, last = one.first, one.last
            if reach is not None:
                first, last = max(first, reach[0]), min(last, reach[1])
                if last < first:
                    raise Problem(
                        f"The file wants frames {one.first}–{one.last} of {shot.code}, which has "
                        f"{reach[0]}–{reach[1]}."
                    )
            more = one.speeds, "repeat", one.fade_in, one.fade_out, one.dissolve, one.over
            least, most = reach or (None, None)
            return Clip(next(ids), shot.code, first, last, least, most, *more)

        cut = laid(found[:MOST_CLIPS], show.rate, start, clip_of)
        save(show, cut, "Taken from a file", base)
    return len(cut.clips), made


def _code(name: str) -> str:
    """The shot's code that a clip's name says: up to the first dot or blank, as addresses allow."""
    stem = name.split(".")[0].split(" ")[0]
    code = "".join(one for one in stem if one.isascii() and (one.isalnum() or one in "-_"))[:40]
    if not code:
        raise Problem("A clip in that file has no name: its shot can’t be told.")
    return code


def kept_in_parcel(show: Show, codes: Mapping[int, str]) -> dict | None:
    """The cut for a parcel, its shots by code; None where nobody made one."""
    head = head_of(show)
    if head is None:
        return None
    clips = [
        {**clip, "shot": codes[clip["shot"]]}
        for clip in head.data["clips"]
        if clip["shot"] in codes
    ]
    return {"start": head.data["start"], "clips": clips}


def from_parcel(show: Show, told: Mapping | None, shots: Mapping[str, Shot]) -> None:
    """Take the cut of a parcel, where the show has none; `shots` by the code that they had
    there."""
    if not told or head_of(show) is not None:
        return
    clips = [
        Clip(
            str(clip["id"])[:40],
            shots[clip["shot"]].code,
            int(clip["first"]) + shots[clip["shot"]].state["shift"],
            int(clip["last"]) + shots[clip["shot"]].state["shift"],
        )
        for clip in told["clips"]
        if clip["shot"] in shots
    ]
    save(show, Cut(tuple(clips), show.rate, int(told["start"])), "Came in a parcel", 0)
