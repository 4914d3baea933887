"""Long work as a shot's pages follow it: how far it is, and stopping it."""

from urllib.parse import urlsplit

from django.http import JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_GET, require_POST

from web.jobs import runner
from web.shows.views import find


@require_GET
def progress(request, show, shot, kind):
    """How far the newest job of a kind is."""
    job = runner.latest(find(show, shot), kind)
    return JsonResponse(
        {"state": job.state, "progress": job.progress, "says": job.says}
        if job
        else {"state": "none"}
    )


@require_POST
def cancel(request, show, shot, kind):
    """Ask the running job of a kind to stop, and lead back to the page that shows it: the browser
    knows which, as a script may have asked for the panel."""
    shot = find(show, shot)
    runner.cancel(shot, kind)
    back = urlsplit(request.headers.get("referer", "")).path
    return redirect(back if back.startswith("/shows/") else shot.show.get_absolute_url())
