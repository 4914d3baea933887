"""Movies: what a file holds, told exactly, and any of its pictures.

FFmpeg reads them, through PyAV. A movie's pictures are told by the times in its packets, not by
what its header claims: so many pictures, at this rate, or at none. Each picture is found again by
its number, from the key picture before it.
"""

from __future__ import annotations

import threading
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from itertools import islice
from pathlib import Path
from typing import Any

import av
import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.plates.reading import MOST_PIXELS, upright

MOST_PICTURES = 200_000
CHECKED = 40  # pictures that are decoded to see whether their times can be trusted
# Rates of the trade, tried where the file's own times are too coarse to give the rate exactly.
RATES = tuple(
    Fraction(*rate)
    for rate in (
        (24000, 1001),
        (24, 1),
        (25, 1),
        (30000, 1001),
        (30, 1),
        (48, 1),
        (50, 1),
        (60000, 1001),
        (60, 1),
        (15, 1),
        (12, 1),
        (10, 1),
        (100, 1),
        (120, 1),
    )
)
# Where a file doesn't say its matrix: BT.601 below this height, BT.709 from it on. Common practice,
# no source.
HD_HEIGHT = 720
MATRICES = {1: "BT.709", 4: "FCC", 5: "BT.601", 6: "BT.601", 7: "SMPTE 240M", 9: "BT.2020"}
# Codecs that give every sample back; all others leave out what is hardly seen.
LOSSLESS = frozenset({"ffv1", "huffyuv", "ffvhuff", "utvideo", "rawvideo", "v210", "png", "qtrle"})
_ROTATED = {0: 1, 90: 8, 180: 3, 270: 6}  # degrees anticlockwise to EXIF's orientation


@dataclass(frozen=True)
class Movie:
    """What a movie holds.

    times : (N,) when each picture is shown, in units of `tick` seconds, in order.
    keys : which of the pictures can be decoded without another; `key_places`: where the file has
    each, in ticks
        of decoding time.
    rate : pictures a second; None where they come at no steady rate.
    rotation : degrees that the picture is to be turned anticlockwise, a multiple of 90.
    matrix, full_range : how its Y′CbCr values mean colour; `told` is whether the file says so.
    by_count : the times of its pictures are muddled (old codecs in AVI), and only their order
    holds.
    """

    container: str
    codec: str
    width: int
    height: int
    pixel_format: str
    bits: int
    times: tuple[int, ...]
    keys: tuple[int, ...]
    key_places: tuple[int, ...]
    tick: Fraction
    rate: Fraction | None
    mean_rate: Fraction
    rotation: int
    pixel_aspect: Fraction
    interlaced: bool
    timecode: str
    matrix: str
    full_range: bool
    told: bool
    by_count: bool

    @property
    def count(self) -> int:
        """How many pictures there are."""
        return len(self.times)

    @property
    def lossy(self) -> bool:
        """Whether its codec leaves things out."""
        return self.codec not in LOSSLESS

    @property
    def seconds(self) -> float:
        """From the first picture to the end of the last, if all are shown as long as on average."""
        return float(self.count / self.mean_rate)

    def at_rate(self, rate: Fraction) -> list[int]:
        """The picture that each frame of another rate shows: the last that has begun by then."""
        if not self.times:
            return []
        start, length = self.times[0], (self.times[-1] - self.times[0]) * self.tick
        frames = int(length * rate + Fraction(1, 2)) + 1
        # Half a tick of patience: times are rounded to ticks.
        moments = (
            Fraction(frame) / rate / self.tick + start + Fraction(1, 2) for frame in range(frames)
        )
        return [max(bisect_right(self.times, moment) - 1, 0) for moment in moments]


def repeated_and_dropped(shown: list[int], count: int) -> tuple[list[int], list[int]]:
    """Of the pictures that frames show: those shown more than once, and those of `count` never
    shown."""
    seen: dict[int, int] = {}
    for picture in shown:
        seen[picture] = seen.get(picture, 0) + 1
    return [p for p, times in seen.items() if times > 1], [p for p in range(count) if p not in seen]


def probe(path: Path, name: str | None = None) -> Movie:
    """What a movie holds, without decoding more than one picture.

    Raises Problem where it isn't a movie, has no pictures, or none that can be read.
    """
    name = name or path.name
    with _opened(path, name) as container:
        stream = container.streams.video[0]
        packets = _packets(container, stream, name)
        first = list(islice(_decoded(path, name), CHECKED))
        if not first:
            raise Problem(f"“{name}”: none of its pictures can be decoded. Export it again.")
        return _told(container, stream, packets, first)


_last = threading.local()  # `decoder` that is kept open, and `what` file it is of


class Decoder:
    """Pictures of a movie by number, upright; one after the other is quick, going back costs as far
    as the key picture before.

    Not to be shared by threads. Close it, or use it with `with`.
    """

    def __init__(self, path: Path, movie: Movie, name: str | None = None):
        self.movie, self.name = movie, name or path.name
        self._container = _opened(path, self.name)
        self._stream = self._container.streams.video[0]
        self._stream.thread_type = "AUTO"
        self._frames: Iterator[Any] | None = None
        self._next = 0
        self._jumped_to = 0  # ticks

    def __enter__(self) -> Decoder:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    @classmethod
    def kept(cls, path: Path, movie: Movie, name: str | None = None) -> Decoder:
        """The decoder of this thread that was asked last, if it was of the same file as that is
        now: it goes on from where it was. It stays open; the one of another file is closed.
        """
        told = path.stat()
        what = (path, told.st_mtime_ns, told.st_size)
        if getattr(_last, "what", None) != what:
            if hasattr(_last, "decoder"):
                _last.decoder.close()
                del _last.decoder, _last.what
            _last.decoder, _last.what = cls(path, movie, name), what
        return _last.decoder

    def close(self) -> None:
        """Let the file go."""
        self._container.close()

    def picture(self, number: int) -> Array:
        """(H, W, 3) uint8, or uint16 of more than 8 bits: R′G′B′ as encoded, upright.

        Raises IndexError where there is no such picture, Problem where it can't be decoded.
        """
        kind = "rgb48le" if self.movie.bits > 8 else "rgb24"
        return _pixels(self._frame(number), self.movie, kind)

    def display(self, number: int) -> Array:
        """(H, W, 3) uint8 B′G′R′ for looking at, upright: quicker than `picture`. Raises as that
        does."""
        return _pixels(self._frame(number), self.movie, "bgr24", exact=False)

    def _frame(self, number: int) -> Any:
        movie = self.movie
        if not 0 <= number < movie.count:
            raise IndexError(number)
        before = max(bisect_right(movie.keys, number) - 1, 0)
        wanted = movie.times[number]
        try:
            if self._frames is None or number < self._next or movie.keys[before] > self._next:
                # Told by when it is shown, FFmpeg goes to the key picture itself in most files, and
                # else to a later one; told by when it is decoded, to the one before in most, which
                # costs twice as much.
                self._jumped_to = wanted if not movie.by_count else movie.times[0]
                self._seek(before, movie.times[movie.keys[before]])
                found = self._next_of(number, wanted)
                if found is not None:
                    return found
                self._seek(before, movie.key_places[before])
            if not movie.by_count:
                self._jumped_to = wanted
            found = self._next_of(number, wanted)
            if found is not None:
                return found
        except av.FFmpegError:
            pass
        self._frames = None
        raise Problem(f"“{self.name}”: picture {number + 1} of {movie.count} can't be decoded.")

    def _next_of(self, number: int, wanted: int) -> Any:
        """Decode on to a picture; None where it doesn't come."""
        movie = self.movie
        for frame in self._frames or ():
            at = movie.times[self._next] if movie.by_count else frame.pts
            if movie.by_count:
                self._next += 1
            if at is None or at < wanted:
                continue
            self._next = number + 1
            return frame if at == wanted else None
        return None

    def _decoded(self) -> Iterator[Any]:
        """The pictures from here on; those before the one that is jumped to only as far as it needs
        them."""
        context = self._stream.codec_context
        for packet in self._container.demux(self._stream):
            before = packet.pts is not None and packet.pts < self._jumped_to
            context.skip_frame = "NONREF" if before else "DEFAULT"
            yield from packet.decode()

    def _seek(self, key: int, place: int) -> None:
        if self.movie.by_count:  # its times mean nothing
            place = self.movie.key_places[key]
        self._container.seek(place, stream=self._stream, backward=True)
        self._frames = self._decoded()
        self._next = self.movie.keys[key]


def _pixels(frame: Any, movie: Movie, kind: str, exact: bool = True) -> Array:
    """A decoded frame as (H, W, 3) of full range, upright, by the movie's matrix and range; `kind`
    is FFmpeg's name of the pixels' form; `exact`: whether colour, of which there is less, is laid
    between its pixels with care.
    """
    matrix = {"BT.709": 1, "FCC": 4, "BT.601": 5, "SMPTE 240M": 7, "BT.2020": 9}[movie.matrix]
    converted = frame.reformat(
        format=kind,
        src_colorspace=matrix,
        src_color_range=2 if movie.full_range else 1,
        dst_color_range=2,
        interpolation="BICUBIC" if exact else "FAST_BILINEAR",
    )
    return upright(converted.to_ndarray(), _ROTATED[movie.rotation])


def _opened(path: Path, name: str) -> Any:
    try:
        container = av.open(str(path), metadata_errors="replace")
    except (av.FFmpegError, OSError, ValueError) as error:
        raise Problem(
            f"“{name}” can't be read as a movie: {_brief(error)}. It may be damaged or of another"
            " kind."
        ) from error
    if not container.streams.video:
        sound = " It holds sound only." if container.streams.audio else ""
        container.close()
        raise Problem(f"“{name}” has no pictures.{sound}")
    context = container.streams.video[0].codec_context
    if context is None or context.width * context.height > MOST_PIXELS:
        container.close()
        raise Problem(
            f"“{name}” says its pictures are larger than {MOST_PIXELS // 10**6} megapixels."
        )
    return container


def _packets(container: Any, stream: Any, name: str) -> list[tuple[int, int, bool]]:
    """The pictures as they are stored: when each is shown and when decoded, in ticks, and whether
    it is a key picture.

    Those that an edit list hides are left out.
    """
    found = []
    try:
        for packet in container.demux(stream):
            if packet.size and packet.pts is not None and not packet.is_discard:
                decoded = packet.pts if packet.dts is None else packet.dts
                found.append((packet.pts, decoded, packet.is_keyframe))
                if len(found) > MOST_PICTURES:
                    raise Problem(
                        f"“{name}” has more than {MOST_PICTURES:,} pictures. Cut it first."
                    )
    except av.FFmpegError as error:  # what was read until here is there
        if not found:
            raise Problem(f"“{name}” can't be read: {_brief(error)}.") from error
    if not found:
        raise Problem(f"“{name}” has no pictures.")
    return found


def _decoded(path: Path, name: str) -> Iterator[Any]:
    with _opened(path, name) as container:
        try:
            yield from container.decode(video=0)
        except av.FFmpegError:
            return


def _told(
    container: Any, stream: Any, packets: list[tuple[int, int, bool]], first: list[Any]
) -> Movie:
    picture, shown = first[0], [frame.pts for frame in first]
    by_count = None in shown or any(b <= a for a, b in zip(shown, shown[1:]))
    times = sorted(time for time, _, _ in packets)
    in_order = packets if by_count else sorted(packets)
    keys = [(index, place) for index, (_, place, key) in enumerate(in_order) if key]
    keys = keys or [(0, in_order[0][1])]
    tick = Fraction(stream.time_base)
    rate = steady_rate(times, tick, (stream.average_rate, stream.guessed_rate, stream.base_rate))
    length = (times[-1] - times[0]) * tick
    mean = rate or (Fraction(len(times) - 1) / length if length else Fraction(25))
    matrix, full = MATRICES.get(picture.colorspace), picture.color_range
    usual = "BT.709" if picture.height >= HD_HEIGHT else "BT.601"
    rotation = round(picture.rotation / 90) * 90 % 360
    width, height = picture.width, picture.height
    return Movie(
        container=container.format.name,
        codec=stream.codec_context.name,
        width=height if rotation % 180 else width,
        height=width if rotation % 180 else height,
        pixel_format=picture.format.name,
        bits=max(component.bits for component in picture.format.components),
        times=tuple(times),
        keys=tuple(index for index, _ in keys),
        key_places=tuple(place for _, place in keys),
        tick=tick,
        rate=rate,
        mean_rate=mean,
        rotation=rotation,
        pixel_aspect=Fraction(stream.sample_aspect_ratio or 1),
        interlaced=bool(picture.interlaced_frame),
        timecode=_timecode(container, stream),
        matrix=matrix or usual,
        full_range=full == 2 or picture.format.is_rgb or picture.format.name.startswith("yuvj"),
        told=bool(matrix) and full in (1, 2),
        by_count=by_count,
    )


def steady_rate(times: list[int], tick: Fraction, told: tuple[Any, ...]) -> Fraction | None:
    """The rate at which all pictures come, as far as times rounded to ticks can tell; None where
    they don't come steadily.

    `told`: rates that the file claims, tried first, then those of the trade, then the one that the
    times have on average.
    """
    if len(times) < 2:
        return next((Fraction(rate) for rate in told if rate), None)
    own = Fraction(len(times) - 1, times[-1] - times[0]) / tick if times[-1] > times[0] else None
    array = np.array(times, np.int64) - times[0]
    for rate in (*told, *RATES, own):
        if not rate:
            continue
        step = 1 / (Fraction(rate) * tick)  # ticks a picture
        expected = np.arange(len(array)) * float(step)
        # Rounding, up to one tick either way, and no drift.
        if np.abs(array - expected).max() <= 1.0 + 1e-6:
            return Fraction(rate)
    return None


def _timecode(container: Any, stream: Any) -> str:
    """The time code of the first picture, where a track or the header tells one."""
    for holder in (stream, *container.streams, container):
        told = holder.metadata.get("timecode")
        if told:
            return str(told)
    return ""


def _brief(error: Exception) -> str:
    return str(getattr(error, "strerror", "") or error).split(":")[0][:120]
