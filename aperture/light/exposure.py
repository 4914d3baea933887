"""Stop, shutter and ISO, and the one number that they make: the exposure value at ISO 100."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, replace

from aperture.errors import Problem
from aperture.units import parse_angle, parse_number, parse_seconds

LEAST_STOP, MOST_STOP = 0.1, 512.0
LEAST_SECONDS, MOST_SECONDS = 1e-9, 1e6
LEAST_ISO, MOST_ISO = 0.1, 1e8


MOST_ND_STOPS = 30.0
# What may hold an exposure where another figure is changed.
HOLDERS = ("f_number", "seconds", "iso")


@dataclass(frozen=True)
class Exposure:
    """How a picture is exposed.

    Parameters
    ----------
    f_number : float
        Focal length over the diameter of the entrance pupil.
    seconds : float
        The time for which the shutter is open.
    iso : float
        The speed of sensor or film, ISO arithmetic.
    nd_stops : float
        How many stops of light the filters before the lens take.
    transmittance : float
        The share of the light that the lens lets through, 0 … 1.

    Examples
    --------
    A lens of f/2.8 that lets 85 % through, with a filter of 3 stops:

    >>> exposure = Exposure(2.8, 1 / 48, 800, nd_stops=3, transmittance=0.85)
    >>> round(exposure.t_number, 2)
    3.04
    >>> round(exposure.ev100, 2), round(exposure.light_ev100, 2)
    (5.56, 8.79)
    """

    f_number: float
    seconds: float
    iso: float
    nd_stops: float = 0.0
    transmittance: float = 1.0

    @property
    def t_number(self) -> float:
        """The f-number of a lens without loss that gives as much light: T = N /
        sqrt(transmittance)."""
        return self.f_number / math.sqrt(self.transmittance)

    @property
    def light_ev100(self) -> float:
        """The exposure value at ISO 100 of the light that is exposed rightly: glass and filters
        count."""
        return self.ev100 - math.log2(self.transmittance) + self.nd_stops

    def brighter_than(self, other: Exposure) -> float:
        """By how many stops a picture is brighter than with another exposure of the same light."""
        return other.light_ev100 - self.light_ev100

    def held_at(self, light_ev100: float, holder: str) -> Exposure:
        """Return the exposure of another light, by changing one figure.

        Parameters
        ----------
        light_ev100 : float
            The exposure value at ISO 100 of the light.
        holder : str
            A name of HOLDERS.

        Raises
        ------
        Problem
            If that figure would leave what a camera can be set to.
        """
        more = light_ev100 - self.light_ev100  # stops of light
        factor = {"f_number": 2 ** (more / 2), "seconds": 2**-more, "iso": 2**-more}[holder]
        value = getattr(self, holder) * factor
        least, most, says = {
            "f_number": (LEAST_STOP, MOST_STOP, "stop"),
            "seconds": (LEAST_SECONDS, MOST_SECONDS, "shutter"),
            "iso": (LEAST_ISO, MOST_ISO, "ISO"),
        }[holder]
        if not least <= value <= most:
            raise Problem(
                f"The {says} can't hold that exposure: it would have to be {value:.3g}, and must "
                f"lie between {least:g} and {most:g}."
            )
        return replace(self, **{holder: value})

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
    """Radians of the shutter that is open so long at `rate` frames a second; above 2π it can't be a
    film camera's."""
    return seconds * rate * math.tau


def parse_stop(text: str, name: str = "The stop") -> float:
    """`f/5.6`, `f5.6`, `5.6`. Raises Problem."""
    cleaned = str(text).strip().lower().removeprefix("f/").removeprefix("f")
    return _within(parse_number(cleaned, name), LEAST_STOP, MOST_STOP, name)


def parse_shutter(text: str, name: str = "The shutter") -> tuple[float | None, float | None]:
    """(seconds, radians), one of them None: `1/48 s`, `0.02`, `20 ms`; `180°`, `172.8 deg`. Raises
    Problem."""
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


def parse_filter(text: str, name: str = "The filter") -> float:
    """Stops of light that a filter takes: `3`, `3 stops`, `ND 0.9`, `ND8`, `0.9 D`. Raises Problem.

    An optical density D takes D / log10(2) stops; a filter factor, as in ND8, log2 of it. A number
    after ND with a decimal point is a density, a whole one a factor, as filters are marked (common
    practice, no source).
    """
    cleaned = str(text).strip().lower().replace(",", ".")
    density = re.fullmatch(r"(?:nd\s*)?(\d+\.\d+)\s*d?|(?:nd\s*)?(\d+)\s*d", cleaned)
    factor = re.fullmatch(r"nd\s*(\d+)", cleaned)
    stops = re.fullmatch(r"(\d+(?:\.\d+)?)\s*(?:stops?|ev)?", cleaned)
    if cleaned.startswith("nd") or cleaned.endswith("d"):
        if factor and int(factor[1]) >= 1:
            return _within(math.log2(int(factor[1])), 0.0, MOST_ND_STOPS, name)
        if density:
            value = float(density[1] or density[2]) / math.log10(2)
            return _within(value, 0.0, MOST_ND_STOPS, name)
    elif stops:
        return _within(float(stops[1]), 0.0, MOST_ND_STOPS, name)
    raise Problem(
        f"{name} can't be read from “{text}”: type stops, or a density or factor, such as 3, ND 0.9"
        " or ND8."
    )


def _within(value: float, least: float, most: float, name: str) -> float:
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
