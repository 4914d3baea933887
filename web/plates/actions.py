"""Bring a picture in."""

import hashlib
import os
import re
import shutil
import unicodedata
from pathlib import Path

from django.conf import settings

from aperture.errors import Problem
from aperture.fence import run_fenced
from aperture.plates.proxies import sha256_of
from aperture.plates.reading import kind_of
from aperture.plates.take_in import AS_IT_IS, take_in
from aperture.plates.way_in import WayIn
from web.blobs.folders import incoming, settle
from web.plates.frames import film_replaced
from web.plates.models import Plate
from web.shows.history import create_shot, edit
from web.shows.models import Shot, Show
from web.shows.organise import free_code


def bring_in(path: Path, name: str, way: WayIn = AS_IT_IS) -> Plate:
    """The plate of a picture file: read, proxied and stored under its content's hash; the same
    bytes are stored once.

    `way`: what is done to it first; its file is kept as it came.

    Raises Problem with a sentence where it can't be read; nothing half-written is left behind.
    """
    name = Path(name).name[:255]
    kind_of(path, name)
    digest = sha256_of(path)
    if way:
        digest = hashlib.sha256(f"{digest} {way}".encode()).hexdigest()
    known = Plate.objects.filter(digest=digest).first()
    if known and (known.folder / "pixels.npy").exists():
        os.utime(known.folder)  # so that it isn't swept before somebody refers to it
        return known
    home = settings.DATA / "plates"
    try:
        with incoming(home) as folder:
            facts = run_fenced(take_in, path, name, folder, way)
            shutil.copyfile(path, folder / f"original{Path(name).suffix.lower()}")
            # The same picture may come in twice at once: the first stays, unless it is damaged.
            there = (home / digest).exists()
            if not (home / digest / "pixels.npy").exists():
                settle(folder, home / digest, instead=there)
    except OSError as error:
        raise Problem(
            f"“{name}” could not be stored: {error.strerror or error}. Nothing was changed."
        ) from error
    return Plate.objects.update_or_create(
        digest=digest,
        defaults={
            "name": name,
            "kind": facts.kind,
            "depth": facts.depth,
            "width": facts.width,
            "height": facts.height,
            "metadata": facts.metadata,
            "notes": list(facts.notes),
        },
    )[0]


def shots_of_pictures(show: Show, pictures) -> tuple[list[Shot], list[str]]:
    """A shot for each of several uploaded pictures, and sentences about those that can't be read.

    A shot's code is its file's name as far as that can stand in an address; taken ones count on.
    """
    made, refused = [], []
    for upload in pictures:
        try:
            plate = bring_in(Path(upload.temporary_file_path()), upload.name)
        except Problem as problem:
            refused.append(problem.sentence)
            continue
        shot = create_shot(show, _code_of(show, Path(upload.name).stem))
        made.append(take_plate(shot, plate))
    return made, refused


def _code_of(show: Show, name: str) -> str:
    """A free code that a file's name makes."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode()
    base = re.sub(r"[^A-Za-z0-9_-]+", "-", plain).strip("-_")[:34] or "shot"
    return free_code(show, base)


def as_part(plate: Plate) -> dict:
    """A plate as the state has it."""
    return {
        "digest": plate.digest,
        "name": plate.name,
        "width": plate.width,
        "height": plate.height,
    }


def take_plate(shot: Shot, plate: Plate, base: int | None = None) -> Shot:
    """Make `plate` the shot's plate."""

    def change(state):
        state["plate"] = as_part(plate)

        # What was typed of the old picture doesn't hold for another one.
        state["plate_facts"] = {}
        if state["film"]:
            film_replaced(state)
        state["film"], state["aside"], state["range"] = None, {}, None
        state["way_in"] = {}

    return edit(shot, f"Plate {plate.name}", change, base)


def set_facts(shot: Shot, facts: dict, base: int | None = None) -> Shot:
    """What is typed of how the plate was taken, and the curve of its values."""

    def change(state):
        state["plate_facts"] = facts

    return edit(shot, "Facts about the plate", change, base)
