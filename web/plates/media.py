"""Plates on the server's own folders: which may be looked into, what lies there, and bringing it in
or referring to it.

`settings.MEDIA` lists the permitted roots. Nothing outside them is reached, through a link neither.
"""

import hashlib
import os
from dataclasses import dataclass
from pathlib import Path

from aperture.errors import Problem
from aperture.fence import run_fenced
from aperture.plates.film import film_of_movie, film_of_pictures
from aperture.plates.reading import PICTURE_ENDINGS
from aperture.plates.sequences import Sequence, tell_apart
from web.blobs.folders import incoming
from web.plates import film_actions
from web.plates.film_actions import MOVIES
from web.plates.models import Film
from web.plates.referred import keep_stamps, roots, stamp

MOST_COPIED = 2_000_000_000  # bytes; more is only referred to
MOST_LISTED = 100_000  # files of one folder


@dataclass(frozen=True)
class Entry:
    """What can be brought in from a folder.

    names : its files. says : how it is called. count, bytes : of them all. film : a movie or
    numbered pictures, which can be referred to where they lie.
    """

    names: tuple[str, ...]
    says: str
    count: int
    bytes: int
    film: bool


@dataclass(frozen=True)
class Folder:
    """A folder that may be looked into. root : which of the permitted ones; path : below it, with
    /."""

    root: int
    path: str
    folders: tuple[str, ...]
    entries: tuple[Entry, ...]


def inside(root: int, path: str) -> Path:
    """A place below a permitted root, links followed. Raises Problem where it isn't there, or lies
    elsewhere."""
    permitted = roots()
    if not 0 <= root < len(permitted) or "\0" in path:
        raise Problem("There is no such folder.")
    try:
        place = (permitted[root] / path.lstrip("/")).resolve(strict=True)
    except (OSError, RuntimeError):
        raise Problem("This isn’t there any more. Look again.") from None
    if not place.is_relative_to(permitted[root]):
        raise Problem("This lies outside the folders that may be looked into.")
    return place


def listing(root: int, path: str = "") -> Folder:
    """What lies in a folder: folders, sequences, movies, single pictures. Raises Problem as
    `inside`."""
    place = inside(root, path)
    if not place.is_dir():
        raise Problem("This isn’t a folder.")
    folders, sizes, permitted = [], {}, roots()[root]
    try:
        with os.scandir(place) as found:
            for one in found:
                if one.name.startswith(".") or not one.name.isprintable():
                    continue  # also names in another encoding, which can't be shown
                if not _leads_inside(one, permitted):
                    continue
                if one.is_dir():
                    folders.append(one.name)
                elif one.is_file() and _wanted(one.name):
                    sizes[one.name] = one.stat().st_size
                if len(sizes) > MOST_LISTED:
                    raise Problem(
                        f"More than {MOST_LISTED:,} files lie in this folder. Sort them into"
                        " several."
                    )
    except PermissionError:
        raise Problem("The server may not read this folder.") from None
    sequences, others = tell_apart(sizes)
    entries = [_entry(sizes, tuple(one.files.values()), _called(one), True) for one in sequences]
    entries += [_entry(sizes, (name,), name, _is_movie(name)) for name in others]
    return Folder(root, path.strip("/"), tuple(sorted(folders)), tuple(entries))


def _leads_inside(one: os.DirEntry, root: Path) -> bool:
    try:
        return not one.is_symlink() or Path(one.path).resolve(strict=True).is_relative_to(root)
    except (OSError, RuntimeError):  # a link to nowhere, or to itself
        return False


def _wanted(name: str) -> bool:
    return Path(name).suffix.lower() in (*PICTURE_ENDINGS, *MOVIES)


def _is_movie(name: str) -> bool:
    return Path(name).suffix.lower() in MOVIES


def _called(sequence: Sequence) -> str:
    if len(sequence.files) == 1:
        return next(iter(sequence.files.values()))
    return f"{sequence.name}, {sequence.first}–{sequence.last}"


def _entry(sizes: dict[str, int], names: tuple[str, ...], says: str, film: bool) -> Entry:
    return Entry(names, says, len(names), sum(sizes[name] for name in names), film)


def files_of(root: int, path: str, first: str) -> list[tuple[Path, str]]:
    """The files (path, name) of the entry of a folder that begins with the file `first`. Raises
    Problem as `inside`."""
    entry = next((one for one in listing(root, path).entries if one.names[0] == first), None)
    if entry is None:
        raise Problem(f"“{first[:80]}” isn’t there any more. Look again.")
    return [(inside(root, f"{path}/{name}"), name) for name in entry.names]


def copied(files: list[tuple[Path, str]]) -> Film:
    """The film of files that are copied. Raises Problem where they are too large for that."""
    total = sum(path.stat().st_size for path, _ in files)
    if total > MOST_COPIED:
        raise Problem(
            f"These are {total / 1e9:.1f} GB: refer to them where they lie, instead of copying"
            " them."
        )
    return film_actions.bring_in_film(files)


def referred_to(files: list[tuple[Path, str]]) -> Film:
    """The film of files that stay where they are. Raises Problem where they can't be read."""
    stamps = {str(path): stamp(path) for path, _ in files}
    told = "".join(f"{path} {size} {time}\n" for path, (size, time) in sorted(stamps.items()))
    digest = hashlib.sha256(("referred to\n" + told).encode()).hexdigest()
    with incoming(film_actions.home()) as folder:
        if _is_movie(files[0][1]):
            path, name = files[0]
            filmed = run_fenced(film_of_movie, path, name, str(path))
            notes = film_actions.about_movie(filmed.movie)
        else:
            sequences, others = tell_apart(name for _, name in files)
            if not sequences:
                raise Problem("This isn’t a numbered picture: bring it in as a copy.")
            places = {name: str(path) for path, name in files}
            numbered = {number: places[name] for number, name in sequences[0].files.items()}
            filmed = run_fenced(film_of_pictures, folder, sequences[0].name, numbered)
            notes = film_actions.about_pictures(sequences[0], others)
        keep_stamps(folder, stamps)
        notes.append(f"Its files stay where they are, in {Path(files[0][0]).parent.name}.")
        return film_actions.kept(folder, digest, filmed, notes, refers=True)
