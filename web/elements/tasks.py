"""What a worker does for the Elements step."""

from django_tasks import task

from web.elements import actions
from web.jobs import runner
from web.shows.models import Shot


@task()
def render(job: int, shot: int, revision: int, order: dict) -> None:
    """Render a revision of a shot as an order (`Order.json`) wants it."""
    wanted = actions.Order.from_json(order)
    runner.run(
        job,
        lambda progress: actions.render_now(Shot.at_revision(shot, revision), wanted, progress),
    )


@task()
def render_frame(job: int, shot: int, revision: int, order: dict, frame: int) -> None:
    """Render one frame of an order for many; the last one gathers them."""
    wanted = actions.Order.from_json(order)

    def make(progress):
        return actions.render_frame(Shot.at_revision(shot, revision), wanted, frame, progress)

    try:
        runner.run(job, make)
    finally:
        runner.close_part(job, lambda: actions.gather(Shot.at_revision(shot, revision), wanted))
