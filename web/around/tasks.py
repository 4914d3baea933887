"""What a worker does for panoramas."""

from django_tasks import task

from web.around.cutting import join, render_views
from web.jobs import runner
from web.shows.models import Shot


@task()
def join_views(job: int, shot: int, revision: int, folder: str) -> None:
    """Join renders of views from the folder where they wait."""
    runner.run(job, lambda progress: join(Shot.at_revision(shot, revision), folder, progress))


@task()
def render_and_join(job: int, shot: int, revision: int) -> None:
    """Render the stand-ins through the views, and join them."""
    runner.run(job, lambda progress: render_views(Shot.at_revision(shot, revision), progress))
