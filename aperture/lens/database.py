"""Search in the open lens database that lensfunpy carries (database CC BY-SA 3.0, library LGPL; see
NOTICE.md).

The library is loaded on first use, so that the program starts without it.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from aperture.errors import Problem
from aperture.geometry.angles import FULL_FRAME_DIAGONAL_MM
from aperture.lens.profiles import Profile, unit_mm

# The database's name for a lens's geometry → ours. What isn't here has no projection of ours.
GEOMETRIES = {
    "RECTILINEAR": "rectilinear",
    "FISHEYE": "equidistant",
    "FISHEYE_ORTHOGRAPHIC": "orthographic",
    "FISHEYE_STEREOGRAPHIC": "stereographic",
    "FISHEYE_EQUISOLID": "equisolid",
}


@dataclass(frozen=True)
class KnownCamera:
    """A camera body; `crop_factor` is the full-frame diagonal over its own."""

    maker: str
    model: str
    mount: str
    crop_factor: float

    def sensor_mm(self, aspect: float) -> tuple[float, float, float]:
        """(width, height, ± of the width) in mm of a sensor of this diagonal and of a picture's
        aspect.

        The crop factor is rounded, and makers crop a little from the sensor for the picture: half
        its last digit, and 1 %, together.
        """
        digits = len(f"{self.crop_factor:g}".partition(".")[2])
        share = math.hypot(0.5 * 10**-digits / math.sqrt(3) / self.crop_factor, 0.01)
        diagonal = FULL_FRAME_DIAGONAL_MM / self.crop_factor
        width = diagonal * aspect / math.hypot(aspect, 1)
        return width, width / aspect, width * share


@dataclass(frozen=True)
class KnownLens:
    """`key` finds it again with `lens_by_key`; focal lengths in mm; `projection` is None where ours
    has no such geometry."""

    key: str
    maker: str
    model: str
    focal_mm: tuple[float, float]
    projection: str | None
    crop_factor: float
    mounts: tuple[str, ...]
    models: tuple[str, ...]


@cache
def _database() -> Any:
    import lensfunpy

    return lensfunpy.Database()


@cache
def _aspects() -> dict[tuple[str, str, float], float]:
    """Longer over shorter side of the pictures that were calibrated, where it isn't 3:2: the
    library doesn't pass it on."""
    import lensfunpy

    out = {}
    for path in sorted((Path(lensfunpy.__file__).parent / "db_files").glob("*.xml")):
        for lens in ElementTree.parse(path).iter("lens"):
            text = lens.findtext("aspect-ratio")
            if text:
                top, _, bottom = text.partition(":")
                aspect = float(top) / float(bottom or 1)
                crop = float(lens.findtext("cropfactor") or 1)
                maker, model = (lens.findtext(key) or "" for key in ("maker", "model"))
                out[maker, model, round(crop, 3)] = max(aspect, 1 / aspect)
    return out


def _words(text: str) -> list[str]:
    return re.findall(r"[^\s,;]+", text.lower())


def _matches(words: list[str], *names: str) -> bool:
    whole = " ".join(name for name in names if name).lower()
    return all(word in whole for word in words)


def search_cameras(text: str, most: int = 40) -> list[KnownCamera]:
    """Bodies whose maker and model hold every word of `text`; the shortest names, which fit best,
    first."""
    words = _words(text)
    if not words:
        return []
    found = [
        camera for camera in _database().cameras if _matches(words, camera.maker, camera.model)
    ]
    found.sort(key=lambda camera: (len(camera.model), camera.maker, camera.model))
    return [_camera(camera) for camera in found[:most]]


def _camera(camera: Any) -> KnownCamera:
    return KnownCamera(camera.maker, camera.model, camera.mount, float(f"{camera.crop_factor:.4g}"))


def camera_of_file(maker: str | None, model: str | None) -> KnownCamera | None:
    """The body that a file's metadata names, None where the database has none of that name."""
    if not maker or not model:
        return None
    found = _database().find_cameras(maker, model)
    # The library also answers with what is merely alike; a sensor taken from another model would be
    # a wrong fact.
    exact = [
        camera
        for camera in found
        if camera.model.lower() == model.strip().lower()
        or f"{camera.maker} {camera.model}".lower() == model.strip().lower()
    ]
    return _camera(exact[0]) if exact else None


def search_lenses(text: str, most: int = 40) -> list[KnownLens]:
    """Lenses whose maker and model hold every word of `text`."""
    words = _words(text)
    if not words:
        return []
    found = [
        (index, lens)
        for index, lens in enumerate(_database().lenses)
        if _matches(words, lens.maker, lens.model)
    ]
    found.sort(key=lambda pair: (len(pair[1].model), pair[1].maker, pair[1].model))
    return [_lens(index, lens) for index, lens in found[:most]]


def _lens(index: int, lens: Any) -> KnownLens:
    models = sorted({entry.model.name.lower() for entry in lens.calib_distortion})
    low, high = lens.min_focal, lens.max_focal or lens.min_focal
    return KnownLens(
        str(index),
        lens.maker,
        lens.model,
        (round(low, 3), round(high, 3)),
        GEOMETRIES.get(lens.type.name),
        float(f"{lens.crop_factor:.4g}"),
        tuple(lens.mounts or ()),
        tuple(models),
    )


def raw_lens(key: str) -> Any:
    """The library's own lens object. Raises Problem where there is none."""
    lenses = _database().lenses
    if not key.isdecimal() or len(key) > 9 or int(key) >= len(lenses):
        raise Problem("That lens isn't in the database.")
    return lenses[int(key)]


def lens_by_key(key: str) -> KnownLens:
    """The lens of a search. Raises Problem where there is none."""
    lens = raw_lens(key)
    return _lens(int(key), lens)


def profile_of(key: str, focal_mm: float) -> Profile | None:
    """The distortion at a focal length, as the library interpolates it; None where the lens has no
    such profile."""
    lens = raw_lens(key)
    found = lens.interpolate_distortion(focal_mm)
    if found is None or found.model.name == "NONE":
        return None
    aspect = _aspects().get((lens.maker, lens.model, round(lens.crop_factor, 3)), 1.5)
    return Profile(
        found.model.name.lower(),
        tuple(float(term) for term in found.terms),
        unit_mm(lens.crop_factor, aspect),
        focal_mm,
    )
