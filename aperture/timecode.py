"""Time code: hours, minutes, seconds and frames as the trade writes them, after SMPTE ST 12-1:2014
(cited from memory).

Time code counts whole frames. At 24000/1001, 30000/1001 or 60000/1001 pictures a second it runs
slower than the clock. Drop-frame counting, written with a semicolon, leaves out numbers (no
pictures): the first two of each minute, four at 60000/1001, but in minutes 0, 10, 20, 30, 40 and
50. So it stays within two frames of the clock over an hour.
"""

from __future__ import annotations

import math
import re
from fractions import Fraction

from aperture.errors import Problem

# The rates that have drop-frame counting, and how many numbers a minute leaves out.
DROPPED = {Fraction(30000, 1001): 2, Fraction(60000, 1001): 4}
_WRITTEN = re.compile(r"^(\d{1,2}):(\d{2}):(\d{2})([:;.])(\d{2,3})$")


def counted_rate(rate: Fraction) -> int:
    """Frames that time code counts in a second: 24 for 24000/1001."""
    return math.ceil(rate)


def format_timecode(frame: int, rate: Fraction, drop: bool = False) -> str:
    """Time code of a frame counted from 00:00:00:00; it begins anew after 24 hours.

    Raises Problem where `drop` is wanted of a rate that has no drop-frame counting.
    """
    count = counted_rate(rate)
    minute = count * 60
    frame %= _day(rate, drop)
    if drop:
        left_out = _left_out(rate)
        ten = minute * 10 - left_out * 9
        tens, rest = divmod(frame, ten)
        # The first minute of ten is whole; each of the others begins with numbers that are left
        # out.
        minutes = 0 if rest < minute else 1 + (rest - minute) // (minute - left_out)
        frame += left_out * (9 * tens + minutes)
    seconds, number = divmod(frame, count)
    hours, minutes, seconds = seconds // 3600, seconds // 60 % 60, seconds % 60
    width = len(str(count - 1))
    between = ";" if drop else ":"
    return f"{hours:02}:{minutes:02}:{seconds:02}{between}{number:0{max(width, 2)}}"


def parse_timecode(text: str, rate: Fraction) -> int:
    """The frame that a time code names, counted from 00:00:00:00; a semicolon or point before the
    frames means drop-frame.

    Raises Problem where it isn't time code, or names a frame that isn't there.
    """
    found = _WRITTEN.match(text.strip())
    if not found:
        raise Problem(
            f"“{text.strip()[:40]}” isn't time code: write hours, minutes, seconds and frames, such"
            " as 01:00:00:00."
        )
    hours, minutes, seconds, number = (int(found[index]) for index in (1, 2, 3, 5))
    count, drop = counted_rate(rate), found[4] != ":"
    if hours > 23 or minutes > 59 or seconds > 59 or number >= count:
        raise Problem(
            f"“{text.strip()}” can't be at {count} frames in a second: hours go to 23, minutes and"
            f" seconds to 59, frames to {count - 1}."
        )
    frame = ((hours * 60 + minutes) * 60 + seconds) * count + number
    if not drop:
        return frame
    left_out = _left_out(rate)
    if seconds == 0 and number < left_out and minutes % 10:
        raise Problem(
            f"“{text.strip()}” is one of the numbers that drop-frame time code leaves out."
        )
    minutes += hours * 60
    return frame - left_out * (minutes - minutes // 10)


def _left_out(rate: Fraction) -> int:
    if rate not in DROPPED:
        raise Problem("Only 29.97 and 59.94 frames a second have drop-frame time code.")
    return DROPPED[rate]


def _day(rate: Fraction, drop: bool) -> int:
    """Frames in 24 hours of time code."""
    day = counted_rate(rate) * 86400
    return day - _left_out(rate) * 9 * 144 if drop else day
