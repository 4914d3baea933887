"""Beginning to measure when a move happens."""

from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from aperture.errors import Problem
from web.jobs import runner
from web.moves import tasks, time_actions
from web.shows.views import find


@require_POST
def measure(request, show, shot, id_):
    """Begin to measure a move's lag against the picture's motion."""
    shot = find(show, shot)
    time_actions.require_measurable(shot, id_)
    running = runner.latest(shot, time_actions.KIND)
    if running and running.under_way:
        raise Problem("A move is being compared with the picture already.")
    runner.start(shot, time_actions.KIND, tasks.measure_lag, shot.pk, id_)
    return redirect(shot.url("moves") + f"?move={id_}")
