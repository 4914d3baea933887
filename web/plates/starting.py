"""Begin the long work of the Plate step: the one module that knows its tasks, which know how it is
done."""

from aperture.errors import Problem
from web.jobs import runner
from web.jobs.models import Job
from web.plates import convert_actions, film_actions, flash_actions, mean_actions, tasks
from web.plates.models import Film


def all_small(film: Film) -> bool:
    """Whether every picture that can be shown has its small one."""
    there = sum(1 for _ in film.folder.glob("thumbs/*.jpg"))
    return there + len(film.unshown) >= film.count


def start_small_pictures(shot, film: Film) -> Job | None:
    """Begin to make a filmed plate's small pictures; None where all are there."""
    if all_small(film):
        return None
    parts = film_actions.parts_of(film)
    return runner.start_parts(shot, film_actions.KIND, tasks.small_pictures, parts, film.pk)


def start_flashes(shot, film: Film, region: flash_actions.Region | None) -> Job:
    """Begin to look for flashes. Raises Problem while the small pictures are being made, or
    somebody looks already."""
    if not all_small(film):
        raise Problem("The small pictures aren’t all there yet. Look for flashes once they are.")
    running = runner.latest(shot, flash_actions.KIND)
    if running and running.under_way:
        raise Problem("Flashes are being looked for already.")
    return runner.start(
        shot, flash_actions.KIND, tasks.flashes, film.pk, list(region) if region else None
    )


def start_mean(shot, film: Film, first: int, last: int) -> Job:
    """Begin to average the frames from first to last. Raises Problem as `numbers_between`, or while
    it is done already."""
    numbers = mean_actions.numbers_between(shot, film, first, last)
    running = runner.latest(shot, mean_actions.KIND)
    if running and running.under_way:
        raise Problem("Frames are being averaged already.")
    return runner.start(shot, mean_actions.KIND, tasks.mean, shot.pk, film.pk, numbers)


def start_converting(shot, film: Film) -> Job:
    """Begin to convert a movie into pictures. Raises Problem where it isn't a movie, or while it is
    done already."""
    convert_actions.require_convertible(shot, film, shot.show.rate)
    running = runner.latest(shot, convert_actions.KIND)
    if running and running.under_way:
        raise Problem("The movie is being converted already.")
    return runner.start(
        shot, convert_actions.KIND, tasks.convert, shot.pk, film.pk, str(shot.show.rate)
    )
