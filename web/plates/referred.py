"""Films whose files stay on the server's own folders: what is kept of each file, and whether it is
still the same.

A film keeps the size and the time of each file, and the digests once the files have been read.
"""

import json
from pathlib import Path

from django.conf import settings

from aperture.errors import Problem
from aperture.plates.film import Film as Filmed
from aperture.plates.proxies import sha256_of
from web.blobs.folders import write
from web.plates.models import Film

STAMPS = "stamps.json"


def roots() -> list[Path]:
    """The permitted folders that are there."""
    return [Path(root).resolve() for root in settings.MEDIA if Path(root).is_dir()]


def keep_stamps(folder: Path, stamps: dict[str, tuple[int, int]]) -> None:
    """Keep size and time of each file (by its path) with a film that comes in."""
    (folder / STAMPS).write_text(json.dumps({"stamps": stamps, "digests": {}}))


def _known(film: Film) -> dict:
    return json.loads((film.folder / STAMPS).read_text())


def stamp(path: Path) -> tuple[int, int]:
    """Size in bytes, and when it was last written, in ns."""
    found = path.stat()
    return found.st_size, found.st_mtime_ns


def note_digests(film: Film) -> None:
    """Read the files of a film that is referred to, and keep their digests; done once, with its
    small pictures."""
    known = _known(film)
    for path in known["stamps"]:
        try:
            known["digests"][path] = sha256_of(Path(path))
        except OSError:
            continue  # gone already: `altered` tells
    write(film.folder / STAMPS, lambda fresh: fresh.write_text(json.dumps(known)))


def altered(film: Film) -> tuple[list[int], list[int]]:
    """The pictures of a film that is referred to whose files have changed, and those whose files
    are gone or out of reach.

    A movie's file stands for all its pictures: its number is 0. Size and time tell; where only the
    time differs and the digest is known, the file is read.
    """
    if not film.refers:
        return [], []
    known = _known(film)
    permitted, changed, gone, touched = roots(), [], [], False
    for number, file in Filmed.read(film.folder).files.items():
        path = Path(file)
        try:
            reachable = any(path.resolve(strict=True).is_relative_to(root) for root in permitted)
            now = stamp(path)
        except OSError:
            reachable = False
        if not reachable:
            gone.append(number)
        elif now != tuple(known["stamps"][file]):
            if _same(path, now, known):
                known["stamps"][file], touched = now, True  # so that it needn't be read again
            else:
                changed.append(number)
    if touched:
        write(film.folder / STAMPS, lambda fresh: fresh.write_text(json.dumps(known)))
    return changed, gone


def _same(path: Path, now: tuple[int, int], known: dict) -> bool:
    size, _ = known["stamps"][str(path)]
    digest = known["digests"].get(str(path))
    return size == now[0] and digest is not None and digest == sha256_of(path)


def require_reachable(film: Film) -> None:
    """Raise Problem where a film's files lie outside the folders that may be looked into now; what
    is gone, readers tell."""
    if not film.refers:
        return
    permitted = roots()
    for file in Filmed.read(film.folder).files.values():
        if not any(Path(file).resolve().is_relative_to(root) for root in permitted):
            raise Problem(
                f"{Path(file).name} lies outside the folders that may be looked into now."
            )


def require_unchanged(film: Film, number: int) -> None:
    """Raise Problem where the file of a picture that is referred to has changed since, or can't be
    reached."""
    if not film.refers:
        return
    filmed = Filmed.read(film.folder)
    file = filmed.files.get(0 if filmed.movie else number)
    if file is None:
        raise Problem(f"“{film.name}” has no picture {number}.")
    path = Path(file)
    known = _known(film)
    try:
        if not any(path.resolve(strict=True).is_relative_to(root) for root in roots()):
            raise Problem(f"{path.name} lies outside the folders that may be looked into now.")
        now = stamp(path)
    except OSError:
        raise Problem(f"{path.name} is gone from where it lay.") from None
    if now != tuple(known["stamps"][str(path)]) and not _same(path, now, known):
        raise Problem(f"{path.name} has changed since it was referred to. Refer to it anew.")
