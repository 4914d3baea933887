"""Lengths, angles, times and frame rates: parsed here and printed here, nowhere else.

The core computes in metres, radians, seconds and exact frame rates; people type and read the show's units.
Conversion factors: the international yard and pound agreement of 1959 (1 in = 25.4 mm exactly).
"""

import math
import re
from fractions import Fraction

from aperture.errors import Problem

METRES = {"m": 1.0, "cm": 0.01, "mm": 0.001, "ft": 0.3048, "in": 0.0254}
LENGTH_UNITS = {"m": "metres", "cm": "centimetres", "mm": "millimetres", "ft": "feet", "in": "inches"}
_ALIASES = {"'": "ft", "′": "ft", '"': "in", "″": "in", "metre": "m", "metres": "m", "meter": "m", "meters": "m",
            "foot": "ft", "feet": "ft", "inch": "in", "inches": "in"}
_UNSIGNED = r"(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][+-]?\d+)?"
_NUMBER = rf"[+-]?{_UNSIGNED}"
_FRACTION = re.compile(rf"({_NUMBER})\s*/\s*({_NUMBER})")
_TERM = re.compile(rf"\s*({_UNSIGNED}(?:\s*/\s*{_UNSIGNED})?)\s*([a-zA-Z'\"′″]*)")
# The rates that are written in decimals but mean a ratio of 1001.
_DECIMAL_RATES = {"23.976": Fraction(24000, 1001), "23.98": Fraction(24000, 1001), "29.97": Fraction(30000, 1001),
                  "47.952": Fraction(48000, 1001), "59.94": Fraction(60000, 1001), "119.88": Fraction(120000, 1001)}


def parse_number(text: str, name: str = "The number") -> float:
    """A plain finite number, with a decimal point or comma, or a fraction such as 1/48. Raises Problem."""
    cleaned = str(text).strip().replace("−", "-")
    match = _FRACTION.fullmatch(cleaned)
    try:
        if match:
            value = _float(match[1]) / _float(match[2])
        else:
            value = _float(cleaned)
    except (ValueError, ZeroDivisionError):
        raise Problem(f"{name} can't be read from “{_short(text)}”: type a number, for example 1.33.") from None
    if not math.isfinite(value):
        raise Problem(f"{name} must be a finite number.")
    return value


def parse_length(text: str, unit: str = "m", name: str = "The length") -> float:
    """Metres from text such as `1.33 m`, `52.5 in`, `6 ft 2 in`, `6'2"`; a bare number is in `unit`. Raises Problem."""
    cleaned = str(text).strip().replace("−", "-")
    sign, position, total, previous = 1.0, 0, 0.0, None
    if cleaned.startswith("-"):
        sign, cleaned = -1.0, cleaned[1:]
    while position < len(cleaned):
        match = _TERM.match(cleaned, position)
        word = match[2].strip() if match else ""
        this = _ALIASES.get(word.lower(), word.lower()) if word else unit
        bare_after_another = previous is not None and (not word or METRES.get(this, math.inf) >= METRES[previous])
        if not match or this not in METRES or bare_after_another:
            raise Problem(f"{name} can't be read from “{_short(text)}”: type a number and a unit, "
                          "for example 1.33 m, 52.5 in or 6 ft 2 in.")
        total += parse_number(match[1], name) * METRES[this]
        previous, position = this, match.end()
        while position < len(cleaned) and cleaned[position].isspace():
            position += 1
    if previous is None:
        raise Problem(f"{name} is empty: type a number and a unit, for example 1.33 m.")
    return sign * round(total, 12)  # 203 cm are 2.03 m, not 2.0300000000000002


def parse_angle(text: str, name: str = "The angle") -> float:
    """Radians from degrees, with or without a degree sign. Raises Problem."""
    return math.radians(parse_number(re.sub(r"\s*(°|deg|degrees)\s*$", "", str(text).strip()), name))


def parse_rate(text: str) -> Fraction:
    """Frames a second, exactly: `24`, `23.976 fps` (24000/1001), `30000/1001`. Raises Problem."""
    cleaned = re.sub(r"\s*(fps|frames a second)\s*$", "", str(text).strip(), flags=re.I)
    if cleaned in _DECIMAL_RATES:
        return _DECIMAL_RATES[cleaned]
    try:
        rate = Fraction(cleaned.replace(",", "."))
    except (ValueError, ZeroDivisionError):
        raise Problem(f"The frame rate can't be read from “{_short(text)}”: type for example 24 or 23.976.") from None
    if not 0 < rate <= 10000:
        raise Problem("The frame rate must be above 0 and at most 10000 frames a second.")
    return rate


def format_rate(rate: Fraction) -> str:
    """`24`, `23.976`: as the trade writes it."""
    return f"{float(rate):.3f}".rstrip("0").rstrip(".")


def places_for(plus_minus: float | None, value: float = 1.0, fallback: int = 2, most: int = 6) -> int:
    """Decimal places at which the ± shows two significant figures when it starts with 1 or 2, else one."""
    if plus_minus is None or not math.isfinite(plus_minus) or plus_minus <= 0:
        return fallback
    exponent = math.floor(math.log10(plus_minus))
    leading = plus_minus / 10**exponent
    return min(max(0, -exponent + (1 if leading < 2.95 else 0)), most)


def format_value(value: float | None, plus_minus: float | None = None, unit: str = "", places: int | None = None,
                 fallback: int = 2) -> tuple[str, str]:
    """The one number formatter: (value with unit, ± or empty), both rounded to the same decimal place."""
    if value is None or not math.isfinite(value):
        return "–", ""
    if places is None:
        places = places_for(plus_minus, value, fallback)
    number = f"{value:.{places}f}".replace("-", "−")
    if not number.strip("−0."):
        number = number.lstrip("−")
    space = "" if unit in ("", "°") else " "
    pm = "" if not plus_minus or not math.isfinite(plus_minus) else f"± {plus_minus:.{places}f}"
    return f"{number}{space}{unit}", pm


def format_number(value: float, most: int = 2) -> str:
    """A plain number with as many decimals as it needs, at most `most`."""
    text = f"{value:.{most}f}"
    return (text.rstrip("0").rstrip(".") if "." in text else text).replace("-", "−")


def format_length(metres: float | None, unit: str, plus_minus: float | None = None, places: int | None = None) -> tuple[str, str]:
    """`format_value` for a length in metres shown in `unit`."""
    scale = METRES[unit]
    fallback = {"m": 3, "cm": 1, "mm": 0, "ft": 2, "in": 1}[unit]
    return format_value(None if metres is None else metres / scale,
                        None if plus_minus is None else plus_minus / scale, unit, places, fallback)


def _float(text: str) -> float:
    return float(text.strip().replace(",", "."))


def _short(text) -> str:
    text = str(text)
    return text if len(text) <= 40 else text[:39] + "…"
