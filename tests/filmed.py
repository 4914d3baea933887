"""Filmed plates for tests: pictures that carry their number as bars of black and white, as a movie
or as files."""

from fractions import Fraction
from pathlib import Path

import av
import numpy as np

BITS = 12
WIDTH, HEIGHT = 192, 108


def numbered(number: int, width: int = WIDTH, height: int = HEIGHT) -> np.ndarray:
    """(height, width, 3) uint8: grey that changes, and below it the number in BITS bars, the lowest
    bit on the left."""
    out = np.empty((height, width, 3), np.uint8)
    across, down = np.meshgrid(np.arange(width), np.arange(height))
    out[:] = (60 + (across + 2 * down + 5 * number) % 120)[..., None]
    bars = np.repeat([(number >> bit) & 1 for bit in range(BITS)], width // BITS)
    out[height // 2 :, : len(bars)] = np.where(bars, 235, 20)[None, :, None]
    return out


def number_in(picture: np.ndarray) -> int:
    """The number that a picture carries, also after it was compressed or made smaller."""
    height, width = picture.shape[:2]
    grey = picture[int(height * 0.65) : int(height * 0.9)].astype(float).mean(axis=(0, 2))
    high = np.iinfo(picture.dtype).max if picture.dtype.kind == "u" else 1.0
    middles = ((np.arange(BITS) + 0.5) * (width / BITS)).astype(int)
    return sum(1 << bit for bit, at in enumerate(middles) if grey[at] > high / 2)


def write_movie(
    path,
    count=48,
    codec="libx264",
    pixels="yuv420p",
    rate=Fraction(24000, 1001),
    times=None,
    options=None,
    size=(WIDTH, HEIGHT),
    timecode=None,
    rotation=0,
    container=None,
    interlaced=False,
):
    """A movie of `count` numbered pictures; `times`: when each is shown, in 1/1000 s, for a rate
    that isn't steady."""
    with av.open(str(path), "w", format=container) as file:
        if timecode:
            file.metadata["timecode"] = timecode
        stream = file.add_stream(codec, rate=rate, options=options or {})
        stream.width, stream.height, stream.pix_fmt = *size, pixels
        if timecode:
            stream.metadata["timecode"] = timecode
        if rotation:
            stream.set_display_rotation(rotation)
        if times is not None:
            stream.codec_context.time_base = Fraction(1, 1000)
        for number in range(count):
            frame = av.VideoFrame.from_ndarray(numbered(number, *size), format="rgb24")
            if times is not None:
                frame.pts, frame.time_base = times[number], Fraction(1, 1000)
            file.mux(stream.encode(frame))
        file.mux(stream.encode(None))
    return Path(path)
