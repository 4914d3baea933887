"""A cut as a movie to look at: H.264 in MP4, with the sound of a WAV file."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem

NO_SOUND = "That file can’t be read as sound: bring a WAV file."


def write(path: Path, pictures: Iterable[Array], rate: Fraction, sound: Path | None = None) -> int:
    """Write pictures (H, W, 3) of uint8 sRGB, all of one even size; how many there were. The sound
    ends with them.

    Raises Problem without a picture, or where the sound can't be read.
    """
    import av

    count = 0
    with av.open(str(path), "w") as file:
        video = file.add_stream("libx264", rate=rate)
        video.pix_fmt, video.options = "yuv420p", {"crf": "18", "preset": "veryfast"}
        audio = file.add_stream("aac", rate=48_000) if sound else None
        for picture in pictures:
            if not count:
                video.height, video.width = picture.shape[:2]
            frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(picture), format="rgb24")
            file.mux(video.encode(frame))
            count += 1
        if not count:
            raise Problem("The cut is empty: put a shot in first.")
        file.mux(video.encode(None))
        if audio is not None and sound is not None:
            _add_sound(file, audio, sound, count / rate)
    return count


def _add_sound(file, audio, sound: Path, seconds: Fraction) -> None:  # type: ignore[no-untyped-def]
    import av

    try:
        with av.open(str(sound)) as source:
            resampler = av.AudioResampler(format="fltp", layout="stereo", rate=48_000)
            left = int(seconds * 48_000)
            for frame in source.decode(audio=0):
                for part in resampler.resample(frame):
                    if left <= 0:
                        break
                    left -= part.samples
                    part.pts = None
                    file.mux(audio.encode(part))
            file.mux(audio.encode(None))
    except (av.error.FFmpegError, IndexError):
        raise Problem(NO_SOUND, "sound") from None


def check_sound(path: Path) -> float:
    """The length of a WAV file, seconds. Raises Problem where it isn't one."""
    import av

    try:
        with av.open(str(path), format="wav") as file:
            stream = file.streams.audio[0]
            next(file.decode(stream))
            length, unit = stream.duration, stream.time_base
            return float(length * unit) if length and unit else 0.0
    except (av.error.FFmpegError, IndexError, StopIteration):
        raise Problem(NO_SOUND, "sound") from None
