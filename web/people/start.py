"""What has to be set up before others are served."""

import os

from django.conf import settings
from django.contrib.auth.models import User
from django.core.exceptions import ImproperlyConfigured
from django.db import DatabaseError

from web.people.access import LOCAL_ARTIST


def missing() -> list[str]:
    """What keeps the server from starting, in sentences; nothing where it serves its own machine
    only."""
    if settings.LOCAL:
        return []
    out = []
    if not settings._wrapped.SECRET_KEY:
        out.append(
            "There is no secret key: make one with `manage.py make_secret`, or set"
            " APERTURE_SECRET_KEY."
        )
    if not os.environ.get("APERTURE_HOSTS"):
        out.append("Set APERTURE_HOSTS to the names under which it is reached.")
    try:
        if not User.objects.filter(is_active=True).exclude(username=LOCAL_ARTIST).exists():
            out.append(
                "There is no account: make the first one with `manage.py create_artist NAME`, or"
                " invite with `manage.py invite`."
            )
    except DatabaseError:
        out.append("The database isn't ready: run `manage.py migrate`.")
    return out


def refuse_unless_ready() -> None:
    """Raise ImproperlyConfigured, with the sentences, where something is missing."""
    found = missing()
    if found:
        raise ImproperlyConfigured(
            "This server would be reached by others, and isn't set up for that. "
            + " ".join(found)
            + " To serve this machine only, set APERTURE_LOCAL=1."
        )
