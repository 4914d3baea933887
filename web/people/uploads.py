"""How much one account may bring in a day, where the installation limits it."""

from django.conf import settings
from django.db.models import F
from django.utils import timezone

from web.people.models import Uploaded

SMALL = 100_000  # bytes: what every form may have


def count(request) -> str:
    """Count what a request brings; a sentence where that is more than may come in a day, else
    empty."""
    most = settings.UPLOADS_A_DAY
    if not most or request.method in ("GET", "HEAD") or not request.user.is_authenticated:
        return ""
    try:
        size = int(request.META.get("CONTENT_LENGTH") or 0)
    except ValueError:
        size = 0
    if size < SMALL:
        return ""
    row, _ = Uploaded.objects.get_or_create(by=request.user, day=timezone.localdate())
    if row.bytes + size > most:
        return (
            f"That would be more than the {most / 1e9:g} GB that you may bring in a day. Go on"
            " tomorrow, or ask who keeps this installation."
        )
    Uploaded.objects.filter(pk=row.pk).update(bytes=F("bytes") + size)
    return ""
