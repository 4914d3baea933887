"""A Problem that reaches the top becomes a sentence, never a stack of code."""

import errno
import logging
from urllib.parse import urlsplit

import numpy as np
from django.core.exceptions import PermissionDenied, SuspiciousOperation
from django.db import OperationalError
from django.http import Http404, JsonResponse
from django.shortcuts import render
from django.urls import reverse

from aperture.errors import Problem
from web.shows import steps
from web.shows.reading import wants_json
from web.shows.refusals import Refused, Stale
from web.shows.views import without_its_page
from web.ui import away
from web.ui.logs import request_id

logger = logging.getLogger(__name__)

# What numbers do that nothing can be computed from.
NUMERICAL = (ArithmeticError, np.linalg.LinAlgError)
BEYOND = (
    "The numbers of this shot are beyond what can be computed: look for one that is far too large "
    "or far too small."
)
UNFORESEEN = (
    "Something went wrong that was not foreseen. Nothing was lost; the log of this installation "
    "says what it was, under the number {}."
)


FULL = (
    "The disk of this installation is full, or can't be written. Nothing was saved and nothing was "
    "lost: when there is room again, do this once more."
)


class Full(Refused):
    """Nothing can be written."""

    status = 507


def _says_full(exception: Exception) -> bool:
    """Whether an error of the file system or of the database says that nothing can be written."""
    if isinstance(exception, OSError):
        return exception.errno in (errno.ENOSPC, errno.EDQUOT, errno.EROFS)
    said = str(exception)
    return isinstance(exception, OperationalError) and ("full" in said or "readonly" in said)


def _sent_by_script(request) -> bool:
    return "X-Form" in request.headers


class SentenceMiddleware:
    """Answers a Problem with its sentence: JSON for scripts, a page otherwise. 422, or what the
    refusal says. A form that a script sends (`ui/forms.js`) is told where to go from there."""

    def __init__(self, get_response):
        self.get_response = get_response

    def __call__(self, request):
        """Turn a redirection of a form that a script sent into words."""
        response = self.get_response(request)
        if not (_sent_by_script(request) and "Location" in response):
            return response
        told = JsonResponse({"to": response["Location"]})
        told.cookies = response.cookies
        return told

    def process_exception(self, request, exception):
        """Django calls this for any exception of a view."""
        if isinstance(exception, NUMERICAL):
            logger.error("%s can't be computed", request.path, exc_info=exception)
            exception = Refused(BEYOND)
        if _says_full(exception):
            logger.error("%s: the disk is full", request.path, exc_info=exception)
            exception = Full(FULL)
        elif says := away.sentence_of(exception):
            logger.error("%s: a service is away", request.path, exc_info=exception)
            return away.answer(request, says)
        page = request.method == "GET" and steps.of_page(request.resolver_match.url_name)
        if not isinstance(exception, Problem):
            if isinstance(exception, Http404 | PermissionDenied | SuspiciousOperation) or not page:
                return None
            logger.error("%s can't be shown", request.path, exc_info=exception)
            return without_its_page(request, page, UNFORESEEN.format(request_id.get()), 500)
        refused = isinstance(exception, Refused)
        status = exception.status if refused else 422
        if wants_json(request) or request.htmx or _sent_by_script(request):
            body = {"problem": exception.sentence, "place": exception.place}
            return JsonResponse(body | (exception.more() if refused else {}), status=status)
        if page:
            return without_its_page(request, page, exception.sentence, status)
        context = {"sentence": exception.sentence, "back": request.headers.get("Referer", "/")}
        if isinstance(exception, Stale):
            address = request.resolver_match.kwargs
            shot = (address["show"], address["shot"])
            context |= exception.more() | {
                "restore": reverse("restore", args=[*shot, exception.kept]),
                "back_path": urlsplit(context["back"]).path,
            }
        return render(request, "ui/problem.html", context, status=status)
