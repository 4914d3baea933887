"""What is given out as an address with a secret in it: invitations, and links for viewers."""

import hashlib
import secrets
from datetime import datetime

from django.utils import timezone

from aperture.errors import Problem
from web.people.models import Event, Invitation, Link
from web.shows.models import Shot, Show

GONE = (
    "This link doesn’t hold any more: it has ended, was used, or was taken back. Ask who gave it to"
    " you."
)


def digest_of(secret: str) -> str:
    """What is kept of a secret: who reads the database can't use it."""
    return hashlib.sha256(secret.encode()).hexdigest()


def invite(show: Show | None, role: str = "", admin: bool = False) -> tuple[Invitation, str]:
    """An invitation, and its secret, which is told this once."""
    secret = secrets.token_urlsafe(32)
    row = Invitation.objects.create(
        digest=digest_of(secret),
        ends=timezone.now() + Invitation.LASTS,
        show=show,
        role=role,
        admin=admin,
    )
    log("invited", f"Invited somebody: {role or 'an account'}", show)
    return row, secret


def give(show: Show, shot: Shot | None, kind: str, ends: datetime) -> tuple[Link, str]:
    """A link for a viewer, and its secret. Raises Problem where it would have ended already."""
    if ends <= timezone.now():
        raise Problem("A link ends in the future: choose a later day.", "ends")
    if kind == Link.SHOT and shot is None:
        raise Problem("Choose the shot that the link shows.", "shot")
    secret = secrets.token_urlsafe(32)
    row = Link.objects.create(digest=digest_of(secret), ends=ends, show=show, shot=shot, kind=kind)
    what = shot.code if shot else "all shots"
    log("link", f"Gave out a link: {row.get_kind_display()} of {what}, until {ends:%Y-%m-%d}", show)
    return row, secret


def take_back(show: Show, kind: str, pk: int) -> None:
    """Take an invitation or a link back. Raises Problem where there is none."""
    model = {"invitation": Invitation, "link": Link}.get(kind)
    row = model.objects.filter(show=show, pk=pk).first() if model else None
    if row is None:
        raise Problem("That is gone already.")
    row.taken_back = timezone.now()
    row.save(update_fields=["taken_back"])
    log("taken back", f"Took a {kind} back", show)


def log(kind: str, says: str, show: Show | None = None, address: str | None = None) -> None:
    """A line of the audit log."""
    Event.objects.create(kind=kind, says=says[:300], show=show, address=address)
