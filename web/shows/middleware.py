"""A Problem that reaches the top becomes a sentence, never a stack of code."""

from django.http import JsonResponse
from django.shortcuts import render
from django.urls import reverse

from aperture.errors import Problem
from web.shows.refusals import Refused, Stale


def wants_json(request) -> bool:
    """Whether the caller is one of our scripts."""
    return request.headers.get("Accept", "").startswith("application/json")


class SentenceMiddleware:
    """Answers a Problem with its sentence: JSON for scripts, a page otherwise. 422, or what the refusal says."""

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        """Nothing to do on the way in or out."""
        return self.get_response(request)

    def process_exception(self, request, exception):
        """Django calls this for any exception of a view."""
        if not isinstance(exception, Problem):
            return None
        refused = isinstance(exception, Refused)
        status = exception.status if refused else 422
        if wants_json(request) or request.htmx:
            body = {"problem": exception.sentence, "place": exception.place}
            return JsonResponse(body | (exception.more() if refused else {}), status=status)
        context = {"sentence": exception.sentence, "back": request.headers.get("Referer", "/")}
        if isinstance(exception, Stale):
            address = request.resolver_match.kwargs
            shot = (address["show"], address["shot"])
            context |= exception.more() | {
                "restore": reverse("restore", args=[*shot, exception.kept])
            }
        return render(request, "ui/problem.html", context, status=status)
