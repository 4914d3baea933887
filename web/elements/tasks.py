"""What a worker does for the Elements step."""

from django_tasks import task

from web.jobs import runner


@task()
def render(job: int, shot: int, revision: int, order: dict) -> None:
    """Render a revision of a shot as an order (`Order.json`) wants it."""
    from web.elements.actions import Order, render_now

    runner.run(job, lambda progress: render_now(_at(shot, revision), Order.from_json(order), progress))


@task()
def render_frame(job: int, shot: int, revision: int, order: dict, frame: int) -> None:
    """Render one frame of an order for many; the last one gathers them."""
    from web.elements.actions import Order, gather
    from web.elements.actions import render_frame as make

    wanted = Order.from_json(order)
    runner.run(job, lambda progress: make(_at(shot, revision), wanted, frame, progress))
    runner.close_part(job, lambda: gather(_at(shot, revision), wanted))


def _at(shot, revision):
    from web.shows.models import Shot

    return Shot.at_revision(shot, revision)
