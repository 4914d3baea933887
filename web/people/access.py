"""What each address wants of whoever asks, and what they may. Everything that isn't told here
belongs to a show, and is looked at by its members, changed by those who work there; what belongs to
no show and isn't told is open to nobody.
"""

from django.conf import settings
from django.contrib.auth.models import AbstractBaseUser, User
from django.db.models import Q
from django.utils import timezone

from web.people.models import LEADS, LOOKS, RANK, WORKS, Link, Member, PictureOf
from web.shows.models import Show

LOCAL_ARTIST = "artist"
# By the names of addresses. Open to everybody:
OPEN = {"healthz", "sign-in", "welcome", "see"}
# To everybody who is signed in; what they show and do there depends on the shows that are theirs:
SIGNED_IN = {"shows", "sign-out", "account", "parcel-take-show"}
# To look at for everybody who is signed in, to change for those who work in some show:
SHARED = {
    "catalogue",
    "catalogue-import",
    "catalogue-file",
    "catalogue-database",
    "catalogue-new",
    "catalogue-entry",
    "catalogue-verb",
    "catalogue-mode",
}
ADMINS = {"status", "accounts", "account-verb", "audit"}
# Pictures by their digest: to those who see a shot that has them.
PICTURES = {"picture", "tile", "film-picture", "film-tile"}
# Of a show, to be changed by those who lead it:
LED = {
    "show-settings",
    "show-verb",
    "people-of-show",
    "member-put",
    "member-invite",
    "link-give",
    "ticket-take-back",
    "handoff-recipe-remove",
    "handoff-recipes-take",
    "handoff-keep",
}
# Not even to be looked at by others than those who work there: folders of the server.
WORKED = {"media"}
# Sent, but changing nothing: questions with a body.
ASKED = {
    "film-sequences",
    "handoff-preview",
    "match-path-guides",
    "match-preview",
    "match-state",
    "moves-try",
}
# What a link to the sheets shows.
SHEETS = {"handoff", "show-sheets", "show-storyboard"}
SAFE = ("GET", "HEAD", "OPTIONS")


def is_admin(user: AbstractBaseUser | None) -> bool:
    """Whether somebody leads every show, and keeps the accounts."""
    return bool(user and user.is_authenticated and user.is_active and user.is_superuser)


def role_in(user, show: Show) -> str | None:
    """The role of somebody in a show; None of strangers."""
    if is_admin(user):
        return LEADS
    if not (user and user.is_authenticated and user.is_active):
        return None
    return Member.objects.filter(user=user, show=show).values_list("role", flat=True).first()


def wanted_role(name: str, method: str, verb: str = "") -> str:
    """The role that an address of a show wants; `verb`: what is done there, where its address tells
    it."""
    if name in LED and (method not in SAFE or name == "people-of-show"):
        return LEADS
    if name == "shot-verb" and verb in ("delete", "restore"):
        return LEADS
    if name in WORKED or (method not in SAFE and name not in ASKED):
        return WORKS
    return LOOKS


def enough(role: str | None, wanted: str) -> bool:
    """Whether a role may do what another one may."""
    return role is not None and RANK[role] >= RANK[wanted]


def works_somewhere(user) -> bool:
    """Whether somebody changes anything at all: then also what all shows share."""
    return is_admin(user) or Member.objects.filter(user=user, role__in=(WORKS, LEADS)).exists()


def links_of(request) -> list[Link]:
    """The viewer's links that this browser came by, and that still hold."""
    kept = request.session.get("links", []) if hasattr(request, "session") else []
    if not kept:
        return []
    rows = Link.objects.filter(pk__in=kept, taken_back=None, ends__gt=timezone.now())
    return list(rows.select_related("show", "shot"))


def link_opens(links: list[Link], name: str, method: str, show: str, shot: str) -> bool:
    """Whether a link opens an address: its shot, to look at, or its sheets."""
    if method not in SAFE and name not in ASKED or name in WORKED | LED:
        return False
    for link in links:
        if link.show.slug != show or (link.shot and link.shot.code != shot):
            continue
        if link.kind == Link.SHEET and name in SHEETS:
            return True
        if link.kind == Link.SHOT and link.shot:
            return True
    return False


def sees_picture(user, links: list[Link], digest: str) -> bool:
    """Whether somebody may see a plate's or film's pictures."""
    if is_admin(user):
        return True
    shots = Q(shot__in=[link.shot_id for link in links if link.shot_id])
    if user and user.is_authenticated:
        shots |= Q(shot__show__members__user=user)
    return PictureOf.objects.filter(shots, digest=digest, shot__deleted__isnull=True).exists()


def local_artist() -> User:
    """The account that is signed in by itself where the application serves its own machine only."""
    user = User.objects.filter(username=LOCAL_ARTIST).first()
    if user is None:
        user, _ = User.objects.get_or_create(
            username=LOCAL_ARTIST, defaults={"is_superuser": True, "password": "!"}
        )
    return user


def is_local(request) -> bool:
    """Whether a request comes from the machine itself, to an application that serves only that."""
    if not settings.LOCAL or request.headers.get("X-Forwarded-For"):
        return False
    return request.META.get("REMOTE_ADDR", "") in ("127.0.0.1", "::1", "")
