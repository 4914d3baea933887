"""What a worker does for the page of moves."""

from django_tasks import task

from web.jobs import runner
from web.moves import time_actions
from web.shows.models import Shot


@task()
def measure_lag(job: int, shot: int, id_: str) -> None:
    """Measure by how many frames a move is late to its picture."""
    found = Shot.objects.with_head().get(pk=shot)
    runner.run(job, lambda progress: time_actions.measure(found, id_, progress))
