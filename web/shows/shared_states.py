"""Saved states that a server process has read lately, so that the next page of the same revision
reads and computes nothing twice.

A saved revision's state never changes, and what follows from it (`state.once`) is shared too. What
a page changes is a copy. The cache holds so many states, and no more text of parts than so much;
the ones not asked for longest go first.
"""

import itertools
import threading
from collections import OrderedDict
from collections.abc import Callable, Mapping

from web.shows.state import State

MOST_STATES = 1000
MOST_TEXT = 30_000_000  # characters of JSON, of which the values take several times as many bytes

_guard = threading.Lock()
_count = itertools.count()
_states: OrderedDict[tuple, State] = OrderedDict()


def of(digests: Mapping[str, str], read: Callable[[], State]) -> State:
    """The state with these digests: one that is there already, or what `read` gives."""
    key = tuple(sorted(digests.items()))
    with _guard:
        if found := _states.get(key):
            _states.move_to_end(key)
            return found
    fresh = read()
    with _guard:
        kept = _states.setdefault(key, fresh)
        if len(_states) > MOST_STATES or next(_count) % 16 == 0:
            _make_room()
    return kept


def _make_room() -> None:
    size = sum(state.size for state in _states.values())
    while len(_states) > 1 and (len(_states) > MOST_STATES or size > MOST_TEXT):
        size -= _states.popitem(last=False)[1].size


def forget() -> list[str]:
    """Drop all; the keys of parts that somebody changed in place, which nobody may."""
    with _guard:
        states = list(_states.values())
        _states.clear()
    return [key for state in states for key in state.spoilt()]
