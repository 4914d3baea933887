"""Bring a picture in."""

import shutil
from pathlib import Path

from django.conf import settings

from aperture.errors import Problem
from aperture.plates.proxies import sha256_of, write_proxies
from aperture.plates.reading import kind_of, read_picture
from web.plates.models import Plate
from web.shows.actions import edit
from web.shows.models import Shot
from web.ui.folders import incoming, settle


def bring_in(path: Path, name: str) -> Plate:
    """The plate of a picture file: read, proxied and stored under its content's hash; the same bytes are stored once.

    Raises Problem with a sentence where it can't be read; nothing half-written is left behind.
    """
    name = Path(name).name[:255]
    kind_of(path, name)
    digest = sha256_of(path)
    known = Plate.objects.filter(digest=digest).first()
    if known and (known.folder / "pixels.npy").exists():
        return known
    picture = read_picture(path, name)
    home = settings.DATA / "plates"
    try:
        with incoming(home) as folder:
            write_proxies(picture, folder)
            shutil.copyfile(path, folder / f"original{Path(name).suffix.lower()}")
            if not (home / digest / "pixels.npy").exists():  # unless the same picture came in twice at once
                settle(folder, home / digest)
    except OSError as error:
        raise Problem(f"“{name}” could not be stored: {error.strerror or error}. Nothing was changed.") from error
    return Plate.objects.update_or_create(digest=digest, defaults={
        "name": name, "kind": picture.kind, "depth": picture.depth, "width": picture.width, "height": picture.height,
        "metadata": picture.metadata.as_dict(), "notes": list(picture.notes)})[0]


def take_plate(shot: Shot, plate: Plate, base: int | None = None) -> Shot:
    """Make `plate` the shot's plate."""
    def change(state):
        state["plate"] = {"digest": plate.digest, "name": plate.name, "width": plate.width, "height": plate.height}
    return edit(shot, f"Plate {plate.name}", change, base)
