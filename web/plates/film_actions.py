"""Bring a filmed plate in: a movie, or numbered pictures."""

import hashlib
import json
import os
import shutil
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Sequence
from itertools import islice
from pathlib import Path

from django.conf import settings

from aperture.errors import Problem
from aperture.fence import run_fenced
from aperture.plates.film import Film as Filmed
from aperture.plates.film import (
    another_size,
    film_of_movie,
    film_of_pictures,
    make_small,
    parts,
    read_metadata,
    write_picture,
)
from aperture.plates.metadata import constant_and_curves
from aperture.plates.movies import Movie
from aperture.plates.proxies import sha256_of
from aperture.plates.reading import PICTURE_ENDINGS
from aperture.plates.sequences import Sequence as Numbered
from aperture.plates.sequences import ranges_of, tell_apart
from aperture.plates.take_in import AS_IT_IS
from aperture.plates.way_in import WayIn
from aperture.units import format_rate
from web.blobs.folders import incoming, settle
from web.plates.actions import as_part, bring_in
from web.plates.frames import film_replaced, frame_at, go_to, way_of
from web.plates.models import Film, Plate, require_film
from web.plates.referred import note_digests, require_reachable, require_unchanged
from web.plates.watched import run_watched
from web.shows.history import edit
from web.shows.models import Shot

KIND = "film"  # of the job that makes the small pictures
ZIP = ".zip"
MOST_UNZIPPED = 50_000_000_000  # bytes
MOST_FILES = 20_000
MOVIES = (".mov", ".mp4", ".m4v", ".mxf", ".avi", ".mkv", ".webm")
IN_A_PART = 24  # pictures that one worker makes small before another may go on


def is_film(names: Sequence[str]) -> bool:
    """Whether files are a filmed plate rather than a photograph: several, a movie, or a zip."""
    return len(names) > 1 or any(Path(name).suffix.lower() in (*MOVIES, ZIP) for name in names)


def bring_in_film(files: Sequence[tuple[Path, str]]) -> Film:
    """The filmed plate of a movie's file, or of numbered pictures (path, name); what is the same is
    stored once.

    Raises Problem with a sentence; nothing half-written is left behind.
    """
    movies = [name for _, name in files if Path(name).suffix.lower() in MOVIES]
    if movies and len(files) > 1:
        raise Problem(f"“{movies[0]}” is a movie: bring it in by itself.")
    try:
        if movies:
            return _movie(*files[0])
        if len(files) == 1 and Path(files[0][1]).suffix.lower() == ZIP:
            return _zipped(*files[0])
        return _pictures({Path(name).name: path for path, name in files})
    except OSError as error:
        raise Problem(
            f"“{files[0][1]}” could not be stored: {error.strerror or error}. Nothing was changed."
        ) from error


def _movie(path: Path, name: str) -> Film:
    digest, name = sha256_of(path), Path(name).name[:255]
    place = f"original{Path(name).suffix.lower()}"
    with incoming(home()) as folder:
        filmed = run_fenced(film_of_movie, path, name, place)
        shutil.copyfile(path, folder / place)
        return kept(folder, digest, filmed, about_movie(filmed.movie))


def _zipped(path: Path, name: str) -> Film:
    """The numbered pictures of a zip: only these are unpacked, within a folder of ours, and no more
    than MOST_UNZIPPED."""
    with incoming(home()) as folder, _opened_zip(path, name) as file:
        wanted = [
            one
            for one in file.infolist()
            if not one.is_dir() and Path(one.filename).suffix.lower() in PICTURE_ENDINGS
        ]
        declared = sum(one.file_size for one in wanted)
        if declared > MOST_UNZIPPED or len(wanted) > MOST_FILES:
            raise Problem(
                f"“{name}” would unpack to {declared / 1e9:,.0f} GB in {len(wanted):,} files, which"
                " is more than is taken. Bring in a part of it."
            )
        paths, damaged = {}, []
        for number, one in enumerate(wanted):
            # Under a name of ours: what the zip calls it may lead anywhere.
            place = folder / f"{number}{Path(one.filename).suffix.lower()}"
            try:
                with file.open(one) as packed, open(place, "wb") as fresh:
                    shutil.copyfileobj(packed, fresh, 1 << 20)
            except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError):
                damaged.append(one.filename)
                continue
            paths[one.filename] = place
        return _pictures(paths, damaged)


def _opened_zip(path: Path, name: str) -> zipfile.ZipFile:
    try:
        return zipfile.ZipFile(path)
    except (zipfile.BadZipFile, ValueError, EOFError) as error:
        raise Problem(f"“{name}” can't be unpacked: it may be damaged. Pack it again.") from error


def _pictures(paths: dict[str, Path], damaged: Sequence[str] = ()) -> Film:
    """The film of numbered pictures, of which `paths` tells where the file of each name lies; some
    came in `damaged`."""
    sequences, others = tell_apart(paths)
    if not sequences:
        raise Problem(
            "None of these files is a numbered picture, such as plate.1001.exr: JPEG, PNG, TIFF,"
            " OpenEXR or DPX."
        )
    if len(sequences) > 1:
        told = "; ".join(f"{one.name} ({one.first}–{one.last})" for one in sequences[:5])
        raise Problem(
            f"These are {len(sequences)} sequences: {told}. Bring in one of them at a time."
        )
    sequence = sequences[0]
    content = hashlib.sha256()
    with incoming(home()) as folder:
        (folder / "pictures").mkdir()
        places = {}
        for number, name in sequence.files.items():
            content.update(f"{number} {sha256_of(paths[name])}\n".encode())
            places[number] = f"pictures/{number}{sequence.ending}"
            shutil.copyfile(paths[name], folder / places[number])
        filmed = run_fenced(film_of_pictures, folder, sequence.name, places)
        notes = about_pictures(sequence, others)
        if damaged:
            notes.append(f"Damaged on their way, and left out: {', '.join(damaged)[:300]}.")
        return kept(folder, content.hexdigest(), filmed, notes)


def home() -> Path:
    """Where films are kept."""
    return settings.DATA / "films"


def kept(folder: Path, digest: str, filmed: Filmed, notes: list[str], refers: bool = False) -> Film:
    """Settle the folder, unless the same film is there; its row. `refers`: its files lie
    elsewhere."""
    known = Film.objects.filter(digest=digest).first()
    if known and known.folder.is_dir():
        os.utime(known.folder)  # so that it isn't swept before somebody refers to it
        return known
    filmed.write(folder)
    settle(folder, home() / digest, instead=(home() / digest).exists())
    rate = filmed.rate
    return Film.objects.update_or_create(
        digest=digest,
        defaults={
            "name": filmed.name,
            "width": filmed.width,
            "height": filmed.height,
            "first": filmed.numbers[0],
            "last": filmed.numbers[-1],
            "count": len(filmed.numbers),
            "rate_numerator": rate and rate.numerator,
            "rate_denominator": rate and rate.denominator,
            "kind": _kind(filmed),
            "notes": notes,
            "refers": refers,
        },
    )[0]


def _kind(filmed: Filmed) -> str:
    """A few words for the report: what codec, how many bits, which matrix."""
    movie = filmed.movie
    if movie is None:
        return "numbered pictures"
    levels = "full range" if movie.full_range else "video range"
    assumed = "" if movie.told else ", assumed"
    colour = (
        ""
        if movie.pixel_format.startswith(("rgb", "gbr", "gray"))
        else f", {movie.matrix}, {levels}{assumed}"
    )
    return f"{movie.codec}, {movie.bits} bit{colour}"


def about_movie(movie: Movie) -> list[str]:
    """What is odd about a movie, in sentences."""
    notes = []
    if movie.interlaced:
        notes.append(
            "The movie is interlaced: each picture holds two moments, one in every other row."
        )
    if movie.rate is None:
        notes.append(
            f"Its pictures don’t come at a steady rate: {movie.count} of them,"
            f" {format_rate(movie.mean_rate)} fps on average. Frames count its pictures."
        )
    if movie.pixel_aspect != 1:
        notes.append(
            f"Its pixels are {float(movie.pixel_aspect):.4g} times as wide as tall; say so at the"
            " Gate."
        )
    if movie.timecode:
        notes.append(f"Time code of the first picture: {movie.timecode}.")
    return notes


def about_pictures(sequence: Numbered, others: list[str]) -> list[str]:
    """What is missing or doubled among numbered pictures, in sentences."""
    notes = []
    if sequence.missing:
        notes.append(f"Pictures are missing: {ranges_of(sequence.missing)}.")
    if sequence.doubled:
        names = ", ".join(name for more in sequence.doubled.values() for name in more)
        notes.append(f"Left out, as their numbers are there already: {names[:300]}.")
    if others:
        notes.append(f"Left out, as they aren’t numbered pictures: {', '.join(others)[:300]}.")
    return notes


def picture_of(film: Film, number: int, way: WayIn = AS_IT_IS) -> Plate:
    """One picture as a plate, at full size and with everything that a photograph has. Raises
    Problem where it can't be read."""
    filmed = Filmed.read(film.folder)
    if number not in filmed.numbers:
        raise Problem(f"“{film.name}” has no picture {number}.")
    require_unchanged(film, number)
    if not filmed.movie:
        path = film.folder / filmed.files[number]
        stem = film.name.split("#")[0].rstrip("._-") or "picture"
        plate = bring_in(path, f"{stem}.{number:04}{path.suffix}", way)
        if (plate.width, plate.height) != way.size(film.width, film.height):
            raise Problem(another_size(number, (plate.width, plate.height), filmed))
        return plate
    with tempfile.TemporaryDirectory(dir=settings.FILE_UPLOAD_TEMP_DIR) as folder:
        path = Path(folder) / f"{Path(film.name).stem}.{number:04}.png"
        run_fenced(write_picture, film.folder, number, path)
        return bring_in(path, path.name, way)


def as_film(film: Film, shown: int) -> dict:
    """The part of the state of a filmed plate of which a picture is worked on; frames are called as
    its pictures."""
    return {
        "digest": film.digest,
        "name": film.name,
        "first": film.first,
        "last": film.last,
        "shown": shown,
        "offset": 0,
    }


def take_film(
    shot: Shot, film: Film, base: int | None = None, pair: bool = False, label: str = ""
) -> Shot:
    """Make a filmed plate the shot's, its first readable picture the one to work on; `pair`: its
    two pictures are two eyes'."""
    filmed = Filmed.read(film.folder)
    plate, problem = None, None
    for number in filmed.numbers[:20]:
        try:
            plate = picture_of(film, number)
            break
        except Problem as found:
            problem = problem or found
    if plate is None:
        raise problem

    def change(state):
        state["plate"] = as_part(plate)
        state["plate_facts"], state["aside"], state["range"] = {}, {}, None
        state["way_in"] = {}
        film_replaced(state)
        state["film"] = as_film(film, number) | ({"pair": True} if pair else {})

    return edit(shot, label or f"Filmed plate {film.name}", change, base)


def work_on(shot: Shot, number: int, base: int | None = None) -> Shot:
    """Make another picture of the filmed plate the one to work on; what is drawn stays with the
    frame that it was drawn on."""
    film = require_film(shot)
    way = way_of(shot.state)
    plate = picture_of(film, number, way)

    def change(state):
        now = state["film"]
        if way_of(state) != way:
            raise Problem("The pictures have been turned meanwhile. Look again.")
        if not now or now["digest"] != film.digest:
            raise Problem("The plate has been replaced meanwhile. Look again.")
        go_to(state, now["shown"], number)
        state["plate"], state["film"] = as_part(plate), now | {"shown": number}

    return edit(shot, f"Frame {frame_at(shot.state, number)}", change, base)


def missing_of(film: Film) -> list[int]:
    """The numbers between first and last that have no picture; 10,000 at most."""
    if film.last - film.first + 1 == film.count:
        return []
    there = set(Filmed.read(film.folder).numbers)
    every = (number for number in range(film.first, film.last + 1) if number not in there)
    return list(islice(every, 10_000))


# Small pictures -----------------------------------------------------------------------------------


def parts_of(film: Film) -> range:
    """The parts of the job that makes them."""
    return range(len(parts(Filmed.read(film.folder), IN_A_PART)))


def make_part(film: Film, part: int, progress: Callable[[float], None]) -> None:
    """Make the small pictures of one part, behind a fence; told by what lies in the folder."""
    numbers = parts(Filmed.read(film.folder), IN_A_PART)[part]
    require_reachable(film)
    thumbs = [film.folder / "thumbs" / f"{number}.jpg" for number in numbers]

    def look() -> None:
        progress(sum(thumb.exists() for thumb in thumbs) / len(thumbs))

    problems = run_watched(look, make_small, film.folder, numbers)
    told = run_watched(look, read_metadata, film.folder, numbers)
    if told:
        (film.folder / f"told.{part}.json").write_text(json.dumps(sorted(told.items())))
    if problems:
        (film.folder / f"problems.{part}.json").write_text(json.dumps(problems))


def gather(film: Film) -> None:
    """After the last part: what couldn't be shown is kept with the film, and the digests of files
    that lie elsewhere."""
    for path in film.folder.glob("problems.*.json"):
        film.unshown |= json.loads(path.read_text())
        path.unlink()
    told = []
    for path in film.folder.glob("told.*.json"):
        told += json.loads(path.read_text())
        path.unlink()
    if told:
        constant, curves = constant_and_curves(sorted(told, key=lambda one: one[0]))
        film.told = {"constant": constant, "curves": curves}
    film.save(update_fields=["unshown", "told"])
    if film.refers:
        note_digests(film)
