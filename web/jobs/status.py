"""How the installation is: for a supervisor in one word, for whoever looks after it on a page."""

import platform
import shutil
from datetime import timedelta
from importlib.metadata import version

from django.conf import settings
from django.db import DatabaseError, connection
from django.http import JsonResponse
from django.shortcuts import render
from django.utils import timezone
from django.views.decorators.http import require_safe

from web.jobs.models import Job
from web.ui.rows import Row

LEAST_FREE = 500_000_000  # bytes
PACKAGES = ("Django", "numpy", "scipy", "opencv-python-headless", "usd-core", "trimesh", "embreex")
RECENT = timedelta(seconds=15)


def problems() -> list[str]:
    """What keeps the application from working, in sentences."""
    out = []
    try:
        with connection.cursor() as cursor:
            cursor.execute("SELECT 1")
    except DatabaseError as error:
        out.append(f"The database does not answer: {error}.")
    free = shutil.disk_usage(settings.DATA).free
    if free < LEAST_FREE:
        out.append(f"The data folder's disk is nearly full: {free / 1e6:.0f} MB are free.")
    return out


@require_safe
def healthz(request):
    """200 where the application can work, 503 with the reasons where it can't."""
    found = problems()
    return JsonResponse({"ok": not found, "problems": found}, status=503 if found else 200)


@require_safe
def status(request):
    """Versions, disk, workers, queue."""
    disk = shutil.disk_usage(settings.DATA)
    alone = Job.objects.filter(parts=None)
    running = alone.filter(state=Job.RUNNING)
    alive = running.filter(beat__gte=timezone.now() - RECENT)
    context = {
        "problems": problems(),
        "disk": [
            Row("Data folder", str(settings.DATA)),
            Row("Free", f"{disk.free / 1e9:.1f} of {disk.total / 1e9:.1f} GB"),
        ],
        "work": [
            Row("Waiting", str(alone.filter(state=Job.WAITING).count())),
            Row("Running", f"{running.count()}, of which {alive.count()} gave a sign of life"),
            Row("Workers at work", str(alive.values("owner").distinct().count())),
            Row("Failed so far", str(alone.filter(state=Job.FAILED).count())),
        ],
        "versions": [
            Row("Python", platform.python_version()),
            *(Row(name, version(name)) for name in PACKAGES),
        ],
    }
    return render(request, "jobs/status.html", context)
