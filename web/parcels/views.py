"""Saving whole shots and shows, and taking them in."""

from pathlib import Path

from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_GET, require_POST

from aperture.errors import Problem
from web.handoff.answers import made_file
from web.parcels import reading, writing
from web.shows.models import Show
from web.shows.views import find


def _saved(show: Show, shots, name: str):
    def make(path: Path) -> None:
        writing.write(path, show, shots)

    return made_file(make, name, "application/zip")


@require_GET
def shot(request, show, shot):
    """The whole shot as a parcel."""
    found = find(show, shot)
    return _saved(found.show, [found], f"{found.code}_shot.zip")


@require_GET
def show(request, show):
    """The whole show as a parcel, its archived shots too."""
    found = get_object_or_404(Show.objects.kept(), slug=show)
    shots = list(found.shots.with_head().kept())
    return _saved(found, shots, f"{found.slug}_show.zip")


def _upload(request) -> Path:
    upload = request.FILES.get("file")
    if upload is None:
        raise Problem("Choose a parcel, a .zip, first.", "file")
    return Path(upload.temporary_file_path())


@require_POST
def take_show(request):
    """A new show of a parcel."""
    return redirect(reading.take(_upload(request)))


@require_POST
def take_shots(request, show):
    """The shots of a parcel, into a show."""
    found = get_object_or_404(Show.objects.kept(), slug=show)
    return redirect(reading.take(_upload(request), found))
