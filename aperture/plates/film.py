"""A filmed plate in its folder: which pictures it has, small ones for pages, and each at full size.

The folder holds `film.json` and the originals: `original.mov`, or `pictures/` with one file for
each number. Beside them `make_small` writes `small/<number>.jpg`, for playing, and
`thumbs/<number>.jpg`, for the strip.
"""

from __future__ import annotations

import json
import os
from collections import deque
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack
from dataclasses import asdict, dataclass, fields
from fractions import Fraction
from pathlib import Path
from typing import Any

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.plates import proxies
from aperture.plates.metadata import CHANGING
from aperture.plates.movies import Decoder, Movie, probe
from aperture.plates.proxies import display_bytes
from aperture.plates.reading import metadata_of, read_picture
from aperture.plates.way_in import WayIn

SMALL_WIDTH, THUMB_WIDTH = 1280, 160
FACTS = "film.json"


@dataclass(frozen=True)
class Film:
    """What a filmed plate is.

    numbers : the pictures that are there, in order, by the numbers of their files; a movie's count
    from 1.
    files : of a sequence, each picture's file below the folder; of a movie, its one file under 0.
    movie : what `movies.probe` found; None of a sequence.
    was_lossy : a sequence that was made of a movie whose codec left things out.
    """

    name: str
    width: int
    height: int
    numbers: tuple[int, ...]
    files: dict[int, str]
    movie: Movie | None = None
    was_lossy: bool = False

    @property
    def lossy(self) -> bool:
        """Whether its pictures went through a movie's codec that leaves things out: its errors run
        along edges, and from frame to frame.
        """
        return self.was_lossy or (self.movie is not None and self.movie.lossy)

    @property
    def rate(self) -> Fraction | None:
        """Pictures a second, where the file tells."""
        return self.movie.mean_rate if self.movie else None

    def write(self, folder: Path) -> None:
        """Keep it as `film.json`."""
        data = asdict(self)
        (folder / FACTS).write_text(json.dumps(data, default=str))

    @classmethod
    def read(cls, folder: Path) -> Film:
        """What `write` kept."""
        data = json.loads((folder / FACTS).read_text())
        data["files"] = {int(number): file for number, file in data["files"].items()}
        data["numbers"] = tuple(data["numbers"])
        if data["movie"]:
            data["movie"] = _movie(data["movie"])
        return cls(**data)


def _movie(data: dict[str, Any]) -> Movie:
    """A Movie from JSON, where fractions are text and tuples lists."""
    out = dict(data)
    for one in fields(Movie):
        value = out[one.name]
        if "Fraction" in str(one.type) and value is not None:
            out[one.name] = Fraction(value)
        elif isinstance(value, list):
            out[one.name] = tuple(value)
    return Movie(**out)


def film_of_movie(file: Path, name: str, place: str) -> Film:
    """The film that a movie's file holds; `place` is where it lies below the folder. Raises Problem
    as `probe` does."""
    movie = probe(file, name)
    numbers = tuple(range(1, movie.count + 1))
    return Film(name, movie.width, movie.height, numbers, {0: place}, movie)


def film_of_pictures(folder: Path, name: str, files: dict[int, str]) -> Film:
    """The film of numbered pictures, as large as the first that can be read. Raises Problem where
    none can."""
    reasons = []
    for file in list(files.values())[:20]:
        try:
            picture = read_picture(folder / file, Path(file).name)
        except Problem as problem:
            reasons.append(problem.sentence)
            continue
        return Film(name, picture.width, picture.height, tuple(files), files)
    raise Problem(f"“{name}”: no picture can be read. {reasons[0] if reasons else ''}".strip())


def _jpeg(path: Path, film: Film) -> Array | None:
    """(H, W, 3) uint8 BGR of a plain JPEG, upright, the quick way; None of whatever needs more
    care."""
    import cv2

    if path.suffix.lower() not in (".jpg", ".jpeg"):
        return None
    with open(path, "rb") as file:  # OpenCV fills up what was cut off with grey, and says nothing
        file.seek(max(0, path.stat().st_size - 2))
        if file.read() != b"\xff\xd9":
            return None
    pixels = cv2.imread(str(path), cv2.IMREAD_COLOR)
    return pixels if pixels is not None and pixels.shape[:2] == (film.height, film.width) else None


def another_size(number: int, size: tuple[int, int], film: Film) -> str:
    """The sentence about a picture that isn't as large as its film."""
    return (
        f"Picture {number} has {size[0]} × {size[1]} px, and not the "
        f"{film.width} × {film.height} of the others."
    )


class Pictures:
    """The pictures of a film at full size, by their numbers; quickest one after the other. Use it
    with `with`.

    keep : a movie stays open for whoever asks this process next.
    """

    def __init__(self, folder: Path, film: Film | None = None, keep: bool = False):
        self.folder, self.film, self._keep = folder, film or Film.read(folder), keep
        self._open = ExitStack()
        self._decoder: Decoder | None = None

    def __enter__(self) -> Pictures:
        return self

    def __exit__(self, *_: object) -> None:
        self._open.close()

    def __getitem__(self, number: int) -> tuple[Array, bool]:
        """(H, W, 3) and whether it is linear light, else it is R′G′B′ as encoded.

        Raises Problem where it is missing, can't be read, or has another size.
        """
        film = self.film
        if film.movie:
            return self._movie().picture(number - 1), False
        if number not in film.files:
            raise Problem(f"“{film.name}” has no picture {number}.")
        file = self.folder / film.files[number]
        picture = read_picture(file, file.name)
        if (picture.width, picture.height) != (film.width, film.height):
            raise Problem(another_size(number, (picture.width, picture.height), film))
        return picture.pixels, picture.linear

    def display(self, number: int) -> Array:
        """(H, W, 3) uint8 BGR sRGB for pages. Raises Problem as `[number]` does."""
        film = self.film
        if film.movie:
            return self._movie().display(number - 1)
        quick = _jpeg(self.folder / film.files.get(number, ""), film)
        if quick is not None:
            return quick
        return display_bytes(*self[number])[..., ::-1]

    def _movie(self) -> Decoder:
        film = self.film
        assert film.movie
        if self._decoder is None:
            file = self.folder / film.files[0]
            if self._keep:
                return Decoder.kept(file, film.movie, film.name)
            self._decoder = self._open.enter_context(Decoder(file, film.movie, film.name))
        return self._decoder


def parts(film: Film, least: int) -> list[tuple[int, ...]]:
    """The numbers of a film in runs of at least `least` that can be worked on side by side: a
    movie's begin at key pictures."""
    keys = film.movie.keys if film.movie else range(len(film.numbers))
    out, begins = [], 0
    for index in [*keys[1:], len(film.numbers)]:
        if index - begins >= least or index == len(film.numbers):
            out.append(film.numbers[begins:index])
            begins = index
    return [part for part in out if part]


def make_small(
    folder: Path, numbers: Iterable[int], done: Callable[[int], None] = lambda number: None
) -> dict[int, str]:
    """Write the small pictures and thumbnails of some numbers; those that are there stay.

    Returns a sentence for each number that can't be shown. `done(number)` is called after each.
    """
    problems: dict[int, str] = {}
    for kind in ("small", "thumbs"):
        (folder / kind).mkdir(exist_ok=True)
    # One thread decodes, others make small: OpenCV leaves the interpreter to them meanwhile. The
    # queue is short, so that memory doesn't grow with the number of frames.
    workers = os.cpu_count() or 1
    waiting: deque[tuple[int, Future[None]]] = deque()
    with ThreadPoolExecutor(workers) as pool, Pictures(folder) as pictures:
        for number in numbers:
            if (folder / "thumbs" / f"{number}.jpg").exists():
                continue
            try:
                shown = pictures.display(number)
            except Problem as problem:
                problems[number] = problem.sentence
                continue
            waiting.append((number, pool.submit(_write_small, folder, number, shown)))
            while len(waiting) > 2 * workers:
                _finish(waiting, done)
        while waiting:
            _finish(waiting, done)
    return dict(sorted(problems.items()))


def read_metadata(folder: Path, numbers: Iterable[int]) -> dict[int, dict[str, Any]]:
    """What the files of some numbers say about how they were taken, of what may change; none of a
    movie."""
    film = Film.read(folder)
    if film.movie:
        return {}
    return {
        number: {key: value for key, value in said.items() if key in CHANGING}
        for number in numbers
        if number in film.files and (said := metadata_of(folder / film.files[number]).as_dict())
    }


def _finish(waiting: deque[tuple[int, Future[None]]], done: Callable[[int], None]) -> None:
    number, writing = waiting.popleft()
    writing.result()
    done(number)


def _write_small(folder: Path, number: int, shown: Array) -> None:
    for kind, width, quality in (("small", SMALL_WIDTH, 85), ("thumbs", THUMB_WIDTH, 80)):
        shown = _no_wider(shown, width)
        _write_jpeg(folder / kind / f"{number}.jpg", shown, quality)


def _no_wider(pixels: Array, width: int) -> Array:
    import cv2

    height, across = pixels.shape[:2]
    if across <= width:
        return pixels
    size = width, max(1, round(height * width / across))
    # Averaging areas matters where several pixels become one; below that it only costs time.
    how = cv2.INTER_AREA if across > 2 * width else cv2.INTER_LINEAR
    return cv2.resize(pixels, size, interpolation=how)


def _write_jpeg(path: Path, pixels: Array, quality: int) -> None:
    """Whole or not at all: a page may ask for it at any moment."""
    import cv2

    there, data = cv2.imencode(".jpg", pixels, [cv2.IMWRITE_JPEG_QUALITY, quality])
    if not there:
        raise OSError(f"could not write {path.name}")
    fresh = path.with_suffix(f".{os.getpid()}.part")
    fresh.write_bytes(data.tobytes())
    fresh.replace(path)


def write_full(folder: Path, number: int, place: Path, way: WayIn) -> None:
    """One picture as it comes in, into an existing folder, as `proxies.write_full` does. Raises
    Problem where it can't be read."""
    with Pictures(folder, keep=True) as pictures:
        pixels, linear = pictures[number]
    proxies.write_full(way.apply(pixels), linear, place)


def write_picture(folder: Path, number: int, file: Path) -> None:
    """One picture of a movie at full size, as a PNG of 8 or 16 bits. Raises Problem where it can't
    be decoded."""
    import cv2

    with Pictures(folder) as pictures:
        pixels, _ = pictures[number]
    if not cv2.imwrite(str(file), cv2.cvtColor(pixels, cv2.COLOR_RGB2BGR)):
        raise OSError(f"could not write {file.name}")


def write_pictures(folder: Path, shown: Sequence[int], place: Path, count: Path) -> dict[int, str]:
    """Write a movie as numbered pictures, PNG of 8 or 16 bits, below an existing folder `place`.

    shown : the number of the movie's picture that each of the new ones shows, in order; the new
    ones count from 1. `count` is a file in which the number of pictures written so far is kept.
    Returns a sentence for each that couldn't be decoded. Raises OSError where the disk is full.
    """
    import cv2

    (place / "pictures").mkdir(exist_ok=True)
    problems: dict[int, str] = {}
    pixels: Array | None = None
    with Pictures(folder) as pictures:
        for frame, number in enumerate(shown, 1):
            if frame == 1 or number != shown[frame - 2]:
                try:
                    pixels = cv2.cvtColor(pictures[number][0], cv2.COLOR_RGB2BGR)
                except Problem as problem:
                    pixels, problems[frame] = None, problem.sentence
            if pixels is None:
                problems.setdefault(frame, problems[frame - 1] if frame > 1 else "")
                continue
            data = cv2.imencode(".png", pixels, [cv2.IMWRITE_PNG_COMPRESSION, 3])[1]
            (place / "pictures" / f"{frame}.png").write_bytes(data.tobytes())
            count.write_text(str(frame))
    return problems
