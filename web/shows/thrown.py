"""What can be done to a picture that can be thrown away: take it back, give it a name."""

from collections.abc import Callable

from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_POST

from web.shows.models import Throwable
from web.shows.reading import given_name
from web.shows.views import find


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
