"""Folders and files of the data folder: whole or not at all. Written under a temporary name,
synced, renamed."""

import os
import shutil
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

LEFT_BEHIND = 24 * 3600  # seconds after which what a killed process left is thrown away


@contextmanager
def incoming(home: Path) -> Iterator[Path]:
    """A temporary folder within `home`, gone afterwards unless it was settled."""
    home.mkdir(parents=True, exist_ok=True)
    clear(home)
    folder = Path(tempfile.mkdtemp(prefix="incoming-", dir=home))
    try:
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def clear(home: Path) -> None:
    """Throw away what killed processes left in a folder long ago."""
    for left in home.glob("incoming-*"):
        try:
            old = time.time() - left.stat().st_mtime > LEFT_BEHIND
        except FileNotFoundError:  # another process was first
            continue
        if old:
            shutil.rmtree(left, ignore_errors=True)
            left.unlink(missing_ok=True) if left.is_file() else None


def settle(folder: Path, place: Path, instead: bool = True) -> None:
    """Sync an incoming folder's files and put it at `place`: instead of what may be there, or only
    where nothing is."""
    for path in folder.rglob("*"):
        if path.is_file():
            with open(path, "rb+") as file:
                os.fsync(file.fileno())
    folder.chmod(0o755)
    if instead:
        shutil.rmtree(place, ignore_errors=True)
    try:
        folder.rename(place)
    except OSError:  # another process was first
        if instead or not place.is_dir():
            raise


def reserve(home: Path, stem: Path, ending: str) -> Path:
    """The first free name of `stem`, `stem_2`, … below `home`, taken at once, so that nobody else
    gets it."""
    (home / stem).parent.mkdir(parents=True, exist_ok=True)
    for number in range(1, 10000):
        place = stem.with_name(f"{stem.name}{f'_{number}' if number > 1 else ''}{ending}")
        try:
            (home / place).touch(exist_ok=False)
            return place
        except FileExistsError:
            continue
    raise OSError(f"there are 10,000 files called {stem.name} already")


def of_frame(folder: Path, frames: list[int], number: int | None) -> Path:
    """Where in a folder the files of a frame are, the first one's where there is no such; the
    folder itself where it is of a still."""
    if not frames:
        return folder
    return folder / str(number if number in frames else frames[0])


def write(place: Path, make) -> None:
    """Let `make(path)` write a file, and put it at `place` once it is whole."""
    place.parent.mkdir(parents=True, exist_ok=True)
    with incoming(place.parent) as folder:
        path = folder / place.name
        make(path)
        with open(path, "rb+") as file:
            os.fsync(file.fileno())
        os.replace(path, place)
