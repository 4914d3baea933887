"""A flash as the clapper: looking for lamps that light up in a filmed plate, and setting the frames
by one."""

import json
from collections.abc import Callable, Iterator
from dataclasses import asdict
from pathlib import Path

import cv2
import numpy as np

from aperture.errors import Problem
from aperture.plates.film import Film as Filmed
from aperture.plates.flashes import Flash, find_flashes
from web.blobs.folders import write
from web.plates.models import Film

KIND = "flash"  # of the job that looks for them
FOUND = "flashes.json"
Region = tuple[float, float, float, float]


def look(film: Film, region: Region | None, progress: Callable[[float], None]) -> None:
    """Look for flashes and keep what is found with the film. Raises Problem where its small
    pictures aren't there yet."""
    found = find_flashes(small_pictures(film, progress), region)
    kept = {"region": region, "flashes": [asdict(flash) for flash in found]}
    write(film.folder / FOUND, lambda path: path.write_text(json.dumps(kept)))


def small_pictures(
    film: Film, progress: Callable[[float], None], first: int | None = None, last: int | None = None
) -> Iterator[tuple[int, np.ndarray]]:
    """The film's small pictures (H, W, 3) from `first` to `last`, which are ours, so that reading
    them needs no fence. Raises Problem where they aren't there yet.
    """
    numbers = [
        number
        for number in Filmed.read(film.folder).numbers
        if (first is None or number >= first) and (last is None or number <= last)
    ]
    for index, number in enumerate(numbers):
        progress(index / len(numbers))
        pixels = cv2.imread(str(film.folder / "small" / f"{number}.jpg"))
        if pixels is None:
            if str(number) in film.unshown:
                continue
            raise Problem("The small pictures aren’t all there yet. Try again once they are.")
        yield number, pixels


def found(film: Film) -> tuple[list[Flash], Region | None] | None:
    """What was found last, and in which part of the picture; None where nobody has looked."""
    path: Path = film.folder / FOUND
    if not path.exists():
        return None
    kept = json.loads(path.read_text())
    return [_flash(one) for one in kept["flashes"]], kept["region"]


def _flash(kept: dict) -> Flash:
    return Flash(**kept | {"at": tuple(kept["at"]), "colour": tuple(kept["colour"])})


def colour_word(colour: tuple[float, float, float]) -> str:
    """What a lamp's colour is called."""
    red, green, blue = colour
    most, least = max(colour), min(colour)
    if most - least < 0.12:
        return "white"
    # Sixths of the colour circle, red first.
    if most == red:
        sixth = ((green - blue) / (most - least)) % 6
    elif most == green:
        sixth = (blue - red) / (most - least) + 2
    else:
        sixth = (red - green) / (most - least) + 4
    names = (
        "red",
        "orange",
        "yellow",
        "green",
        "green",
        "green",
        "cyan",
        "blue",
        "blue",
        "violet",
        "magenta",
        "red",
    )
    return names[int(sixth * 2 + 0.5) % 12]
