"""What a worker does for the Match step of a filmed plate."""

from django_tasks import task

from web.jobs import runner
from web.match import following
from web.shows.models import Shot


@task()
def follow(job: int, shot: int, wanted: int, reach: int) -> None:
    """Follow points through the marked range."""
    runner.run(job, lambda progress: following.follow(_shot(shot), wanted, reach, progress))


@task()
def follow_spots(job: int, shot: int, reach: int) -> None:
    """Follow the spots of the picture that is worked on, forward and back."""
    runner.run(job, lambda progress: following.follow_spots(_shot(shot), reach, progress))


@task()
def follow_by_hand(job: int, shot: int, ids: list[str]) -> None:
    """Follow tracks from where they were placed by hand."""
    runner.run(job, lambda progress: following.follow_by_hand(_shot(shot), ids, progress))


@task()
def solve(job: int, shot: int) -> None:
    """Solve the path."""
    runner.run(job, lambda progress: following.solve_path(_shot(shot), progress))


def _shot(number: int) -> Shot:
    return Shot.objects.with_head().get(pk=number)
