"""A cut as OpenTimelineIO and as an edit decision list (CMX 3600), written and read by their own
library.

A clip names its shot; its source range are the shot's frames, its available range all that the shot
has. In an EDL a clip's name stands in a comment, and source and record time code count the shot's
and the cut's frames. The layout of CMX 3600 is OpenTimelineIO's adapter's, and has whole frame
rates. It has one row of pictures: what lies over others is cut into it. A fade is a dissolve with
black (its reel `BL`); the first clip's from black is left out, as the adapter can't read one.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

from aperture.cut.cut import MOST_CLIPS, Clip, Cut
from aperture.errors import Problem
from aperture.timecode import counted_rate, format_timecode, parse_timecode

KINDS = {"otio": "OpenTimelineIO", "edl": "EDL, CMX 3600"}
MOST_BYTES = 50_000_000
NAME_LENGTH = 40
OWN = "accurate-aperture"  # under which name our own of a clip stands in OpenTimelineIO
# An event's line up to its source time code, and its record in and out.
RECORD = re.compile(r"(?m)^(\d{3,}\s.*?[\d:;]{11}\s+[\d:;]{11}\s+)([\d:;]{11})\s+([\d:;]{11})")
# The two lines of a dissolve's event; the first has the reel that it comes from.
DISSOLVE = re.compile(r"(?m)^(\d{3,})\s+(\S+)\s+\S+\s+C\s.*\n\1\s+\S+\s+\S+\s+D\s")
BLACK, FROM_BLACK = "BL", "from black"
NOT_ONE = {
    "otio": "That file can’t be read as OpenTimelineIO.",
    "edl": "That file can’t be read as an EDL of CMX 3600.",
}


def _tell_speed_and_fades(made: Any, clip: Clip, kind: str) -> None:
    """What the format says of a clip's speed, and what we say in our own words."""
    import opentimelineio as otio

    if len(clip.speeds) == 1 and clip.speeds[0][1] != 1:
        made.effects.append(otio.schema.LinearTimeWarp("speed", clip.speeds[0][1]))
    elif clip.speeds and kind == "otio":
        speeds = [list(pair) for pair in clip.speeds]
        made.metadata[OWN] = {"speeds": speeds, "last": clip.last}
    if kind == "otio" and (clip.fade_in or clip.fade_out):
        fades = {"fade_in": clip.fade_in, "fade_out": clip.fade_out}
        made.metadata[OWN] = dict(made.metadata.get(OWN, {})) | fades


def write(cut: Cut, kind: str, name: str) -> str:
    """Return the text of a file, one of KINDS. Raises Problem for another one."""
    import opentimelineio as otio

    if kind not in KINDS:
        raise Problem(f"A cut is written as one of {', '.join(KINDS.values())}.")
    rate = counted_rate(cut.rate) if kind == "edl" else float(cut.rate)

    def span(first: int, length: int) -> Any:
        start = otio.opentime.RationalTime(first, rate)
        return otio.opentime.TimeRange(start, otio.opentime.RationalTime(length, rate))

    timeline = otio.schema.Timeline(name)
    timeline.global_start_time = otio.opentime.RationalTime(cut.start, rate)
    track = otio.schema.Track("Picture", kind=otio.schema.TrackKind.Video)
    timeline.tracks.append(track)
    over = otio.schema.Track("Over", kind=otio.schema.TrackKind.Video)
    for clip in (cut.flattened() if kind == "edl" else cut).clips:
        least = clip.first if clip.least is None else clip.least
        most = clip.last if clip.most is None else clip.most
        media = otio.schema.MissingReference(available_range=span(least, most - least + 1))
        if kind == "edl":
            media.metadata["cmx_3600"] = {"reel": _reel(clip.shot)}
        made = otio.schema.Clip(clip.shot, media, span(clip.first, clip.length))
        _tell_speed_and_fades(made, clip, kind)
        if clip.over is not None:
            _lay(over, made, clip.over, rate)
            continue
        if kind == "edl":
            _faded(track, made, clip, rate)
            if clip.fade_out:
                continue
        else:
            track.append(made)
        if clip.dissolve and clip is not cut.clips[cut.row[-1]]:
            first = clip.dissolve // 2
            track.append(
                otio.schema.Transition(
                    "dissolve",
                    otio.schema.TransitionTypes.SMPTE_Dissolve,
                    otio.opentime.RationalTime(first, rate),
                    otio.opentime.RationalTime(clip.dissolve - first, rate),
                )
            )
    if kind == "otio":  # an EDL of CMX 3600 has one track of pictures
        if len(over):
            timeline.tracks.append(over)
        return str(otio.adapters.write_to_string(timeline, "otio_json"))
    text = str(otio.adapters.write_to_string(timeline, "cmx_3600", rate=rate, style="nucoda"))
    return _begun_at(_from_black(text, track), cut)


def _faded(track: Any, made: Any, clip: Clip, rate: float) -> None:
    """Put a clip on a track with its fades as dissolves with black."""
    import opentimelineio as otio

    def fade(frames: int, name: str) -> Any:
        none, whole = otio.opentime.RationalTime(0, rate), otio.opentime.RationalTime(frames, rate)
        kind = otio.schema.TransitionTypes.SMPTE_Dissolve
        return otio.schema.Transition(name, kind, none, whole)

    if clip.fade_in and len(track):
        track.append(fade(clip.fade_in, FROM_BLACK))
    if not clip.fade_out:
        track.append(made)
        return
    span = made.source_range
    rest = max(1, round(span.duration.value) - clip.fade_out)
    made.source_range = otio.opentime.TimeRange(
        span.start_time, otio.opentime.RationalTime(rest, rate)
    )
    track.append(made)
    track.append(fade(clip.fade_out, "to black"))
    track.append(otio.schema.Gap(duration=otio.opentime.RationalTime(clip.fade_out, rate)))


def _lay(track: Any, clip: Any, frame: int, rate: float) -> None:
    """Put a clip on the upper track, after a gap up to its frame. Raises Problem where another one
    lies there."""
    import opentimelineio as otio

    at = round(track.duration().value) if len(track) else 0
    if frame < at:
        raise Problem(
            "Two clips lie over the cut at the same time: a file has room for one of them."
        )
    if frame > at:
        length = otio.opentime.RationalTime(frame - at, rate)
        track.append(otio.schema.Gap(duration=length))
    track.append(clip)


def _from_black(text: str, track: Any) -> str:
    """An EDL whose fades from black say so: the adapter takes them for dissolves from the clip
    before."""
    import opentimelineio as otio

    kinds = iter([one.name for one in track if isinstance(one, otio.schema.Transition)])

    def said(found: re.Match[str]) -> str:
        if next(kinds, "") != FROM_BLACK:
            return found[0]
        zero, lines = "00:00:00:00", found[0].split("\n")
        record = lines[0].split()[-2:]
        lines[0] = f"{found[1]}  {BLACK:<8} V     C        {zero} {zero} {' '.join(record)}"
        return "\n".join(lines)

    return DISSOLVE.sub(said, text)


def _begun_at(text: str, cut: Cut) -> str:
    """An EDL whose record time code begins with the cut's start: the adapter counts from zero."""
    rate = Fraction(counted_rate(cut.rate))

    def later(found: re.Match[str]) -> str:
        both = [
            format_timecode(parse_timecode(found[part], rate) + cut.start, rate) for part in (2, 3)
        ]
        return f"{found[1]}{both[0]} {both[1]}"

    return RECORD.sub(later, text)


def _reel(shot: str) -> str:
    """At most eight letters and figures, as the format has room for."""
    return "".join(one for one in shot if one.isalnum())[:8] or "AX"


@dataclass(frozen=True)
class Read:
    """A clip of a file: the shot's name, its frames, how fast they go, and how it ends; `over`: the
    frame of the cut from which it lies over the others.
    """

    name: str
    first: int
    last: int
    speeds: tuple[tuple[int, float], ...] = ()
    fade_in: int = 0
    fade_out: int = 0
    dissolve: int = 0
    over: int | None = None


def read(data: bytes, kind: str, rate: Fraction) -> tuple[list[Read], int]:
    """Return the clips of a file's first picture track, in order, after them those of the tracks
    above, which lie over the others, and the frame it starts with.

    Gaps of the first track are left out: what follows moves up.

    Raises Problem where the file isn't one, is of another rate, or has no clips.
    """
    import opentimelineio as otio

    if len(data) > MOST_BYTES:
        raise Problem("A cut of more than 50 MB isn’t taken.")
    whole = counted_rate(rate)
    try:
        text = data.decode("utf-8-sig")
        if kind == "otio":
            timeline = otio.adapters.read_from_string(text, "otio_json")
        else:
            timeline = otio.adapters.read_from_string(
                text, "cmx_3600", rate=whole, ignore_timecode_mismatch=True
            )
        if isinstance(timeline, otio.schema.SerializableCollection):
            timeline = next(one for one in timeline if isinstance(one, otio.schema.Timeline))
        tracks = [
            one for one in timeline.tracks if one.kind == otio.schema.TrackKind.Video and len(one)
        ]
        # The adapter leaves out black of no length, from which a clip fades in.
        reels = [found[2] for found in DISSOLVE.finditer(text)] if kind == "edl" else []
        out = _row(tracks[0], rate, whole, reels)
        out += [one for track in tracks[1:] for one in _above(track, rate, whole)]
        start = timeline.global_start_time
        begins = 0 if start is None else round(start.value_rescaled_to(start.rate))
        first = RECORD.search(text) if kind == "edl" else None
        if first is not None:
            begins = parse_timecode(first[2], Fraction(whole))
    except Problem:
        raise
    except Exception:  # the library has errors of many kinds for what isn't one
        raise Problem(NOT_ONE.get(kind, NOT_ONE["otio"])) from None
    if not out:
        raise Problem("There is no clip in that file.")
    if len(out) > MOST_CLIPS:
        raise Problem(f"A cut has {MOST_CLIPS} clips at most.")
    return out, max(0, begins)


def _row(track: Any, rate: Fraction, whole: int, reels: list[str]) -> list[Read]:
    """The clips of a track with their dissolves and fades; `reels`: what each dissolve comes from,
    where the file says it."""
    import opentimelineio as otio

    dissolves = [one for one in track if isinstance(one, otio.schema.Transition)]
    for dissolve, reel in zip(dissolves, reels):
        dissolve.metadata[OWN] = {"from": reel}
    clips = [one for one in track if isinstance(one, otio.schema.Clip) and not _is_black(one)]
    out = [_clip(one, rate, whole) for one in clips]
    for index, one in enumerate(clips):
        frames, from_black = _transition(track, one, -1)
        if frames and from_black:  # its picture began while it was still black in the file's row
            early = min(_offset(track[track.index(one) - 1].in_offset), out[index].first)
            out[index] = replace(out[index], first=out[index].first - early, fade_in=frames)
        frames, to_black = _transition(track, one, 1)
        if frames and to_black is None:
            continue
        if frames and to_black:  # its picture goes on while it fades
            late = _offset(track[track.index(one) + 1].out_offset)
            out[index] = replace(out[index], last=out[index].last + late, fade_out=frames)
        elif frames and index + 1 < len(clips):
            later = _later(track, one)
            out[index] = replace(out[index], last=out[index].last + later, dissolve=frames)
            out[index + 1] = replace(out[index + 1], first=out[index + 1].first + later)
    return out


def _above(track: Any, rate: Fraction, whole: int) -> list[Read]:
    """The clips of an upper track, each from where it lies on."""
    import opentimelineio as otio

    return [
        replace(
            _clip(one, rate, whole), over=max(0, round(track.range_of_child(one).start_time.value))
        )
        for one in track
        if isinstance(one, otio.schema.Clip) and not _is_black(one)
    ]


def _is_black(one: Any) -> bool:
    import opentimelineio as otio

    told = dict(one.metadata.get("cmx_3600", {})) if isinstance(one, otio.schema.Clip) else {}
    return isinstance(one, otio.schema.Gap) or told.get("reel") == BLACK


def _transition(track: Any, clip: Any, side: int) -> tuple[int, bool | None]:
    """(frames, whether the other side is black) of what leads into a clip (−1) or out of it (1); 0
    frames of a plain cut, None of one that only leads from black into the next clip.
    """
    import opentimelineio as otio

    index = track.index(clip) + side
    if not 0 <= index < len(track) or not isinstance(track[index], otio.schema.Transition):
        return 0, False
    between, beyond = track[index], index + side
    frames = _offset(between.in_offset) + _offset(between.out_offset)
    if dict(between.metadata.get(OWN, {})).get("from") == BLACK:
        return frames, True if side < 0 else None
    return frames, not 0 <= beyond < len(track) or _is_black(track[beyond])


def _offset(offset: Any) -> int:
    """Frames of a transition on one side of its cut; none where the file doesn't say."""
    return round(offset.value) if offset else 0


def _clip(clip: Any, rate: Fraction, whole: int) -> Read:
    span = clip.source_range or clip.available_range()
    own = span.start_time.rate
    if abs(own - float(rate)) > 0.01 and abs(own - whole) > 0.01:
        raise Problem(
            f"That cut counts {own:g} frames a second, and the show {float(rate):g}: change the "
            "show’s rate first."
        )
    first, length = round(span.start_time.value), round(span.duration.value)
    if length < 1:
        raise Problem(f"The clip “{clip.name[:NAME_LENGTH]}” has no frame.")
    name = (clip.name or "").strip()
    told = dict(clip.metadata.get(OWN, {}))
    speeds = tuple((int(frame), float(speed)) for frame, speed in told.get("speeds", ()))
    warps = [one for one in clip.effects if hasattr(one, "time_scalar")]
    if warps and warps[0].time_scalar > 0:
        speeds = ((first, float(warps[0].time_scalar)),)
    last = first + length - 1
    if warps and speeds:  # the length is the cut's: the shot's follows from the speed
        last = first + max(1, round(length * speeds[0][1])) - 1
    elif speeds:
        last = max(first, int(told.get("last", last)))
    fades = (int(told.get(key, 0)) for key in ("fade_in", "fade_out"))
    return Read(name[:NAME_LENGTH], first, last, speeds, *fades)


def _later(track: Any, clip: Any) -> int:
    """How many frames later the cut between a clip and the next one lies in the middle of their
    dissolve than in the file."""
    between = track[track.index(clip) + 1]
    whole = _offset(between.in_offset) + _offset(between.out_offset)
    return whole // 2 - _offset(between.in_offset)


def laid(found: list[Read], rate: Fraction, start: int, shot_of: Callable[[Read], Clip]) -> Cut:
    """The cut of clips that were read; `shot_of` gives each its shot, and what that has."""
    return Cut(tuple(shot_of(one) for one in found), rate, start)
