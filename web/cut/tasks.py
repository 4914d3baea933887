"""What a worker does for the cut."""

from django_tasks import task

from web.cut import retimed, sound_and_movie
from web.jobs import runner
from web.shows.models import Shot, Show


@task()
def write_movie(job: int, show: int, what: str, burn_in: bool) -> None:
    """Write the cut as a movie."""
    runner.run(
        job,
        lambda progress: sound_and_movie.write_movie(
            Show.objects.get(pk=show), what, burn_in, progress
        ),
    )


@task()
def retime(job: int, clip: str) -> None:
    """Make a clip at another speed a shot of its own."""

    def make(progress):
        retimed.make(_shot_of(job), clip, progress)

    runner.run(job, make)


@task()
def retime_anew(job: int) -> None:
    """Make a shot at another speed anew, from the shot that it was made from."""
    runner.run(job, lambda progress: retimed.make_anew(_shot_of(job), progress))


def _shot_of(job: int) -> Shot:
    return Shot.objects.with_head().get(jobs=job)
