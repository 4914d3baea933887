"""A cut as OpenTimelineIO and as an edit decision list (CMX 3600), written and read by their own library.

A clip names its shot; its source range are the shot's frames, its available range all that the shot
has. In an EDL a clip's name stands in a comment, and source and record time code count the shot's
and the cut's frames. The layout of CMX 3600 is OpenTimelineIO's adapter's, and has whole frame
rates.
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
NOT_ONE = {
    "otio": "That file can’t be read as OpenTimelineIO.",
    "edl": "That file can’t be read as an EDL of CMX 3600.",
}


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
    for clip in cut.clips:
        least = clip.first if clip.least is None else clip.least
        most = clip.last if clip.most is None else clip.most
        media = otio.schema.MissingReference(available_range=span(least, most - least + 1))
        if kind == "edl":
            media.metadata["cmx_3600"] = {"reel": _reel(clip.shot)}
        made = otio.schema.Clip(clip.shot, media, span(clip.first, clip.length))
        if len(clip.speeds) == 1 and clip.speeds[0][1] != 1:
            made.effects.append(otio.schema.LinearTimeWarp("speed", clip.speeds[0][1]))
        elif clip.speeds and kind == "otio":
            speeds = [list(pair) for pair in clip.speeds]
            made.metadata[OWN] = {"speeds": speeds, "last": clip.last}
        if kind == "otio" and (clip.fade_in or clip.fade_out):
            fades = {"fade_in": clip.fade_in, "fade_out": clip.fade_out}
            made.metadata[OWN] = dict(made.metadata.get(OWN, {})) | fades
        if clip.over is not None:
            _lay(over, made, clip.over, rate)
            continue
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
    return _begun_at(text, cut)


def _lay(track: Any, clip: Any, frame: int, rate: float) -> None:
    """Put a clip on the upper track, after a gap up to its frame. Raises Problem where another one lies there."""
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
    """A clip of a file: the shot's name, its frames, how fast they go, and how it ends."""

    name: str
    first: int
    last: int
    speeds: tuple[tuple[int, float], ...] = ()
    fade_in: int = 0
    fade_out: int = 0
    dissolve: int = 0


def read(data: bytes, kind: str, rate: Fraction) -> tuple[list[Read], int]:
    """Return the clips of a file's first picture track, in order, and the frame it starts with.

    Gaps are left out, and of several clips on top of each other the lowest track's is taken.

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
        track = next(
            one for one in timeline.tracks if one.kind == otio.schema.TrackKind.Video and len(one)
        )
        clips = [one for one in track if isinstance(one, otio.schema.Clip)]
        out = [_clip(one, rate, whole) for one in clips]
        for index, one in enumerate(clips[:-1]):
            dissolve, later = _dissolve_after(track, one)
            if dissolve:
                out[index] = replace(out[index], last=out[index].last + later, dissolve=dissolve)
                out[index + 1] = replace(out[index + 1], first=out[index + 1].first + later)
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


def _dissolve_after(track: Any, clip: Any) -> tuple[int, int]:
    """The frames of a dissolve from a clip into the next one, 0 where there is none; and how many frames later the cut between
    both lies in its middle than the file has it.
    """
    import opentimelineio as otio

    index = track.index(clip) + 1
    following = track[index] if index < len(track) else None
    if not isinstance(following, otio.schema.Transition):
        return 0, 0
    whole = round(following.in_offset.value + following.out_offset.value)
    return whole, whole // 2 - round(following.in_offset.value)


def laid(found: list[Read], rate: Fraction, start: int, shot_of: Callable[[Read], Clip]) -> Cut:
    """The cut of clips that were read; `shot_of` gives each its shot, and what that has."""
    return Cut(tuple(shot_of(one) for one in found), rate, start)
