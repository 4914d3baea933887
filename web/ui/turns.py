"""Requests take turns: a process answers a few at a time, edits before pages, each in the order in
which they came.

A hundred threads that all compute share one interpreter: each gets a sliver of it, and those that
are unlucky take seconds where the work of all of them is done no sooner. Whoever has moved a mark
waits for what it does; whoever opens a page waits anyhow. What waits for somebody else doesn't take
a turn: uploads, and streams once they have begun.
"""

import threading
from collections import deque
from contextlib import contextmanager

AT_ONCE = 2
QUESTIONS = (
    "/state",
    "/preview",
)  # ends of addresses that are asked with a body, and change nothing
LARGEST = 1_000_000  # bytes of a body that is read before the turn begins
EDITS_IN_A_ROW = 4  # then a page that waits has its turn


class Turns:
    """A few places; who waits for one gets it when it is their turn."""

    def __init__(self, at_once: int = AT_ONCE) -> None:
        self._lock = threading.Lock()
        self._free = at_once
        self._edits: deque[threading.Event] = deque()
        self._pages: deque[threading.Event] = deque()
        self._in_a_row = 0

    @contextmanager
    def one(self, edit: bool):
        """Within it, it is one's turn."""
        self._enter(self._edits if edit else self._pages)
        try:
            yield
        finally:
            self._leave()

    def _enter(self, queue: deque[threading.Event]) -> None:
        with self._lock:
            if self._free:  # nobody waits then
                self._free -= 1
                return
            turn = threading.Event()
            queue.append(turn)
        turn.wait()

    def _leave(self) -> None:
        with self._lock:
            following = self._next()
            if following is None:
                self._free += 1
            else:
                following.set()

    def _next(self) -> threading.Event | None:
        if self._edits and not (self._pages and self._in_a_row >= EDITS_IN_A_ROW):
            self._in_a_row += 1
            return self._edits.popleft()
        self._in_a_row = 0
        return self._pages.popleft() if self._pages else None


class TakeTurns:
    """The last of the middlewares: what those before it wait for, such as a slow sender's form,
    holds no turn."""

    def __init__(self, get_response):
        self.get_response = get_response
        self.turns = Turns()

    def __call__(self, request):
        """Answer, when it is its turn."""
        if request.content_type == "multipart/form-data":
            return self.get_response(request)
        if request.method == "POST" and _size(request) < LARGEST:
            _ = request.body  # a sender may take their time
        edit = request.method == "POST" and not request.path.endswith(QUESTIONS)
        with self.turns.one(edit):
            return self.get_response(request)


def _size(request) -> int:
    try:
        return int(request.META.get("CONTENT_LENGTH") or 0)
    except ValueError:
        return LARGEST
