"""Stop, shutter and ISO, and the one number that they make: the exposure value at ISO 100."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from aperture.errors import Problem
from aperture.units import parse_angle, parse_number, parse_seconds

LEAST_STOP, MOST_STOP = 0.1, 512.0
LEAST_SECONDS, MOST_SECONDS = 1e-9, 1e6
LEAST_ISO, MOST_ISO = 0.1, 1e8


@dataclass(frozen=True)
class Exposure:
    """How a picture is exposed.

    f_number : focal length over the diameter of the entrance pupil.
    seconds : the time for which the shutter is open.
    iso : the speed of sensor or film, ISO arithmetic.
    """

    f_number: float
    seconds: float
    iso: float

    @property
    def ev100(self) -> float:
        """The exposure value at ISO 100: log2(N² / t) − log2(S / 100).

        After APEX, the additive system of photographic exposure, as Exif 2.3 has it in annex C
        (Av + Tv = Bv + Sv, with Sv = 5 at ISO 100); cited from memory.
        """
        return math.log2(self.f_number**2 / self.seconds) - math.log2(self.iso / 100)


def shutter_seconds(angle: float, rate: float) -> float:
    """Seconds that a shutter of `angle` radians is open at `rate` frames a second."""
    return angle / math.tau / rate


def shutter_angle(seconds: float, rate: float) -> float:
    """Radians of the shutter that is open so long at `rate` frames a second; above 2π it can't be a film camera's."""
    return seconds * rate * math.tau


def parse_stop(text: str, name: str = "The stop") -> float:
    """`f/5.6`, `f5.6`, `5.6`. Raises Problem."""
    cleaned = str(text).strip().lower().removeprefix("f/").removeprefix("f")
    return _within(parse_number(cleaned, name), LEAST_STOP, MOST_STOP, name)


def parse_shutter(text: str, name: str = "The shutter") -> tuple[float | None, float | None]:
    """(seconds, radians), one of them None: `1/48 s`, `0.02`, `20 ms`; `180°`, `172.8 deg`. Raises Problem."""
    text = str(text).strip()
    if not text.endswith(("°", "deg", "degrees")):
        return _within(parse_seconds(text, name), LEAST_SECONDS, MOST_SECONDS, name), None
    angle = parse_angle(text, name)
    if not 0 < angle <= math.tau + 1e-9:
        raise Problem(f"{name} must open by more than 0° and at most 360°.")
    return None, angle


def parse_iso(text: str, name: str = "The ISO") -> float:
    """`800`, `ISO 800`. Raises Problem."""
    cleaned = re.sub(r"^\s*iso", "", str(text), flags=re.I)
    return _within(parse_number(cleaned, name), LEAST_ISO, MOST_ISO, name)


def _within(value: float, least: float, most: float, name: str) -> float | None:
    if not least <= value <= most:
        raise Problem(f"{name} must lie between {least:g} and {most:g}.")
    return value


def format_stop(f_number: float) -> str:
    """`f/5.6`."""
    return f"f/{f_number:.3g}"


def format_seconds(seconds: float) -> str:
    """`1/48 s`, `2.5 s`; fractions below 0.4 s, as cameras show them."""
    if seconds >= 0.4:
        return f"{seconds:.3g} s"
    return f"1/{1 / seconds:.4g} s"
