"""Following corners through a filmed plate in its folder, from its full-size pictures."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.plates.film import Pictures
from aperture.plates.way_in import WayIn
from aperture.track.by_hand import ByHand, follow_by_hand
from aperture.track.follow import Follower, Settings
from aperture.track.keep_out import KeepOut, mask
from aperture.track.tracks import Tracks

# Rec. ITU-R BT.709-6, item 3.2: what the three colours give to brightness.
BRIGHTNESS = np.array([0.2126, 0.7152, 0.0722], np.float32)
# Linear light is followed as its square root: the noise of light is then the same everywhere.
WHITE = 255.0


def brightness(pixels: Array, linear: bool) -> Array:
    """(H, W) brightness, 0 to 255 as encoded in eight bits, of any picture's (H, W, 3) or (H, W)
    samples."""
    values = pixels if pixels.ndim == 2 else None
    if values is None and pixels.dtype == np.uint8:
        return cv2.cvtColor(np.ascontiguousarray(pixels[..., :3]), cv2.COLOR_RGB2GRAY)
    if values is None:
        values = pixels[..., :3].astype(np.float32) @ BRIGHTNESS
    if pixels.dtype.kind == "u":
        return values.astype(np.float32) * np.float32(WHITE / np.iinfo(pixels.dtype).max)
    values = np.maximum(np.nan_to_num(values.astype(np.float32)), 0)
    return (np.sqrt(values) if linear else values) * np.float32(WHITE)


def _pictures(
    folder: Path, numbers: Sequence[int], way: WayIn, problems: dict[int, str]
) -> Iterator[tuple[int, Array]]:
    """The brightness of pictures, one decoded while the one before is worked on."""

    def read(pictures: Pictures, number: int) -> Array | None:
        try:
            pixels, linear = pictures[number]
        except Problem as problem:
            problems[number] = problem.sentence
            return None
        return np.ascontiguousarray(brightness(way.apply(pixels), linear))

    with Pictures(folder) as pictures, ThreadPoolExecutor(1) as reader:
        coming = reader.submit(read, pictures, numbers[0]) if numbers else None
        for index, number in enumerate(numbers):
            assert coming is not None
            picture = coming.result()
            if index + 1 < len(numbers):
                coming = reader.submit(read, pictures, numbers[index + 1])
            if picture is not None:
                yield number, picture


def _areas(
    areas: Sequence[tuple[Sequence[int], Sequence[Any]]], size: list[int]
) -> Callable[[int], Array | None]:
    """Of a picture's number the pixels that are kept out; `size` will hold the pictures' width and
    height."""
    keep_out = [
        KeepOut(tuple(keys), tuple(np.array(polygon, float) for polygon in polygons))
        for keys, polygons in areas
    ]
    return lambda number: mask(keep_out, number, size[0], size[1])


def _write(tracks: Tracks, file: Path) -> None:
    with open(file, "wb") as out:
        np.savez(out, allow_pickle=False, **tracks.to_arrays())


def follow_film(
    folder: Path,
    numbers: Sequence[int],
    way: WayIn,
    settings: Settings,
    areas: Sequence[tuple[Sequence[int], Sequence[Any]]],
    file: Path,
    count: Path,
) -> dict[str, Any]:
    """Follow corners through a film's pictures, and write the tracks' arrays into a file (NumPy's
    `.npz`).

    Parameters
    ----------
    folder : Path
        Of the film.
    numbers : sequence of int
        The pictures, in the order in which they are taken.
    way : WayIn
        What is done to them on their way in.
    settings : Settings
    areas : sequence of (numbers, polygons)
        Keep-out areas, as `KeepOut` has them.
    file, count : Path
        Where the tracks go, and the number of pictures taken so far.

    Returns
    -------
    dict
        `remarks`: (number, kind) of pictures that are a cut, twice the same, or unlike their
        neighbours; `problems`: a sentence for each picture that can't be read.
    """
    size, taken = [0, 0], 0
    follower = Follower(settings, threads=os.cpu_count() or 1, keep_out=_areas(areas, size))
    problems: dict[int, str] = {}
    for number, picture in _pictures(folder, numbers, way, problems):
        size[:] = picture.shape[1], picture.shape[0]
        follower.advance(number, picture)
        taken += 1
        count.write_text(str(taken))
    if not taken:
        raise Problem("None of these pictures can be read.")
    _write(follower.finish(), file)
    return {"remarks": follower.remarks, "problems": problems}


def follow_placed(
    folder: Path,
    numbers: Sequence[int],
    way: WayIn,
    wanted: Sequence[ByHand],
    areas: Sequence[tuple[Sequence[int], Sequence[Any]]],
    file: Path,
    count: Path,
) -> dict[str, Any]:
    """Follow tracks that were placed by hand, both ways; the files and `problems` as `follow_film`,
    `apart` as `follow_by_hand`."""
    size, taken = [0, 0], 0
    problems: dict[int, str] = {}

    def pictures(some: Sequence[int]) -> Iterator[tuple[int, Array]]:
        nonlocal taken
        for number, picture in _pictures(folder, some, way, problems):
            size[:] = picture.shape[1], picture.shape[0]
            yield number, picture
            taken += 1
            count.write_text(str(taken))

    tracks, apart = follow_by_hand(
        wanted, numbers, pictures, os.cpu_count() or 1, _areas(areas, size)
    )
    _write(tracks, file)
    return {"apart": apart, "problems": problems}
