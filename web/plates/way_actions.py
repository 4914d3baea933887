"""Turning, mirroring and making smaller on the way in: one verb, which takes marks along."""

import numpy as np

from aperture.errors import Problem
from aperture.plates.way_in import WayIn
from web.plates.actions import as_part, bring_in
from web.plates.film_actions import picture_of
from web.plates.frames import move_marks, way_of
from web.plates.models import film_of, require_plate
from web.shows.history import edit
from web.shows.models import Shot

QUARTERS = {0: "as it is", 1: "90° clockwise", 2: "180°", 3: "90° anticlockwise"}


def set_way_in(shot: Shot, way: WayIn, base: int | None = None) -> Shot:
    """Bring the plate's pictures in another way. Marks go along; a lens's centre that was typed in
    px doesn't.

    Raises Problem without a plate, or where its file can't be read any more.
    """
    film, before = film_of(shot), shot.state["plate"]
    if not before:
        raise Problem("Bring in a picture first.")
    old = way_of(shot.state)
    if film and before["digest"] == picture_of(film, shot.state["film"]["shown"], old).digest:
        size = film.width, film.height
        way = way.within(size)
        plate = picture_of(film, shot.state["film"]["shown"], way)
    else:  # a photograph, or the mean of some frames
        now = require_plate(shot)
        original = next(now.folder.glob("original.*"))
        as_it_is = bring_in(original, now.name)
        size = as_it_is.width, as_it_is.height
        way = way.within(size)
        plate = bring_in(original, now.name, way)

    def change(state):
        if state["plate"] != before or way_of(state) != old:
            raise Problem("The plate has been replaced or turned meanwhile. Look again.")
        factor = float(np.sqrt(plate.width * plate.height / (before["width"] * before["height"])))
        move_marks(state, lambda points: way.points(old.back(points, size), size), factor)
        state["plate"], state["way_in"] = as_part(plate), way.json()

    return edit(shot, f"On the way in: {in_words(way)}", change, base)


def in_words(way: WayIn) -> str:
    """What is done, in words."""
    words = ["mirrored"] if way.flip else []
    words += [f"turned {QUARTERS[way.quarters]}"] if way.quarters else []
    words += [f"{way.width} px wide"] if way.width else []
    return ", ".join(words) or "as the file is"
