"""Begin the long work of the Match step: the one module that knows its tasks."""

from aperture.errors import Problem
from web.jobs import runner
from web.jobs.models import Job
from web.match import following, tasks
from web.plates.models import require_film
from web.shows.history import LOCKED, Locked
from web.shows.models import Shot


def _require_idle(shot: Shot) -> None:
    if shot.locked:  # said now, and not after minutes of work
        raise Locked(LOCKED)
    for kind, says in (
        (following.FOLLOW, "Points are being followed already."),
        (following.SOLVE, "The path is being solved already."),
    ):
        running = runner.latest(shot, kind)
        if running and running.under_way:
            raise Problem(says)


def start_following(shot: Shot, wanted: int, reach: int) -> Job:
    """Begin to follow points. Raises Problem where there is no film, too short a range, or it is
    done already."""
    film = require_film(shot)
    following.numbers_to_follow(shot, film)
    _require_idle(shot)
    return runner.start(shot, following.FOLLOW, tasks.follow, shot.pk, wanted, reach)


def start_following_spots(shot: Shot, reach: int) -> Job:
    """Begin to follow the spots of the picture that is worked on. Raises Problem as
    `start_following`, and without a spot."""
    film = require_film(shot)
    following.numbers_to_follow(shot, film)
    following.spots_to_follow(shot)
    _require_idle(shot)
    return runner.start(shot, following.FOLLOW, tasks.follow_spots, shot.pk, reach)


def start_by_hand(shot: Shot, ids: list[str], only_if_idle: bool = False) -> Job | None:
    """Begin to follow tracks from where they were placed by hand.

    None with `only_if_idle` where that can't be done now; following that is under way takes them
    afterwards. Raises Problem else.
    """
    try:
        following.numbers_to_follow(shot, require_film(shot))
        _require_idle(shot)
    except Problem:
        if only_if_idle:
            return None
        raise
    return runner.start(shot, following.FOLLOW, tasks.follow_by_hand, shot.pk, ids)


def start_solving(shot: Shot) -> Job:
    """Begin to solve the path. Raises Problem where nothing has been followed, or it is done
    already."""
    require_film(shot)
    if not shot.state["tracks"]:
        raise Problem("Nothing has been followed yet: follow points first.")
    _require_idle(shot)
    return runner.start(shot, following.SOLVE, tasks.solve, shot.pk)
