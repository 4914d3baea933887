"""Read one picture: JPEG, PNG (8, 16 bit), TIFF (8, 16 bit, float), OpenEXR (half, float), DPX (8
to 16 bit)."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.plates import dpx
from aperture.plates.exr import read_channels
from aperture.plates.metadata import Metadata, from_exif, from_openexr

MOST_PIXELS = (
    160_000_000  # of the largest sensors; what reading takes must stay below `fence`'s limit
)
ENDINGS = {
    "JPEG": (".jpg", ".jpeg", ".jpe"),
    "PNG": (".png",),
    "TIFF": (".tif", ".tiff"),
    "OpenEXR": (".exr",),
    "DPX": (".dpx",),
}
PICTURE_ENDINGS = frozenset(ending for endings in ENDINGS.values() for ending in endings)
LARGEST_EXIF = 16_000_000


@dataclass(frozen=True)
class Picture:
    """pixels: (height, width, 3), uint8 or uint16 display values, or float16/32 linear light;
    upright. notes: what was changed, in sentences."""

    kind: str
    pixels: Array
    linear: bool
    depth: str
    metadata: Metadata
    notes: tuple[str, ...]

    @property
    def width(self) -> int:
        """Pixels across."""
        return self.pixels.shape[1]

    @property
    def height(self) -> int:
        """Pixels down."""
        return self.pixels.shape[0]


def kind_of(path: Path, name: str) -> str:
    """A key of ENDINGS, by the file's first bytes. Raises Problem where it is none, or its name
    says another."""
    with open(path, "rb") as file:
        head = file.read(8)
    if not head:
        raise Problem(f"“{name}” is empty: it has no bytes. Export it again.")
    kind = next(
        (
            kind
            for kind, starts in {
                "JPEG": (b"\xff\xd8\xff",),
                "PNG": (b"\x89PNG\r\n\x1a\n",),
                "TIFF": (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"),
                "OpenEXR": (b"v/1\x01",),
                "DPX": tuple(dpx.MAGIC),
            }.items()
            if head.startswith(starts)
        ),
        None,
    )
    if kind is None:
        raise Problem(
            f"“{name}” is not a picture this program reads. It reads JPEG, PNG, TIFF, OpenEXR and"
            " DPX."
        )
    ending = Path(name).suffix.lower()
    if ending not in ENDINGS[kind]:
        raise Problem(
            f"“{name}” holds a {kind} picture, but its name says otherwise. Rename it to end in"
            f" {ENDINGS[kind][0]}."
        )
    return kind


def read_picture(path: Path, name: str | None = None) -> Picture:
    """The picture in a file; `name` is what to call it in sentences. Raises Problem."""
    path = Path(path)
    name = name or path.name
    kind = kind_of(path, name)
    try:
        picture = {
            "JPEG": _read_pillow,
            "PNG": _read_png,
            "TIFF": _read_tiff,
            "OpenEXR": _read_exr,
            "DPX": _read_dpx,
        }[kind](path, name, kind)
    except Problem:
        raise
    except MemoryError:
        raise Problem(f"“{name}” is too large for this machine's memory.") from None
    except Exception as error:  # decoders raise all sorts of things on damaged files
        raise Problem(
            f"“{name}” can't be read: the {kind} file is damaged or cut short ({_brief(error)})."
            " Export it again."
        ) from error
    return picture


def _brief(error: Any) -> str:
    text = " ".join(str(error).split()) or type(error).__name__
    return text[:80]


def _check_size(width: int, height: int, name: str) -> None:
    if width < 1 or height < 1:
        raise Problem(f"“{name}” has no pixels.")
    if width * height > MOST_PIXELS:
        raise Problem(
            f"“{name}” has {width * height / 1e6:.0f} megapixels; at most {MOST_PIXELS / 1e6:.0f}"
            " can be matched. Scale it down first."
        )


def _finish(
    kind: str,
    pixels: Array,
    name: str,
    metadata: Metadata,
    spoiled: int,
    notes: list[Any],
    linear: bool = False,
) -> Picture:
    notes = list(notes)
    if pixels.ndim == 2:
        pixels = np.repeat(pixels[:, :, None], 3, axis=2)
        notes.append("The picture is grey; its one channel serves for all three.")
    elif pixels.shape[2] == 2:
        pixels = np.repeat(pixels[:, :, :1], 3, axis=2)
        notes.append("The picture is grey with alpha; the alpha was left out.")
    elif pixels.shape[2] > 3:
        pixels = pixels[:, :, :3]
        notes.append("The alpha channel was left out: a plate is opaque.")
    if spoiled:
        notes.append(
            f"{spoiled} of the metadata's fields could not be read and"
            f" {'was' if spoiled == 1 else 'were'} left out."
        )
    if metadata.orientation and metadata.orientation > 1:
        pixels = upright(pixels, metadata.orientation)
        notes.append("The picture was turned upright, as its file says.")
    if linear and not np.isfinite(pixels[::7, ::7]).all():
        pixels = np.nan_to_num(pixels, nan=0.0, posinf=65504.0, neginf=0.0)
        notes.append("Some pixels were not numbers; they are shown black.")
    depth = {"uint8": "8 bit", "uint16": "16 bit", "float16": "half", "float32": "float"}[
        pixels.dtype.name
    ]
    return Picture(kind, pixels, linear, depth, metadata, tuple(notes))


def upright(pixels: Array, orientation: int) -> Array:
    """The pixels as they should be seen, by EXIF's orientation 1 … 8."""
    if orientation in (5, 6, 7, 8):
        pixels = pixels.transpose(1, 0, 2)
    if orientation in (2, 3, 6, 7):
        pixels = pixels[:, ::-1]
    if orientation in (3, 4, 7, 8):
        pixels = pixels[::-1]
    return pixels


def _pillow_metadata(image: Any) -> tuple[Metadata, int]:
    """Never raises: metadata can be anything, and a picture is a picture without it."""
    try:
        raw = image.info.get("exif", b"")
        if len(raw) > LARGEST_EXIF:
            return Metadata(), 1
        exif = image.getexif()
        return from_exif({**dict(exif), **dict(exif.get_ifd(0x8769))})
    except Exception:
        return Metadata(), 1


def _open_pillow(path: Path, name: str) -> Any:
    from PIL import Image, UnidentifiedImageError

    Image.MAX_IMAGE_PIXELS = None  # our own limit speaks a sentence
    try:
        image = Image.open(path)
    except UnidentifiedImageError:
        raise Problem(
            f"“{name}” can't be read: its file is damaged or cut short. Export it again."
        ) from None
    try:
        _check_size(*image.size, name)
    except Problem:
        image.close()
        raise
    return image


def _read_pillow(path: Path, name: str, kind: str) -> Picture:
    with _open_pillow(path, name) as image:
        metadata, spoiled = _pillow_metadata(image)
        notes = []
        mode = image.mode
        if mode == "CMYK":
            notes.append(
                "The picture was CMYK and was converted to RGB without a profile: colours are"
                " approximate."
            )
        elif mode in ("P", "PA"):
            notes.append("The picture had a palette and was converted to RGB.")
        image.load()
        pixels = np.asarray(image if mode in ("RGB", "RGBA", "L", "LA") else image.convert("RGB"))
    return _finish(kind, pixels, name, metadata, spoiled, notes)


def _read_png(path: Any, name: Any, kind: Any) -> Any:
    with open(path, "rb") as file:
        bit_depth = file.read(25)[24:25]
    if bit_depth != b"\x10":
        return _read_pillow(path, name, kind)
    import cv2

    with _open_pillow(path, name) as image:
        metadata, spoiled = _pillow_metadata(image)
        image.load()  # Pillow would keep 8 of 16 bits, but it notices damage
    pixels = cv2.imread(str(path), cv2.IMREAD_UNCHANGED)
    if pixels is None:
        raise Problem(f"“{name}” can't be read as a picture.")
    if pixels.ndim == 3:
        pixels = cv2.cvtColor(
            pixels, cv2.COLOR_BGRA2RGBA if pixels.shape[2] == 4 else cv2.COLOR_BGR2RGB
        )
    return _finish(kind, pixels, name, metadata, spoiled, [])


def _read_tiff(path: Any, name: Any, kind: Any) -> Any:
    import tifffile

    with tifffile.TiffFile(path) as file:
        page = file.pages[0]
        _check_size(page.imagewidth, page.imagelength, name)
        size = path.stat().st_size
        if any(
            offset + count > size for offset, count in zip(page.dataoffsets, page.databytecounts)
        ):
            raise Problem(
                f"“{name}” is cut short: pixels are missing from its end. Export it again."
            )
        tags: dict[Any, Any] = {}
        for tag in page.tags.values():
            try:
                tags |= _exif_by_number(tag.value) if tag.code == 0x8769 else {tag.code: tag.value}
            except Exception:
                tags[tag.code] = None
        metadata, spoiled = from_exif(tags)
        if page.photometric.name in ("PALETTE", "SEPARATED", "YCBCR", "CIELAB"):
            return _read_pillow(path, name, kind)
        pixels = page.asarray()
        if page.planarconfig.name == "SEPARATE" and pixels.ndim == 3:
            pixels = pixels.transpose(1, 2, 0)
        notes = (
            ["The file holds several pictures; the first was taken."] if len(file.pages) > 1 else []
        )
        if page.photometric.name == "MINISWHITE":
            pixels = (
                pixels.max() - pixels
                if pixels.dtype.kind == "f"
                else np.iinfo(pixels.dtype).max - pixels
            )
    if pixels.dtype == bool:
        pixels = pixels.astype(np.uint8) * 255
    if pixels.dtype == np.float64:
        pixels = pixels.astype(np.float32)
    if pixels.dtype.name not in ("uint8", "uint16", "float16", "float32"):
        raise Problem(
            f"“{name}” holds {pixels.dtype} samples; TIFF pictures of 8 or 16 bit, or float, can be"
            " read."
        )
    return _finish(kind, pixels, name, metadata, spoiled, notes, linear=pixels.dtype.kind == "f")


def _exif_by_number(named: Any) -> Any:
    from PIL.ExifTags import Base

    numbers = {tag.name: tag.value for tag in Base} | {
        "ISOSpeedRatings": 0x8827,
        "PhotographicSensitivity": 0x8827,
    }
    return (
        {numbers[key]: value for key, value in named.items() if key in numbers}
        if isinstance(named, dict)
        else {}
    )


def _read_dpx(path: Path, name: str, kind: str) -> Picture:
    with open(path, "rb") as file:
        head = file.read(2048)
    _check_size(*dpx.size_of(head), name)
    metadata = Metadata(timecode=dpx.timecode_of(head))
    return _finish(kind, dpx.read_pixels(path), name, metadata, 0, dpx.about(head))


def metadata_of(path: Path) -> Metadata:
    """What a file says about how it was taken, without its pixels. Never raises: a film may hold
    damaged files."""
    try:
        ending = path.suffix.lower()
        if ending in (".jpg", ".jpeg", ".png", ".tif", ".tiff"):
            with _open_pillow(path, path.name) as image:
                return _pillow_metadata(image)[0]
        if ending == ".exr":
            import OpenEXR

            return from_openexr(OpenEXR.File(str(path), header_only=True).header())[0]
        with open(path, "rb") as file:
            return Metadata(timecode=dpx.timecode_of(file.read(2048)))
    except Exception:  # decoders raise all sorts of things
        return Metadata()


def _read_exr(path: Any, name: Any, kind: Any) -> Any:
    def choose(names: list[str]) -> list[str]:
        if {"R", "G", "B"} <= set(names):
            return [key for key in "RGBA" if key in names]
        single = [key for key in names if key in ("R", "G", "B", "Y", "L")] or names[:2]
        if len(single) != 1:
            raise Problem(
                f"“{name}” has no R, G, B or Y channels. It has: {', '.join(names)[:200]}."
            )
        return single

    channels, header = read_channels(path, choose, lambda w, h: _check_size(w, h, name))
    low, high = header["displayWindow"]
    width, height = int(high[0] - low[0] + 1), int(high[1] - low[1] + 1)
    data_low, _ = header["dataWindow"]
    found = next(iter(channels.values()))
    if len(channels) > 1:
        found = np.stack(list(channels.values()), -1)
    notes = []
    if found.dtype.name not in ("float16", "float32"):
        found = found.astype(np.float32)
    left, top = int(data_low[0] - low[0]), int(data_low[1] - low[1])
    if found.shape[:2] != (height, width) or left or top:
        canvas = np.zeros((height, width, *found.shape[2:]), found.dtype)
        y0, x0, y1, x1 = (
            max(top, 0),
            max(left, 0),
            min(top + found.shape[0], height),
            min(left + found.shape[1], width),
        )
        if y1 > y0 and x1 > x0:
            canvas[y0:y1, x0:x1] = found[y0 - top : y1 - top, x0 - left : x1 - left]
        found = canvas
        notes.append(
            "The file's data window differs from its display window; the display window was taken."
        )
    metadata, spoiled = from_openexr(header)
    return _finish(kind, found, name, metadata, spoiled, notes, linear=True)
