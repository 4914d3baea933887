"""What can be done to a picture that can be thrown away: take it back, give it a name; after a
month it is gone for good."""

import shutil
from collections.abc import Callable
from datetime import timedelta

from django.shortcuts import get_object_or_404, redirect
from django.utils import timezone
from django.views.decorators.http import require_POST

from web.shows.models import Throwable
from web.shows.reading import given_name
from web.shows.views import find

KEPT = timedelta(days=30)  # in which something that was thrown away can be taken back


def swept(model: type[Throwable], dry_run: bool = False) -> list[tuple[str, int]]:
    """Remove what was thrown away long ago, rows and folders; (name, bytes) of each that goes."""
    gone = []
    for row in model.everything.filter(thrown__lt=timezone.now() - KEPT):
        folder = row.folder
        size = sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())
        gone.append((str(row.name or f"{model._meta.verbose_name} {row.pk}"), size))
        if not dry_run:
            row.delete()  # first, so that a half-removed folder is nobody's
            shutil.rmtree(folder, ignore_errors=True)
    return gone


def verbs(model: type[Throwable], page: str, query: str) -> tuple[Callable, Callable]:
    """The views (take_back, rename) for a shot's pictures of a model.

    Both lead to `page`, an address's name, with the picture chosen by `query`.
    """

    @require_POST
    def take_back(request, show, shot, number):
        """Undo a throwing away."""
        shot = find(show, shot)
        row = get_object_or_404(model.everything, pk=number, shot=shot)
        row.take_back()
        return redirect(f"{shot.url(page)}?{query}={row.pk}")

    @require_POST
    def rename(request, show, shot, number):
        """Give it another name."""
        shot = find(show, shot)
        row = get_object_or_404(model, pk=number, shot=shot)
        row.name = given_name(request)
        row.save(update_fields=["name"])
        return redirect(f"{shot.url(page)}?{query}={row.pk}")

    return take_back, rename
