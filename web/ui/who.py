"""Who is at work: known to all that is kept, without being handed through every function."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from django.conf import settings
from django.db import models

Person = int | None | Callable[[], int | None]
_now: ContextVar[Person] = ContextVar("who_now", default=None)
_everything: ContextVar[bool] = ContextVar("who_everything", default=True)


def now() -> int | None:
    """The key of the account whose request or work this is; None of the command line."""
    person = _now.get()
    return person() if callable(person) else person


def sees_everything() -> bool:
    """Whether whoever is at work sees all shows: who keeps the installation, and the command
    line."""
    return _everything.get()


@contextmanager
def acting(person: Person, everything: bool = True) -> Iterator[None]:
    """All that is kept meanwhile is of this account, asked for where it is needed; it sees
    `everything` or its own shows."""
    tokens = _now.set(person), _everything.set(everything)
    try:
        yield
    finally:
        _now.reset(tokens[0])
        _everything.reset(tokens[1])


class Signed(models.Model):
    """What somebody made: `by` is the account; None where the command line did, or the account is
    gone."""

    by = models.ForeignKey(
        settings.AUTH_USER_MODEL,
        models.SET_NULL,
        null=True,
        blank=True,
        editable=False,
        default=now,
        related_name="+",
    )

    class Meta:
        abstract = True
