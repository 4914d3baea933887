"""A movie converted into numbered pictures, at its own rate or, where that isn't steady, at the
show's."""

import hashlib
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

from aperture.errors import Problem
from aperture.plates.film import Film as Filmed
from aperture.plates.film import write_pictures
from aperture.plates.movies import repeated_and_dropped
from aperture.plates.sequences import ranges_of
from aperture.units import format_rate
from web.blobs.folders import incoming
from web.plates import film_actions
from web.plates.actions import as_part
from web.plates.film_actions import picture_of
from web.plates.frames import film_replaced, way_of
from web.plates.models import Film
from web.plates.referred import require_unchanged
from web.plates.watched import counted, run_watched
from web.shows.history import edit
from web.shows.models import Shot

KIND = "convert"  # of the job


def plan(film: Film, rate: Fraction) -> list[int]:
    """The movie's picture that each new one shows: every one once, or as they fall on a steady rate
    where its own isn't.

    Raises Problem where it isn't a movie.
    """
    movie = Filmed.read(film.folder).movie
    if movie is None:
        raise Problem("These are pictures already.")
    if movie.rate is not None:
        return list(range(1, movie.count + 1))
    return [index + 1 for index in movie.at_rate(rate)]


def convert(
    shot: Shot, film: Film, rate: Fraction, progress: Callable[[float], None]
) -> tuple[Shot, Film]:
    """Write a movie's pictures as files, and make them the shot's plate; what is drawn stays with
    its picture. Raises Problem."""
    require_unchanged(film, 1)
    shown = require_convertible(shot, film, rate)
    movie = Filmed.read(film.folder).movie
    unsteady = movie is None or movie.rate is None
    told = f"converted {film.digest} {shown}"
    with incoming(film_actions.home()) as folder:
        count = Path(f"{folder}.count")
        try:
            problems = _written(film, shown, folder, count, progress)
        finally:
            count.unlink(missing_ok=True)
        files = {
            frame: f"pictures/{frame}.png"
            for frame in range(1, len(shown) + 1)
            if frame not in problems
        }
        if not files:
            raise Problem("None of its pictures can be decoded.")
        name = f"{Path(film.name).stem}.####.png"
        lossy = Filmed.read(film.folder).lossy
        filmed = Filmed(name, film.width, film.height, tuple(files), files, was_lossy=lossy)
        made = film_actions.kept(
            folder,
            hashlib.sha256(told.encode()).hexdigest(),
            filmed,
            _notes(film, shown, problems, rate if unsteady else None),
        )
    return _take(shot, film, made, shown), made


def require_convertible(shot: Shot, film: Film, rate: Fraction) -> list[int]:
    """The plan. Raises Problem as `plan`, and where something is drawn on a picture that would be
    left out."""
    shown = plan(film, rate)
    state, stays = shot.state, set(shown)
    drawn = {int(number) for number, held in state["aside"].items() if held["marks"]}
    if state["marks"]:
        drawn.add(state["film"]["shown"])
    if lost := sorted(drawn - stays):
        raise Problem(
            f"Something is drawn on pictures that would be left out: {ranges_of(lost)[:200]}. "
            "Draw it on another frame, or remove it."
        )
    return shown


def _written(film, shown, folder, count, progress) -> dict[int, str]:
    look = counted(count, len(shown), progress)
    return run_watched(look, write_pictures, film.folder, shown, folder, count)


def _notes(
    film: Film, shown: list[int], problems: dict[int, str], rate: Fraction | None
) -> list[str]:
    notes = [f"Converted from {film.name}."]
    if rate is not None:
        repeated, dropped = repeated_and_dropped([number - 1 for number in shown], film.count)
        notes.append(
            f"Its pictures came at no steady rate; they were put on {format_rate(rate)} fps. "
            f"Shown more than once: {_listed(repeated)}. Left out: {_listed(dropped)}."
        )
    if problems:
        notes.append(f"Couldn’t be decoded: {ranges_of(problems)[:300]}.")
    return notes


def _listed(indices: list[int]) -> str:
    return ranges_of(index + 1 for index in indices)[:300] or "none"


def _take(shot: Shot, film: Film, made: Film, shown: list[int]) -> Shot:
    """The new film in the old one's place, marks with their pictures."""
    new: dict[int, int] = {}
    for frame, number in enumerate(shown, 1):
        new.setdefault(number, frame)

    def nearest(number: int) -> int:
        """Where a picture went; where it was left out, the one before it."""
        return next((new[one] for one in range(number, 0, -1) if one in new), 1)

    number = nearest(shot.state["film"]["shown"])
    plate = picture_of(made, number, way_of(shot.state))

    def change(state):
        if not state["film"] or state["film"]["digest"] != film.digest:
            raise Problem("The plate has been replaced meanwhile.")
        state["aside"] = {str(nearest(int(key))): held for key, held in state["aside"].items()}
        state["plate"] = as_part(plate)
        if shown != list(range(1, len(shown) + 1)):
            film_replaced(state)  # on other pictures points would have to be followed anew
        state["film"] = state["film"] | {
            "digest": made.digest,
            "name": made.name,
            "first": made.first,
            "last": made.last,
            "shown": number,
        }

    return edit(shot, f"Converted into pictures: {made.name}", change)
