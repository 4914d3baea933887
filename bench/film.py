"""Bringing filmed plates in: small pictures of all frames on all cores; the reference is decoding
alone, in one process, in the same run."""

import os
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np

from aperture.plates.film import film_of_movie, film_of_pictures, make_small, parts

SIZE = 1920, 1080
FRAMES = 240
PART = 24


def _frames():
    """Frames with the detail and the noise of a real plate: a photograph's worth of texture that
    pans."""
    rng = np.random.default_rng(1)
    wide = rng.integers(0, 255, (SIZE[1] // 4, SIZE[0] // 2, 3), np.uint8)
    wide = cv2.GaussianBlur(
        cv2.resize(wide, None, fx=4, fy=4, interpolation=cv2.INTER_CUBIC), (0, 0), 2
    )
    noise = rng.normal(0, 2, (SIZE[1], SIZE[0], 3))
    for number in range(FRAMES):
        left = 4 * number
        view = wide[:, left : left + SIZE[0]] + np.roll(noise, 37 * number, axis=1)
        yield np.clip(view, 0, 255).astype(np.uint8)


def _part(folder, numbers):
    return make_small(folder, numbers)


def _timed(folder, film):
    """Frames a second of the whole import's long part."""
    film.write(folder)
    shares = parts(film, PART)
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        list(
            pool.map(_part, [folder] * 2, [film.numbers[:1]] * 2)
        )  # started, and what it needs loaded
        began = time.perf_counter()
        problems = [found for found in pool.map(_part, [folder] * len(shares), shares) if found]
        took = time.perf_counter() - began
    assert not problems, problems
    return len(film.numbers) / took


def report():
    """Print both."""
    print(
        f"\nFilm of {FRAMES} frames of {SIZE[0]} × {SIZE[1]}, small pictures made on"
        f" {os.cpu_count()} cores; reference: decoding alone"
    )
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "pictures").mkdir()
        with av.open(str(folder / "original.mp4"), "w") as file:
            stream = file.add_stream(
                "libx264", rate=Fraction(24), options={"crf": "18", "preset": "fast"}
            )
            stream.width, stream.height, stream.pix_fmt = *SIZE, "yuv420p"
            for number, frame in enumerate(_frames(), 1):
                cv2.imwrite(
                    str(folder / f"pictures/{number}.jpg"), frame, [cv2.IMWRITE_JPEG_QUALITY, 92]
                )
                file.mux(stream.encode(av.VideoFrame.from_ndarray(frame, format="bgr24")))
            file.mux(stream.encode(None))
        began = time.perf_counter()
        for number in range(1, FRAMES + 1):
            cv2.imread(str(folder / f"pictures/{number}.jpg"))
        alone = FRAMES / (time.perf_counter() - began)
        files = {number: f"pictures/{number}.jpg" for number in range(1, FRAMES + 1)}
        own = _timed(folder, film_of_pictures(folder, "a.#.jpg", files))
        print(
            f"  JPEG   {own:.0f} frames a second, {own / alone:.2f} × OpenCV’s imread alone"
            f" ({alone:.0f}); wanted 0.5"
        )
        for path in (*folder.glob("small/*"), *folder.glob("thumbs/*")):
            path.unlink()
        began = time.perf_counter()
        with av.open(str(folder / "original.mp4")) as file:
            file.streams.video[0].thread_type = "AUTO"
            for frame in file.decode(video=0):
                frame.to_ndarray(format="rgb24")
        alone = FRAMES / (time.perf_counter() - began)
        own = _timed(folder, film_of_movie(folder / "original.mp4", "a.mp4", "original.mp4"))
        print(
            f"  H.264  {own:.0f} frames a second, {own / alone:.2f} × PyAV’s decoding alone"
            f" ({alone:.0f}); wanted 0.5"
        )


if __name__ == "__main__":
    report()
