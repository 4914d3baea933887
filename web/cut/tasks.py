"""What a worker does for the cut."""

from django_tasks import task

from web.cut import sound_and_movie
from web.jobs import runner
from web.shows.models import Show


@task()
def write_movie(job: int, show: int, what: str, burn_in: bool) -> None:
    """Write the cut as a movie."""
    runner.run(
        job,
        lambda progress: sound_and_movie.write_movie(
            Show.objects.get(pk=show), what, burn_in, progress
        ),
    )
