"""What a page needs of a picture: a proxy that a browser shows, a thumbnail, and every real pixel
for the loupe."""

import hashlib
import os
from pathlib import Path

import numpy as np

from aperture.arrays import Array
from aperture.plates.colour import encode_srgb
from aperture.plates.reading import Picture

PROXY_SIDE = 3840
THUMB_SIDE = 480
STRIP_ROWS = 256
TILE = 256  # px a side of the real pixels that the loupe asks for
WORKING = "working.npy"


def sha256_of(path: Path) -> str:
    """Hex digest of a file's bytes."""
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def display_bytes(pixels: Array, linear: bool) -> Array:
    """(…, 3) uint8 sRGB display values of uint8, uint16 or linear float pixels."""
    if pixels.dtype == np.uint8:
        return pixels
    if pixels.dtype == np.uint16:
        return ((pixels.astype(np.uint32) * 255 + 32767) // 65535).astype(np.uint8)
    values = encode_srgb(pixels.astype(np.float32)) if linear else np.clip(pixels, 0, 1)
    return (values * 255 + 0.5).astype(np.uint8)


def write_full(pixels: Array, linear: bool, folder: Path) -> None:
    """Write `pixels.npy` (full size, uint8 sRGB for the loupe), and `working.npy` where the samples
    are finer than 8 bit."""
    full = np.lib.format.open_memmap(
        folder / "pixels.npy", mode="w+", dtype=np.uint8, shape=(*pixels.shape[:2], 3)
    )
    for top in range(
        0, len(pixels), STRIP_ROWS
    ):  # in strips, so that memory stays near the picture's own size
        full[top : top + STRIP_ROWS] = display_bytes(
            np.ascontiguousarray(pixels[top : top + STRIP_ROWS]), linear
        )
    del full  # what is mapped is written; whoever keeps it syncs the file
    if pixels.dtype != np.uint8:
        np.save(folder / WORKING, pixels)


def write_proxies(picture: Picture, folder: Path) -> None:
    """Write `pixels.npy` (full size, uint8, for the loupe), `proxy.jpg` and `thumb.jpg` into an
    existing folder.

    Also `working.npy`, the samples as the file has them, where these are finer than 8 bit.
    """
    import cv2

    write_full(picture.pixels, picture.linear, folder)
    full = np.load(folder / "pixels.npy", mmap_mode="r")
    for name, side, quality in (("proxy.jpg", PROXY_SIDE, 93), ("thumb.jpg", THUMB_SIDE, 88)):
        scale = min(1.0, side / max(picture.width, picture.height))
        size = (max(1, round(picture.width * scale)), max(1, round(picture.height * scale)))
        small = (
            np.asarray(full)
            if scale == 1
            else cv2.resize(np.asarray(full), size, interpolation=cv2.INTER_AREA)
        )
        options = [cv2.IMWRITE_JPEG_QUALITY, quality]
        if not cv2.imwrite(str(folder / name), cv2.cvtColor(small, cv2.COLOR_RGB2BGR), options):
            raise OSError(f"could not write {name}")
    del full
    names = ["pixels.npy", "proxy.jpg", "thumb.jpg", WORKING]
    for name in names:
        if not (folder / name).exists():
            continue
        with open(folder / name, "rb+") as file:
            os.fsync(file.fileno())


def region_png(folder: Path, left: int, top: int, width: int, height: int) -> bytes:
    """Real pixels as PNG; what lies outside the picture is the table's grey."""
    import cv2

    full = np.load(folder / "pixels.npy", mmap_mode="r")
    out = np.full((height, width, 3), (0x5A, 0x5B, 0x5C), np.uint8)
    y0, x0, y1, x1 = (
        max(top, 0),
        max(left, 0),
        min(top + height, full.shape[0]),
        min(left + width, full.shape[1]),
    )
    if y1 > y0 and x1 > x0:
        out[y0 - top : y1 - top, x0 - left : x1 - left] = full[y0:y1, x0:x1]
    return cv2.imencode(
        ".png", cv2.cvtColor(out, cv2.COLOR_RGB2BGR), [cv2.IMWRITE_PNG_COMPRESSION, 1]
    )[1].tobytes()
