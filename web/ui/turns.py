"""Requests take turns: a process answers a few at a time, in the order in which they came.

A hundred threads that all compute share one interpreter: each gets a sliver of it, and those that are unlucky take seconds where
the work of all of them is done no sooner. What waits for somebody else doesn't take a turn: uploads, and streams once they have begun.
"""

import threading

AT_ONCE = 2
LARGEST = 1_000_000  # bytes of a body that is read before the turn begins


class TakeTurns:
    """The last of the middlewares: what those before it wait for, such as a slow sender's form, holds no turn."""

    def __init__(self, get_response):
        self.get_response = get_response
        self.turns = threading.BoundedSemaphore(AT_ONCE)

    def __call__(self, request):
        """Answer, when it is its turn."""
        if request.content_type == "multipart/form-data":
            return self.get_response(request)
        if request.method == "POST" and _size(request) < LARGEST:
            _ = request.body  # a sender may take their time
        with self.turns:
            return self.get_response(request)


def _size(request) -> int:
    try:
        return int(request.META.get("CONTENT_LENGTH") or 0)
    except ValueError:
        return LARGEST
