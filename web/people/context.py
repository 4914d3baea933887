"""What every page knows of whoever looks at it."""

from django.conf import settings


def people(request) -> dict:
    """Whether they may change what the page shows, and whether they can sign out."""
    role = getattr(request, "role", None)
    return {
        "live": settings.LIVE,
        "role": role,
        "only_looks": role == "looks",
        "signed_in": not getattr(request, "local", True) and request.user.is_authenticated,
        "keeps": not getattr(request, "local", True) and getattr(request, "keeps", False),
    }
