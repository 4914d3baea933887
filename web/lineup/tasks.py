"""What a worker does for the Line-up step."""

from django_tasks import task

from web.jobs import runner
from web.lineup.actions import put_right_again, take_in
from web.lineup.plate_edges import measure_range
from web.shows.models import Shot


@task()
def bring_back(job: int, shot: int, revision: int, folder: str, name: str) -> None:
    """Take renders in from the folder where they wait."""
    runner.run(
        job, lambda progress: take_in(Shot.at_revision(shot, revision), folder, name, progress)
    )


@task()
def take_again(job: int, shot: int, revision: int, number: int, taken: dict | None) -> None:
    """Put a render that was brought back right in another way."""
    runner.run(
        job,
        lambda progress: put_right_again(Shot.at_revision(shot, revision), number, taken, progress),
    )


@task()
def measure_edges(job: int, shot: int, revision: int) -> None:
    """Measure the plate's own edges over the range."""
    runner.run(job, lambda progress: measure_range(Shot.at_revision(shot, revision), progress))
