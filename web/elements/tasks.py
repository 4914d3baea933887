"""What a worker does for the Elements step."""

from django_tasks import task

from web.jobs import runner
from web.shows.models import Shot


@task()
def render(job: int, shot: int, revision: int, order: dict) -> None:
    """Render a revision of a shot as an order (`Order.json`) wants it."""
    from web.elements.actions import Order, render_now

    runner.run(job, lambda progress: render_now(Shot.at_revision(shot, revision), Order.from_json(order), progress))


@task()
def render_frame(job: int, shot: int, revision: int, order: dict, frame: int) -> None:
    """Render one frame of an order for many; the last one gathers them."""
    from web.elements.actions import Order, gather
    from web.elements.actions import render_frame as make

    wanted = Order.from_json(order)
    try:
        runner.run(job, lambda progress: make(Shot.at_revision(shot, revision), wanted, frame, progress))
    finally:
        runner.close_part(job, lambda: gather(Shot.at_revision(shot, revision), wanted))
