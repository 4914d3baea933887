"""Takes a picture in: everything that pages and the matcher need of it, written into one folder."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from aperture.plates.proxies import write_proxies
from aperture.plates.reading import read_picture


@dataclass(frozen=True)
class Facts:
    """What is known of a picture without its pixels."""

    kind: str
    depth: str
    width: int
    height: int
    metadata: dict[str, Any]
    notes: tuple[str, ...]


def take_in(path: Path, name: str, folder: Path) -> Facts:
    """Read a picture and write what is needed of it into an existing folder.

    Parameters
    ----------
    path : Path
        The picture's file.
    name : str
        What sentences call it.
    folder : Path
        Where `write_proxies` writes.

    Raises
    ------
    Problem
        If the picture can't be read.
    OSError
        If it can't be written.
    """
    picture = read_picture(path, name)
    write_proxies(picture, folder)
    return Facts(
        picture.kind,
        picture.depth,
        picture.width,
        picture.height,
        picture.metadata.as_dict(),
        tuple(picture.notes),
    )
