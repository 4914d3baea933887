"""Lengths, angles, times and frame rates: parsed here and printed here, nowhere else.

The core computes in metres, radians, seconds and exact frame rates; people type and read the show's
units. Conversion factors: the international yard and pound agreement of 1959 (1 in = 25.4 mm
exactly).
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from fractions import Fraction
from typing import Any

from aperture.errors import Problem

METRES = {"m": 1.0, "cm": 0.01, "mm": 0.001, "ft": 0.3048, "in": 0.0254}
# Typed, and never a show's own unit.
_MORE_METRES = {"µm": 1e-6, "km": 1000.0, "yd": 0.9144}
_TYPED_METRES = METRES | _MORE_METRES
LENGTH_UNITS = {
    "m": "metres",
    "cm": "centimetres",
    "mm": "millimetres",
    "ft": "feet",
    "in": "inches",
}
_ALIASES = {
    "'": "ft",
    "′": "ft",
    '"': "in",
    "″": "in",
    "”": "in",
    "’": "ft",
    "um": "µm",
    "μm": "µm",
    "micron": "µm",
    "microns": "µm",
    "yard": "yd",
    "yards": "yd",
    "metre": "m",
    "metres": "m",
    "meter": "m",
    "meters": "m",
    "foot": "ft",
    "feet": "ft",
    "inch": "in",
    "inches": "in",
}
_UNSIGNED = r"(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][+-]?\d+)?"
_NUMBER = rf"[+-]?{_UNSIGNED}"
_FRACTION = re.compile(rf"({_NUMBER})\s*/\s*({_NUMBER})")
# A number, a fraction, or a whole number and a fraction: 4, 3/8, 4 3/8.
_AMOUNT = rf"\d+\s+\d+\s*/\s*\d+|{_UNSIGNED}(?:\s*/\s*{_UNSIGNED})?"
_TERM = re.compile(rf"\s*({_AMOUNT})\s*([a-zA-Zµμ'\"′″’”]*)")
_MIXED = re.compile(r"(\d+)\s+(\d+\s*/\s*\d+)")
# The rates that are written in decimals but mean a ratio of 1001.
SAME_RATE = 2e-5  # relative; less apart, two rates are one that was rounded
_DECIMAL_RATES = {
    "23.976": Fraction(24000, 1001),
    "23.98": Fraction(24000, 1001),
    "29.97": Fraction(30000, 1001),
    "47.952": Fraction(48000, 1001),
    "59.94": Fraction(60000, 1001),
    "119.88": Fraction(120000, 1001),
}


def parse_number(text: str, name: str = "The number") -> float:
    """A plain finite number, with a decimal point or comma, or a fraction such as 1/48. Raises
    Problem."""
    cleaned = str(text).strip().replace("−", "-")
    match = _FRACTION.fullmatch(cleaned)
    try:
        if match:
            value = _float(match[1]) / _float(match[2])
        else:
            value = _float(cleaned)
    except (ValueError, ZeroDivisionError):
        raise Problem(
            f"{name} can't be read from “{_short(text)}”: type a number, for example 1.33."
        ) from None
    if not math.isfinite(value):
        raise Problem(f"{name} must be a finite number.")
    return value


def parse_length(text: str, unit: str = "m", name: str = "The length") -> float:
    """Metres from text; a bare number is in `unit`.

    `1.33 m`, `52.5 in`, `6 ft 2 in`, `6'2"`, fractions of an inch such as `4' 4 3/8"`, and sums and
    differences such as `1.2 + 0.35 m`, where a bare term takes the unit of the next that has one.
    Raises Problem.
    """
    cleaned = str(text).strip().replace("−", "-").replace("–", "-")
    if not cleaned:
        raise Problem(f"{name} is empty: type a number and a unit, for example 1.33 m.")
    if re.search(r"[+-]\s*[+-]", cleaned):
        raise _unreadable_length(name, text)
    terms: list[tuple[float, str]] = []
    sign = 1.0
    for part in re.split(r"(?<![eE])([+-])", cleaned):  # the sign of an exponent is its number's
        if part in ("+", "-"):
            sign = -1.0 if part == "-" else 1.0
        elif part.strip() or terms:
            terms.append((sign, part))
    total, inherited = 0.0, unit
    for sign, part in reversed(terms):
        metres, inherited = _one_length(part, inherited, name, text)
        total += sign * metres
    if not terms:
        raise _unreadable_length(name, text)
    return round(total, 12)  # 203 cm are 2.03 m, not 2.0300000000000002


def _one_length(part: str, unit: str, name: str, text: str) -> tuple[float, str]:
    """Metres of one term, which may be of several units, and the unit it begins with."""
    position, total, previous, first = 0, 0.0, None, None
    while position < len(part):
        match = _TERM.match(part, position)
        word = match[2].strip() if match else ""
        this = _ALIASES.get(word.lower(), word.lower()) if word else unit
        bare_after_another = previous is not None and (
            not word or _TYPED_METRES.get(this, math.inf) >= _TYPED_METRES[previous]
        )
        if not match or this not in _TYPED_METRES or bare_after_another:
            raise _unreadable_length(name, text)
        mixed = _MIXED.fullmatch(match[1])
        amount = (
            parse_number(mixed[1], name) + parse_number(mixed[2], name)
            if mixed
            else parse_number(match[1], name)
        )
        total += amount * _TYPED_METRES[this]
        first, previous, position = first or this, this, match.end()
        while position < len(part) and part[position].isspace():
            position += 1
    if previous is None:
        raise _unreadable_length(name, text)
    return total, str(first)


def _unreadable_length(name: str, text: str) -> Problem:
    return Problem(
        f"{name} can't be read from “{_short(text)}”: type a number and a unit, "
        "for example 1.33 m, 52.5 in or 6 ft 2 in."
    )


def parse_plus_minus(text: str, of: float, read: Callable[..., Any], name: str = "The ±") -> float:
    """A ± as `read(text, name)` understands it, or as a share of the value it belongs to: `2 %`.

    Raises Problem where it can't be read or is below zero.
    """
    cleaned = str(text).strip().removeprefix("±").strip()
    if cleaned.endswith("%"):
        value = abs(of) * parse_number(cleaned[:-1], name) / 100
    else:
        value = read(cleaned, name)
    if value < 0:
        raise Problem(f"{name} must not be below zero.")
    return value


def parse_seconds(text: str, name: str = "The time") -> float:
    """Seconds from `1/48 s`, `0.02`, `20 ms`. Raises Problem."""
    cleaned = str(text).strip()
    match = re.search(r"\s*(s|sec|seconds?|ms|µs|μs|us)$", cleaned, flags=re.I)
    number, unit = (cleaned[: match.start()], match[1].lower()) if match else (cleaned, "s")
    scale = {"ms": 1e-3, "µs": 1e-6, "μs": 1e-6, "us": 1e-6}.get(unit, 1.0)
    value = parse_number(number, name) * scale
    if value <= 0:
        raise Problem(f"{name} must be above zero, for example 1/48 s.")
    return value


def parse_pair(text: str, name: str = "The place") -> tuple[float, float]:
    """Two numbers such as coordinates in px: `960 540`, `960, 540`, `960.5; 540`. Raises
    Problem."""
    cleaned = re.sub(r"\s*px\s*$", "", str(text).strip())
    parts = [part.rstrip(",") for part in re.split(r"\s*;\s*|\s+", cleaned) if part != ","]
    if len(parts) == 1:
        parts = parts[0].split(",")
    if len(parts) != 2:
        raise Problem(f"{name} takes two numbers, x and y, for example 960.0 540.0.")
    return parse_number(parts[0], name), parse_number(parts[1], name)


def parse_angle(text: str, name: str = "The angle") -> float:
    """Radians from degrees, with or without a degree sign. Raises Problem."""
    return math.radians(
        parse_number(re.sub(r"\s*(°|deg|degrees)\s*$", "", str(text).strip()), name)
    )


def parse_rate(text: str) -> Fraction:
    """Frames a second, exactly: `24`, `23.976 fps` (24000/1001), `30000/1001`. Raises Problem."""
    cleaned = re.sub(r"\s*(fps|frames a second)\s*$", "", str(text).strip(), flags=re.I)
    if cleaned in _DECIMAL_RATES:
        return _DECIMAL_RATES[cleaned]
    try:
        rate = Fraction(cleaned.replace(",", "."))
    except (ValueError, ZeroDivisionError):
        raise Problem(
            f"The frame rate can't be read from “{_short(text)}”: type for example 24 or 23.976."
        ) from None
    if not 0 < rate <= 10000:
        raise Problem("The frame rate must be above 0 and at most 10000 frames a second.")
    return rate


def exact_rate(per_second: float) -> Fraction:
    """The rate that a measured or rounded number means: 23.976 is 24000/1001.

    Examples
    --------
    >>> exact_rate(23.976), exact_rate(25.0), exact_rate(12.5)
    (Fraction(24000, 1001), Fraction(25, 1), Fraction(25, 2))
    """
    for rate in (Fraction(round(per_second)), Fraction(round(per_second * 1.001) * 1000, 1001)):
        if rate > 0 and abs(per_second / float(rate) - 1) < SAME_RATE:
            return rate
    return Fraction(per_second).limit_denominator(1001)


def format_rate(rate: Fraction) -> str:
    """`24`, `23.976`: as the trade writes it."""
    return f"{float(rate):.3f}".rstrip("0").rstrip(".")


def places_for(
    plus_minus: float | None, value: float = 1.0, fallback: int = 2, most: int = 6
) -> int:
    """Decimal places at which the ± shows two significant figures when it starts with 1 or 2, else
    one."""
    if plus_minus is None or not math.isfinite(plus_minus) or plus_minus <= 0:
        return fallback
    exponent = math.floor(math.log10(plus_minus))
    leading = plus_minus / 10**exponent
    return min(max(0, -exponent + (1 if leading < 2.95 else 0)), most)


def format_value(
    value: float | None,
    plus_minus: float | None = None,
    unit: str = "",
    places: int | None = None,
    fallback: int = 2,
) -> tuple[str, str]:
    """The one number formatter: (value with unit, ± or empty), both rounded to the same decimal
    place."""
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


def exact_number(value: float) -> str:
    """A number as a field shows it: what it is read back as is the same to twelve digits."""
    return f"{value:.12g}"


def exact_length(metres: float, unit: str) -> str:
    """A length as a field shows it: what it is read back as is the same to twelve digits."""
    return f"{exact_number(metres / METRES[unit])} {unit}"


def format_length(
    metres: float | None, unit: str, plus_minus: float | None = None, places: int | None = None
) -> tuple[str, str]:
    """`format_value` for a length in metres shown in `unit`."""
    scale = METRES[unit]
    fallback = {"m": 3, "cm": 1, "mm": 0, "ft": 2, "in": 1}[unit]
    return format_value(
        None if metres is None else metres / scale,
        None if plus_minus is None else plus_minus / scale,
        unit,
        places,
        fallback,
    )


def _float(text: str) -> float:
    return float(text.strip().replace(",", "."))


def _short(text: str) -> str:
    text = str(text)
    return text if len(text) <= 40 else text[:39] + "…"
