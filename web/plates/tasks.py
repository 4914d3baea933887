"""What a worker does for the Plate step."""

from fractions import Fraction

from django_tasks import task

from web.jobs import runner
from web.plates import convert_actions, film_actions, flash_actions, mean_actions
from web.plates.models import Film
from web.shows.models import Shot


@task()
def small_pictures(job: int, film: int, part: int) -> None:
    """Make the small pictures of one part of a filmed plate; the last part gathers what was
    found."""
    found = Film.objects.get(pk=film)
    try:
        runner.run(job, lambda progress: film_actions.make_part(found, part, progress))
    finally:
        runner.close_part(job, lambda: film_actions.gather(found))


@task()
def flashes(job: int, film: int, region: list[float] | None) -> None:
    """Look for lamps that light up."""
    found = Film.objects.get(pk=film)
    area = None
    if region:
        left, top, right, bottom = region
        area = left, top, right, bottom
    runner.run(job, lambda progress: flash_actions.look(found, area, progress))


@task()
def mean(job: int, shot: int, film: int, numbers: list[int]) -> None:
    """Average frames, and make the mean the picture to work on."""
    found = Film.objects.get(pk=film)

    def make(progress):
        mean_actions.work_on_mean(Shot.objects.with_head().get(pk=shot), found, numbers, progress)

    runner.run(job, make)


@task()
def convert(job: int, shot: int, film: int, rate: str) -> None:
    """Convert a movie into numbered pictures, and make their small ones."""
    found = Film.objects.get(pk=film)

    def make(progress):
        now = Shot.objects.with_head().get(pk=shot)
        _, made = convert_actions.convert(
            now, found, Fraction(rate), lambda done: progress(done * 0.7)
        )
        for part in film_actions.parts_of(made):
            film_actions.make_part(made, part, lambda done: None)
        film_actions.gather(made)

    runner.run(job, make)
