"""Real pixels of a filmed plate on frames in any order, through the server; the reference decodes
the same pictures and does nothing else.

LT070 of the demo: H.264, 1280 × 720, a key picture every 23. Wanted: under 150 ms at any frame.
"""

import random
import shutil
import tempfile
import time
import urllib.request
from pathlib import Path

import numpy as np

from aperture.plates.film import Film
from aperture.plates.movies import Decoder
from bench.server import Server

ROUNDS = 3


def _took(done) -> float:
    began = time.perf_counter()
    done()
    return 1000 * (time.perf_counter() - began)


def report():
    """Print the median and the worst of all frames, and of those that follow their neighbour."""
    with tempfile.TemporaryDirectory() as folder, Server(folder) as server:
        home, film = next(
            (path.parent, film)
            for path in Path(folder).glob("films/*/film.json")
            if (film := Film.read(path.parent)).name == "LT070_walk.mp4"
        )

        def asked(number: int) -> float:
            shutil.rmtree(
                Path(folder) / "frames", ignore_errors=True
            )  # none that was decoded before
            url = f"{server.address}/films/{home.name}/tile/{number}/2/1.png"
            return _took(lambda: urllib.request.urlopen(url, timeout=60).read())

        numbers = list(film.numbers)
        for number in numbers[:8]:
            asked(number)
        chance = random.Random(1)
        order = [number for _ in range(ROUNDS) for number in chance.sample(numbers, len(numbers))]
        jumps = [asked(number) for number in order]
        steps = [asked(number) for number in numbers]
        with Decoder(home / film.files[0], film.movie, film.name) as decoder:
            alone = [_took(lambda at=number: decoder.picture(at - 1)) for number in order]
    jumps, steps, alone = (np.array(one) for one in (jumps, steps, alone))
    print(
        "\nReal pixels of an H.264 movie of 1280 × 720 through the server, in any order: median"
        f" {np.median(jumps):.0f} ms, worst of {len(jumps)} {jumps.max():.0f} ms,"
        f" {100 * np.mean(jumps < 150):.0f} % under 150 ms (wanted: all); decoding alone"
        f" {np.median(alone):.0f} and {alone.max():.0f} ms,"
        f" {np.median(jumps) / np.median(alone):.2f} × as long; one frame after the other: median"
        f" {np.median(steps):.0f} ms"
    )


if __name__ == "__main__":
    report()
