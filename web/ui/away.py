"""When the database or the queue doesn't answer for a while: what was sent isn't done, and the
sender is told so."""

from django.db import InterfaceError, OperationalError
from django.http import HttpResponse, JsonResponse

DATABASE = (
    "The database of this installation is busy, or doesn't answer. Nothing was saved and nothing"
    " was lost: do this once more in a moment."
)
QUEUE = (
    "The queue of this installation doesn't answer, so the work wasn't begun. Nothing was lost:"
    " order it once more in a moment."
)
SECONDS = "5"


def sentence_of(exception: Exception) -> str:
    """The sentence for what says that a service is away; empty for other exceptions."""
    if isinstance(exception, OperationalError | InterfaceError):
        return DATABASE
    return QUEUE if type(exception).__module__.split(".")[0] == "redis" else ""


def answer(request, sentence: str) -> HttpResponse:
    """503, in plain words: a page of ours would ask the database again."""
    made: HttpResponse
    if request.headers.get("Accept", "").startswith("application/json") or request.headers.get(
        "HX-Request"
    ):
        made = JsonResponse({"problem": sentence, "place": ""}, status=503)
    else:
        made = HttpResponse(sentence, status=503, content_type="text/plain; charset=utf-8")
    made["Retry-After"] = SECONDS
    return made
