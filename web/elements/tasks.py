"""What a worker does for the Elements step."""

from django_tasks import task

from web.jobs import runner


@task()
def render(job: int, shot: int, revision: int, order: dict) -> None:
    """Render a revision of a shot as an order (`Order.json`) wants it."""
    from web.elements.actions import Order, render_now
    from web.shows.models import Shot

    def work(progress):
        found = Shot.objects.with_head().get(pk=shot)
        found.head = found.revisions.get(number=revision)
        render_now(found, Order.from_json(order), progress)
    runner.run(job, work)
