"""What a picture's file says about how it was taken: EXIF (CIPA DC-008 / Exif 3.0, tag numbers) and
OpenEXR's standard attributes.

Cameras and programs write nonsense into these fields; every one is read by itself, and what can't
be read is left out and counted.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass, fields
from typing import Any

LONGEST_TEXT = 120


@dataclass(frozen=True)
class Metadata:
    """None where the file doesn't say.

    exposure_time in s, focal lengths in mm, focus_m: how far away it was focused, orientation as
    EXIF counts it (1 … 8); file_width and file_height in px: the size that the camera's own file
    had, which a picture resized later keeps. timecode: as `aperture.timecode` writes it.
    white_kelvin: the correlated temperature of the light that it was balanced for.
    """

    maker: str | None = None
    model: str | None = None
    lens: str | None = None
    focal_mm: float | None = None
    equivalent_mm: float | None = None
    f_number: float | None = None
    exposure_time: float | None = None
    iso: float | None = None
    date: str | None = None
    orientation: int | None = None
    file_width: int | None = None
    file_height: int | None = None
    focus_m: float | None = None
    timecode: str | None = None
    white_kelvin: float | None = None

    def as_dict(self) -> dict[str, Any]:
        """JSON-ready, without what isn't known."""
        return {key: value for key, value in asdict(self).items() if value is not None}


_EXIF = {
    "maker": 0x010F,
    "model": 0x0110,
    "lens": 0xA434,
    "focal_mm": 0x920A,
    "equivalent_mm": 0xA405,
    "f_number": 0x829D,
    "exposure_time": 0x829A,
    "iso": 0x8827,
    "date": 0x9003,
    "orientation": 0x0112,
    "file_width": 0xA002,
    "file_height": 0xA003,
    "focus_m": 0x9206,
    "white_kelvin": 0x9208,
}
# EXIF's LightSource (Exif 3.0, 4.6.6.12; codes from memory) that have a temperature by definition.
LIGHT_SOURCES = {
    17: 2856.0,  # illuminant A
    18: 4874.0,  # B
    19: 6774.0,  # C
    20: 5503.0,  # D55
    21: 6504.0,  # D65
    22: 7504.0,  # D75
    23: 5003.0,  # D50
    24: 3200.0,  # ISO studio tungsten
}
_OPENEXR = {
    "maker": "cameraMake",
    "model": "cameraModel",
    "lens": "lensModel",
    "focal_mm": "nominalFocalLength",
    "f_number": "aperture",
    "exposure_time": "expTime",
    "iso": "isoSpeed",
    "date": "capDate",
    "focus_m": "focus",
    "timecode": "timeCode",
    "white_kelvin": "cameraCCTSetting",
}
_RANGES = {
    "focal_mm": (0.1, 10000),
    "equivalent_mm": (0.1, 10000),
    "f_number": (0.1, 512),
    "exposure_time": (1e-9, 1e6),
    "iso": (0.1, 1e8),
    "file_width": (1, 1e6),
    "file_height": (1, 1e6),
    "focus_m": (0.001, 1e6),
    "white_kelvin": (1000, 40_000),
}
# What a camera may change while it films.
CHANGING = ("focal_mm", "focus_m", "f_number", "exposure_time", "iso", "timecode")


def from_exif(tags: dict[int, Any]) -> tuple[Metadata, int]:
    """Metadata from EXIF values by tag number (any IFD), and how many fields were there but
    unreadable."""
    return _collect({name: tags[number] for name, number in _EXIF.items() if number in tags})


def from_openexr(header: dict[str, Any]) -> tuple[Metadata, int]:
    """Metadata from an OpenEXR header's standard attributes, and how many were there but
    unreadable."""
    return _collect({name: header[key] for name, key in _OPENEXR.items() if key in header})


def _collect(found: dict[str, Any]) -> tuple[Metadata, int]:
    values, spoiled = {}, 0
    for field in fields(Metadata):
        if field.name not in found:
            continue
        try:
            read: Callable[[Any, str], Any] = _READERS.get(field.name, _number)
            value = read(found[field.name], field.name)
        except (ValueError, TypeError, ZeroDivisionError, OverflowError, IndexError, UnicodeError):
            value = None
            spoiled += 1
        if value is not None:
            values[field.name] = value
    return Metadata(**values), spoiled


def _number(raw: Any, name: str) -> float | None:
    if isinstance(raw, (tuple, list)):
        if len(raw) == 2 and all(isinstance(part, int) for part in raw) and name != "iso":
            raw = raw[0] / raw[1]  # a rational as two integers
        else:
            raw = raw[0]
    value = float(raw)
    if value == 0:
        return None  # EXIF writes 0 for "unknown"
    low, high = _RANGES[name]
    if not math.isfinite(value) or not low <= value <= high:
        raise ValueError(name)
    return round(value, 9)


def _text(raw: Any, name: str) -> str | None:
    if isinstance(raw, bytes):
        raw = raw[:4096].decode("utf-8", "replace")
    text = re.sub(r"[\x00-\x1f\x7f\ufffd]+", " ", str(raw)[:4096]).strip()
    if text and sum(character.isprintable() for character in text) < len(text):
        raise ValueError(name)
    return text[:LONGEST_TEXT] or None


def _date(raw: Any, name: str) -> str | None:
    text = _text(raw, name) or ""
    match = re.match(r"(\d{4})[:-](\d\d)[:-](\d\d)[ T](\d\d):(\d\d):(\d\d)", text)
    if not match:
        if not text or text.startswith("0000"):
            return None
        raise ValueError(name)
    return "{}-{}-{} {}:{}:{}".format(*match.groups())


def _orientation(raw: int, name: str) -> int:
    value = int(raw[0] if isinstance(raw, (tuple, list)) else raw)
    if not 1 <= value <= 8:
        raise ValueError(name)
    return value


def _pixels(raw: Any, name: Any) -> Any:
    value = _number(raw, name)
    return None if value is None else int(value)


def _timecode(raw: Any, name: str) -> str | None:
    """Of OpenEXR's TimeCode, which has SMPTE's fields."""
    hours, minutes, seconds, frame = raw.hours, raw.minutes, raw.seconds, raw.frame
    if hours > 23 or minutes > 59 or seconds > 59 or frame > 59:
        raise ValueError(name)
    return f"{hours:02}:{minutes:02}:{seconds:02}{';' if raw.dropFrame else ':'}{frame:02}"


def _white(raw: Any, name: str) -> float | None:
    """Kelvins, or one of EXIF's codes; most codes name a lamp and no temperature."""
    value = float(raw[0] if isinstance(raw, (tuple, list)) else raw)
    if value < 256:
        return LIGHT_SOURCES.get(int(value))
    return _number(value, name)


_READERS: dict[str, Callable[[Any, str], Any]] = {
    "white_kelvin": _white,
    "timecode": _timecode,
    "file_width": _pixels,
    "file_height": _pixels,
    "maker": _text,
    "model": _text,
    "lens": _text,
    "date": _date,
    "orientation": _orientation,
}


def constant_and_curves(
    told: Iterable[tuple[int, dict[str, Any]]],
) -> tuple[dict[str, Any], dict[str, list[tuple[int, Any]]]]:
    """What the pictures of a film say, by their numbers, parted into what is the same for all and
    what changes.

    Of CHANGING only, and only what at least half of the pictures say: a curve is (number, value)
    for each that does.
    """
    pictures = list(told)
    constant: dict[str, Any] = {}
    curves: dict[str, list[tuple[int, Any]]] = {}
    for key in CHANGING:
        known = [(number, data[key]) for number, data in pictures if key in data]
        if not known or 2 * len(known) < len(pictures):
            continue
        if len({value for _, value in known}) == 1:
            constant[key] = known[0][1]
        else:
            curves[key] = known
    return constant, curves
