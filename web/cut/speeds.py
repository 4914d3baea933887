"""The speed of a clip: as it is typed, said and drawn, and what it does to the motion blur."""

import numpy as np

from aperture.cut.cut import Clip
from aperture.errors import Problem
from aperture.moves.retime import moments
from aperture.units import format_number, parse_number
from web.expose import exposure
from web.shows.models import Shot
from web.shows.reading import integer

MOST_DRAWN = 200


def typed(clip: Clip) -> str:
    """The speed as it is typed: `50 %`, or a curve `1001: 100, 1024: 25`."""
    if not clip.speeds:
        return "100 %"
    if len(clip.speeds) == 1:
        return f"{100 * clip.speeds[0][1]:g} %"
    return ", ".join(f"{frame}: {100 * speed:g}" for frame, speed in clip.speeds)


def read(text: str, clip: Clip) -> list[tuple[int, float]]:
    """The speeds that were typed. Raises Problem with a sentence."""
    text = text.strip()
    if ":" not in text:
        speed = parse_number(text.rstrip("% ") or "100", "The speed")
        return [] if speed == 100 else [(clip.first, speed / 100)]
    out = []
    for part in text.split(","):
        frame, _, percent = part.partition(":")
        at = integer(frame)
        if at is None:
            raise Problem(
                "A curve of speeds is typed as frame: percent, such as 1001: 100, 1024: 25.",
                "speed",
            )
        out.append((at, parse_number(percent.strip().rstrip("% "), "The speed") / 100))
    return out


def in_words(clip: Clip) -> str:
    """How fast a clip goes, in words."""
    speeds = [100 * speed for _, speed in clip.speeds]
    if min(speeds) == max(speeds):
        return f"at {speeds[0]:g} %"
    return f"at {min(speeds):g} to {max(speeds):g} %"


def about(shot: Shot, clip: Clip) -> str:
    """What another speed does to the motion blur, and what a camera that ran faster would have
    had."""
    if not clip.speeds:
        return ""
    slowest = min(speed for _, speed in clip.speeds)
    seconds = exposure.of_camera(shot)["seconds"].value
    rate = float(shot.show.rate)
    says = f"{clip.last - clip.first + 1} frames of the shot over {clip.length} of the cut."
    if not seconds or abs(slowest - 1) < 1e-9:
        return says
    angle = 360 * seconds * rate
    where = "" if max(speed for _, speed in clip.speeds) == slowest else " where it is slowest"
    if clip.between == "repeat":
        most = int(np.unique(moments(clip), return_counts=True)[1].max())
        held = f"; each picture is held for up to {most} frames" if most > 1 else ""
        shown = f"{held}."
    else:
        shown = (
            f", of which a frame of the cut shows {100 * slowest:g} % of the way{where}: as if it"
            f" were {format_number(angle / slowest, 0)}°."
        )
    return (
        f"{says} Its blur is that of a shutter of {format_number(angle, 0)}°{shown} A camera that"
        f" ran at {format_number(rate / slowest, 2)} frames a second{where} with"
        f" {format_number(angle, 0)}° would have been open for"
        f" 1/{format_number(1 / (seconds * slowest), 0)} s."
    )


def curve(clip: Clip) -> list[list[float]]:
    """How fast a clip goes over its length, for a drawing: [share of the length, speed] each;
    nothing where it is even."""
    if len(clip.speeds) < 2:
        return []
    count = min(clip.length, MOST_DRAWN)
    at = np.linspace(0, clip.length - 1, count)
    return [
        [round(share, 4), round(clip.speed_at(clip.source(frame)), 4)]
        for share, frame in zip(np.linspace(0, 1, count).tolist(), at.tolist())
    ]
