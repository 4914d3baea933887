"""Takes a picture in: everything that pages and the matcher need of it, written into one folder."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from aperture.plates.proxies import write_proxies
from aperture.plates.reading import read_picture
from aperture.plates.way_in import WayIn

AS_IT_IS = WayIn()


@dataclass(frozen=True)
class Facts:
    """What is known of a picture without its pixels."""

    kind: str
    depth: str
    width: int
    height: int
    metadata: dict[str, Any]
    notes: tuple[str, ...]


def take_in(path: Path, name: str, folder: Path, way: WayIn = AS_IT_IS) -> Facts:
    """Read a picture and write what is needed of it into an existing folder.

    Parameters
    ----------
    path : Path
        The picture's file.
    name : str
        What sentences call it.
    folder : Path
        Where `write_proxies` writes.
    way : WayIn
        What is done to it first.

    Raises
    ------
    Problem
        If the picture can't be read.
    OSError
        If it can't be written.
    """
    picture = read_picture(path, name)
    if way:
        picture = replace(picture, pixels=way.apply(picture.pixels))
    write_proxies(picture, folder)
    return Facts(
        picture.kind,
        picture.depth,
        picture.width,
        picture.height,
        picture.metadata.as_dict(),
        tuple(picture.notes),
    )
