"""Renders that come back from other programs: read with their alpha, checked against what is
expected, and put right.

What is expected is the alpha of the same stand-ins through the same camera by the renderer that
ships with the program. Which grid a render was made for, and which corrections it got too often or
not yet, is recognised by `corrections`.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.plates.colour import decode_srgb, encode_srgb
from aperture.plates.exr import read_channels
from aperture.render.correction_words import in_words
from aperture.render.corrections import (
    AGREES,
    CLEARLY,
    PLATE,
    STABILISED,
    Geometry,
    apply,
    corrections_of,
    overlap,
    recognise,
    refined,
    targets_of,
)

if TYPE_CHECKING:
    from aperture.render.corrections import Correction, Target

ENDINGS = ("png", "tif", "tiff", "exr")
MOST_SAMPLES = 16  # of one pixel
MOST_PIXELS = 60_000_000  # four float channels, and copies of them, must stay below `fence`'s limit
ENCODINGS = {"file": "as its file says", "linear": "linear light", "srgb": "encoded as sRGB"}
MULTIPLIED = {"seen": "as its edges show", "yes": "multiplied by its alpha", "no": "not multiplied"}
ALPHAS = {"seen": "whichever agrees", "as is": "as it came", "inverted": "inverted"}


@dataclass(frozen=True, eq=False)
class Returned:
    """rgba: (H, W, 4) float32, linear and premultiplied once put right; has_alpha, linear: what the
    file said; `doubts`: what it says, or its values show, that makes its colours doubtful."""

    rgba: Array
    has_alpha: bool
    linear: bool
    doubts: tuple[Finding, ...] = ()

    @property
    def has_shape(self) -> bool:
        """Whether its alpha tells anything: one that is full everywhere doesn't."""
        return self.has_alpha and bool(self.rgba[..., 3].min() <= 0.999)


@dataclass(frozen=True)
class Finding:
    """One thing about a render: what it is (a key), a sentence, and whether it was put right."""

    key: str
    says: str
    mended: bool


def read(path: Path) -> Returned:
    """A PNG, TIFF or OpenEXR with its alpha. Raises Problem."""
    import cv2

    ending = path.suffix.lower().lstrip(".")
    if ending not in ENDINGS:
        raise Problem("This file can't be used here. Bring PNG, TIFF or EXR.", "file")
    if ending == "exr":
        return _read_exr(path)
    _require_declared_size(path)
    data = np.fromfile(path, np.uint8)
    try:
        pixels = cv2.imdecode(data, cv2.IMREAD_UNCHANGED) if len(data) else None
    except cv2.error as error:
        if error.code == cv2.Error.StsNoMem:
            raise MemoryError from None
        pixels = None
    if pixels is None:
        raise Problem(
            "This picture can't be read: it is damaged, or of another kind than its name says.",
            "file",
        )
    pixels = pixels[..., None] if pixels.ndim == 2 else pixels
    doubts: tuple[Finding, ...] = ()
    linear = pixels.dtype.kind == "f"
    if not linear and _says_linear(path):
        linear, doubts = (
            True,
            (
                Finding(
                    "encoding",
                    "Its file says that its values are linear light, and they were taken so.",
                    True,
                ),
            ),
        )
    order = {3: (2, 1, 0), 4: (2, 1, 0, 3)}.get(pixels.shape[2], (0, 0, 0))
    rgba = np.ones((*pixels.shape[:2], 4), np.float32)
    # One channel after the other: what is held at once stays near the picture's own size.
    for channel, source in enumerate(order):
        rgba[..., channel] = _light(pixels[..., source], linear or channel == 3)
    return Returned(rgba, pixels.shape[2] == 4, linear, doubts)


def _light(samples: Array, linear: bool) -> Array:
    """Values of 0 to 1 of whole numbers, decoded from sRGB unless `linear`; floats as they are."""
    if samples.dtype.kind == "f":
        return samples
    steps = np.iinfo(samples.dtype).max
    values = np.arange(steps + 1) / steps
    table = values if linear else decode_srgb(values)
    return np.asarray(table, np.float32)[samples]


def _require_size(width: int, height: int) -> None:
    if min(width, height) < 1:
        raise Problem("The windows of this picture contain no pixels.", "file")
    if width * height > MOST_PIXELS:
        raise Problem(
            f"This picture has {width} × {height} px, too many to lay over a plate.", "file"
        )


def _require_declared_size(path: Path) -> None:
    """Refuse a PNG or TIFF by what it says of its size. The decoder trusts it, even where the file
    is damaged."""
    import tifffile

    with open(path, "rb") as file:
        head = file.read(24)
    if head[:8] == b"\x89PNG\r\n\x1a\n":  # ISO/IEC 15948, clause 11.2.2: IHDR is the first chunk
        _require_size(int.from_bytes(head[16:20], "big"), int.from_bytes(head[20:24], "big"))
        return
    try:
        with tifffile.TiffFile(path) as tiff:
            page = tiff.pages[0]
            # Odd files make tuples of these.
            width, height = int(page.imagewidth), int(page.imagelength)
            samples = int(page.samplesperpixel)
    except Exception:  # it raises whatever it meets; the decoder says what is wrong
        return
    _require_size(width, height)
    if samples > MOST_SAMPLES:
        raise Problem(f"This picture has {samples} values for each pixel.", "file")


def _says_linear(path: Path) -> bool:
    """Whether a PNG's gAMA chunk or a profile's name says that the values are linear (ISO/IEC
    15948, clause 11.3.2.2)."""
    from PIL import Image

    try:
        with Image.open(path) as picture:
            gamma, profile = picture.info.get("gamma"), picture.info.get("icc_profile") or b""
    except (OSError, ValueError, SyntaxError):
        return False
    return bool(gamma and abs(gamma - 1) < 0.01) or b"linear" in profile[:4096].lower().replace(
        b"\0", b""
    )


def _read_exr(path: Path) -> Returned:
    def choose(names: list[str]) -> list[str]:
        if not {"R", "G", "B"} <= set(names):
            raise Problem("This EXR has no R, G and B: " + ", ".join(names[:6]) + ".", "file")
        return ["R", "G", "B", "A"] if "A" in names else ["R", "G", "B"]

    try:
        channels, header = read_channels(path, choose, _require_size)
    except Problem:
        raise
    except Exception as error:  # the library raises whatever it meets
        raise Problem(
            "This EXR can't be read: it is damaged, or of another kind than its name says.", "file"
        ) from error
    window, shown = header["dataWindow"], header["displayWindow"]
    primaries = header.get("chromaticities")
    (left, top), (right, bottom) = (np.array(corner) for corner in shown)
    offset_x, offset_y = (int(v) for v in np.array(window[0]) - (left, top))
    height, width = int(bottom - top) + 1, int(right - left) + 1
    # What lies outside the data window is empty, and so is its alpha.
    x, y = max(offset_x, 0), max(offset_y, 0)
    rgba = np.zeros((height, width, 4), np.float32)
    for index, name in enumerate("RGBA"):
        part = channels.get(name)
        if part is None:  # no alpha: opaque where there is a picture
            part = np.ones_like(channels["R"])
        part = part[max(-offset_y, 0) :, max(-offset_x, 0) :]
        part = part[: max(height - y, 0), : max(width - x, 0)]
        place = rgba[y : y + part.shape[0], x : x + part.shape[1], index]
        place[:] = np.nan_to_num(np.asarray(part, np.float32), posinf=65504, neginf=0)
    return Returned(rgba, "A" in channels, True, tuple(_doubts_of_exr(rgba, primaries)))


REC709 = (
    0.64,
    0.33,
    0.30,
    0.60,
    0.15,
    0.06,
    0.3127,
    0.3290,
)  # ITU-R BT.709, which OpenEXR means where nothing is said


def _doubts_of_exr(rgba: Array, primaries: Any) -> Iterator[Any]:
    """What in an EXR makes its colours doubtful: other primaries, or steps of an 8-bit picture that
    was encoded for a screen."""
    if (
        primaries is not None
        and np.abs(np.array(primaries, float).ravel()[:8] - REC709).max() > 0.005
    ):
        yield Finding(
            "encoding",
            "Its file names other primaries than the plate's (ITU-R BT.709): its colours will"
            " differ.",
            False,
        )
    colour = rgba[..., :3][rgba[..., 3] > 0.99]
    colour = colour[(colour > 0.02).all(axis=1) & (colour < 1).all(axis=1)][:200_000]
    if len(colour) > 200:
        steps = colour * 255  # half floats below 1 are finer than an eighth of such a step
        if np.abs(steps - np.round(steps)).max() < 0.07 and len(np.unique(np.round(steps))) > 8:
            yield Finding(
                "encoding",
                "Its values are quantised to 255 steps, like those of a picture made for a screen:"
                " it was probably written without being made linear. Take its colours as encoded,"
                " below.",
                False,
            )


@dataclass(frozen=True)
class Taken:
    """How a render is to be taken: `geometry` None: as recognised; keys of ENCODINGS, MULTIPLIED
    and ALPHAS."""

    geometry: Geometry | None = None
    encoding: str = "file"
    multiplied: str = "seen"
    alpha: str = "seen"


def put_right(
    found: Returned,
    expected: Array,
    corrections: Sequence[Correction] = (),
    targets: Sequence[Target] = (),
    taken: Taken | None = None,
) -> tuple[Returned, list[Finding], Taken]:
    """The render at the plate's size, upright, premultiplied, with what was found, and how it was
    taken, nothing left to recognise.

    expected: (H, W) alpha. corrections, targets: as `corrections.corrections_of` and `targets_of`
    give them; the slips that are always possible and the plate itself without. Raises Problem where
    its shape fits the plate in no way.
    """
    taken, findings = taken or Taken(), list(found.doubts)
    corrections, targets = (
        list(corrections) or corrections_of(None, None),
        list(targets) or targets_of(None, *expected.shape[::-1]),
    )
    rgba = _encoded(found, taken.encoding)
    has_alpha = found.has_shape
    inverted, geometry = _recognised(rgba, has_alpha, expected, corrections, targets, taken)
    # Before anything is resized: mixing colours that aren't multiplied with the black of empty
    # pixels makes their edges fade as if they were.
    rgba, straight = _multiplied(rgba, has_alpha, inverted, taken.multiplied)
    on_plate = apply(rgba, corrections, targets, geometry) if geometry else None
    if (
        geometry is None or on_plate is None
    ):  # of no grid's size: with overscan of its own, or at another scale
        rgba = _of_size(rgba, expected.shape, findings)
        inverted, geometry = _recognised(rgba, has_alpha, expected, corrections, targets, taken)
        geometry = Geometry(PLATE, geometry.ways if geometry else {})
        on_plate = apply(rgba, corrections, targets, geometry)
        if on_plate is None:
            raise Problem("What was asked for makes a picture of another size than the plate's.")
    rgba = on_plate
    if not has_alpha:
        rgba = _with_shape_of_black(rgba, findings)
    elif inverted:
        says = "Its alpha is the wrong way round: it was inverted."
        findings.append(Finding("alpha", says, True))
        rgba = np.concatenate([rgba[..., :3], 1 - rgba[..., 3:]], axis=2)
    findings += _told_geometry(geometry, corrections, targets, by_hand=taken.geometry is not None)
    if overlap(rgba[..., 3], expected) < 0.3 and expected.max() > 0.5:
        says = "It hardly covers what the stand-ins cover: was it rendered through this camera?"
        findings.append(Finding("elsewhere", says, False))
    findings += _told_multiplied(found.linear, straight)
    done = Taken(
        geometry, taken.encoding, "no" if straight else "yes", "inverted" if inverted else "as is"
    )
    return replace(found, rgba=rgba), findings, done


def _with_shape_of_black(rgba: Array, findings: list[Finding]) -> Array:
    """A render without alpha: what is black counts as empty."""
    black = rgba[..., :3].max(axis=2) < 1e-4
    says = "It has no alpha, and covers all of the plate. Render it with alpha."
    if black.any():
        says = "It has no alpha: what is black was taken as empty, so that its edges are hard."
    findings.append(Finding("alpha", says, bool(black.any())))
    opaque = np.concatenate([rgba[..., :3], np.ones_like(rgba[..., 3:])], axis=2)
    return opaque * ~black[..., None]


def _told_geometry(
    geometry: Geometry,
    corrections: Sequence[Correction],
    targets: Sequence[Target],
    by_hand: bool,
) -> Iterator[Finding]:
    """What was turned, flipped or bent, and the grid that the render was made for."""
    for one in corrections:
        way = geometry.ways.get(one.key, 0)
        if (
            one.name == STABILISED
        ):  # said even where nothing was done: both can be stabilised, or neither
            yield Finding(one.key, in_words(one, way, by_hand), True)
        elif way:
            key = one.key if one.of_plate else "upright"
            yield Finding(key, in_words(one, way, by_hand), True)
    if geometry.grid != PLATE:
        name = next(one.name for one in targets if one.key == geometry.grid)
        says = (
            f"It was rendered for another grid of the gate chain, “{name}”: the chain brought it to"
            " the plate."
        )
        yield Finding("grid", says, True)


def _recognised(
    rgba: Array,
    has_alpha: bool,
    expected: Array,
    corrections: list[Correction],
    targets: list[Target],
    taken: Taken,
) -> tuple[bool, Geometry | None]:
    """Whether a picture's alpha is inverted, and its geometry, unless they are told; without an
    alpha, what isn't black is its shape."""
    shape = rgba[..., 3] if has_alpha else (rgba[..., :3].max(axis=2) >= 1e-4).astype(np.float32)
    if taken.geometry:
        return has_alpha and taken.alpha == "inverted", taken.geometry
    ways = {
        "seen": (False, True) if has_alpha else (False,),
        "as is": (False,),
        "inverted": (True,),
    }[taken.alpha]
    seen = {
        way: recognise(1 - shape if way else shape, expected, corrections, targets) for way in ways
    }
    score = {way: one.score if one else 0.0 for way, one in seen.items()}
    # Turned round only where that agrees clearly better.
    inverted = seen.keys() == {True} or score.get(True, 0.0) > max(
        AGREES, score.get(False, 0.0) + CLEARLY
    )
    one = seen[inverted]
    if one is None:
        return inverted, None
    own = 1 - shape if inverted else shape
    return inverted, refined(own, expected, corrections, targets, one.geometry)


def _encoded(found: Returned, encoding: str) -> Array:
    """Its picture with its colours taken as one of ENCODINGS."""
    if encoding == "file" or (encoding == "linear") == found.linear:
        return found.rgba
    colour = (
        decode_srgb(found.rgba[..., :3]) if encoding == "srgb" else encode_srgb(found.rgba[..., :3])
    )
    return np.concatenate([colour.astype(np.float32), found.rgba[..., 3:]], axis=2)


def _multiplied(
    rgba: Array, has_alpha: bool, inverted: bool, wanted: str
) -> tuple[Array, bool | None]:
    """The picture with its colours multiplied by its alpha, and whether they weren't yet.

    None where nothing tells. `wanted`: a key of MULTIPLIED.
    """
    if not has_alpha:
        return rgba, None
    alpha = 1 - rgba[..., 3:] if inverted else rgba[..., 3:]
    straight = {"yes": False, "no": True}.get(wanted)
    if straight is None:
        straight = _is_straight(np.concatenate([rgba[..., :3], alpha], axis=2))
    if not straight:
        return rgba, straight
    return np.concatenate([rgba[..., :3] * alpha, rgba[..., 3:]], axis=2), True


def _told_multiplied(linear: bool, straight: bool | None) -> list[Finding]:
    """What to say of colours that come otherwise than their kind of file should have them."""
    if straight and linear:  # PNG (ISO/IEC 15948, clause 6.2) has them so; OpenEXR has not
        says = "Its colours aren't multiplied by its alpha: that was done."
    elif straight is False and not linear:
        says = (
            "Its colours are multiplied by its alpha already, which files of this kind shouldn't "
            "be: they were taken so."
        )
    else:
        return []
    return [Finding("premultiplied", says, True)]


def _is_straight(rgba: Array) -> bool | None:
    """Whether colours along the edges are as bright as the solid ones beside them, rather than
    fading with the alpha; None where nothing tells."""
    import cv2

    value, alpha = rgba[..., :3].max(axis=2), rgba[..., 3]
    solid = (alpha > 0.995).astype(np.float32)
    near = cv2.boxFilter(solid, -1, (7, 7), normalize=False)
    soft = (alpha > 0.05) & (alpha < 0.95) & (near > 0)
    if soft.any():
        beside = cv2.boxFilter(value * solid, -1, (7, 7), normalize=False)[soft] / near[soft]
        straight, fading = (
            float(np.median(np.abs(value[soft] - share * beside))) for share in (1, alpha[soft])
        )
        return None if abs(straight - fading) < 1e-4 else straight < fading
    return True if ((alpha <= 0) & (value > 0.004)).mean() > 0.01 else None


def _of_size(rgba: Array, shape: tuple[int, int], findings: list[Any]) -> Array:
    import cv2

    (high, wide), (height, width) = rgba.shape[:2], shape
    if (high, wide) == (height, width):
        return rgba
    more, aspect = (wide - width, high - height), wide / high / (width / height)
    if (
        min(more) >= 0
        and max(more) > 0
        and all(side % 2 == 0 for side in more)
        and max(more[0] / width, more[1] / height) <= 1
        and not (abs(aspect - 1) < 2e-3 and wide % width == 0)
    ):
        x, y = more[0] // 2, more[1] // 2
        findings.append(
            Finding(
                "overscan",
                f"It has overscan, {x} px at each side and {y} px above and below: its middle was"
                " taken.",
                True,
            )
        )
        return rgba[y : y + height, x : x + width]
    if abs(aspect - 1) < 2e-3:
        findings.append(
            Finding(
                "size",
                f"It has {wide} × {high} px, the plate {width} × {height}: it was resized.",
                True,
            )
        )
        return cv2.resize(
            rgba,
            (width, height),
            interpolation=cv2.INTER_AREA if wide > width else cv2.INTER_LINEAR,
        )
    raise Problem(
        f"This render has {wide} × {high} px, {wide / high:.4g} to 1; the plate has {width} ×"
        f" {height}, {width / height:.4g} to 1. Render it at the plate's size, or with the same"
        " overscan at opposite sides.",
        "file",
    )


def write_shown(folder: Path, rgba: Array) -> None:
    """render.exr, render.png and alpha.png of a picture (H, W, 4), linear and premultiplied."""
    from aperture.render.files import write_exr, write_grey, write_png
    from aperture.render.passes import Render

    made = Render({"beauty": np.clip(rgba, -65504, 65504)}, [])
    write_exr(folder / "render.exr", made)
    write_png(folder / "render.png", made)
    write_grey(folder / "alpha.png", rgba[..., 3])
