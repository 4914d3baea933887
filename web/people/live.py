"""What happens to a shot while its page is open: who else is there, and what they change, as
server-sent events."""

import json
import time
from collections.abc import Iterator
from datetime import timedelta

from django.conf import settings
from django.db import connection
from django.http import StreamingHttpResponse
from django.utils import timezone
from django.views.decorators.http import require_GET

from web.people.models import Presence
from web.shows.models import Shot
from web.shows.views import find

SECONDS = 1.0  # between two looks
LASTS = 50  # looks, then the browser asks again: no thread is held for ever
GONE = timedelta(seconds=8)
VIEWER = "a viewer"


@require_GET
def events(request, show, shot):
    """A stream of `moved` (the shot has another revision: number, who, what) and `here` (the names
    of the others)."""
    shot = find(show, shot)
    window, step = request.GET.get("window", "")[:40], request.GET.get("step", "")[:20]
    user = request.user if request.user.is_authenticated else None
    looks = LASTS if settings.LIVE else 1
    answer = StreamingHttpResponse(
        _stream(shot.pk, user, window, step, looks), content_type="text/event-stream"
    )
    answer["Cache-Control"] = "no-store"
    answer["X-Accel-Buffering"] = "no"  # a proxy hands each event on at once
    return answer


def _stream(pk: int, user, window: str, step: str, looks: int) -> Iterator[str]:
    number, here, before = None, None, None
    try:
        for look in range(looks):
            if look:
                time.sleep(SECONDS)
            found, parts = _now(pk)
            if found is None:
                return
            if found["number"] != number:
                yield _event("moved", found | {"parts": _changed(before, parts)})
                number, before = found["number"], parts
            others = _others(pk, user, window, step)
            if others != here:
                here = others
                yield _event("here", others)
            else:
                yield ": still here\n\n"  # a browser that has gone is noticed by this
    finally:
        Presence.objects.filter(shot=pk, window=window).delete()
        connection.close()


def _changed(before: dict | None, parts: dict) -> list[str] | None:
    """Which parts of the state were changed between two revisions; None where the first isn't
    known."""
    if before is None:
        return None
    return sorted(key for key in before | parts if before.get(key) != parts.get(key))


def _now(pk: int) -> tuple[dict | None, dict]:
    """The shot's revision and who made it, None where the shot is gone; and the digests of its
    parts."""
    row = (
        Shot.objects.filter(pk=pk, deleted__isnull=True)
        .values("head__number", "head__label", "head__by__username", "head__parts")
        .first()
    )
    if row is None:
        return None, {}
    return {
        "number": row["head__number"],
        "label": row["head__label"],
        "by": row["head__by__username"] or "",
    }, row["head__parts"]


def _others(pk: int, user, window: str, step: str) -> list[dict]:
    """Who else has the shot open, and on which step; and note that this window is still there."""
    now = timezone.now()
    Presence.objects.update_or_create(
        shot_id=pk, window=window, defaults={"user": user, "step": step, "at": now}
    )
    rows = Presence.objects.filter(shot=pk, at__gt=now - GONE).exclude(window=window)
    names = {
        (row.user.username if row.user else VIEWER, row.step) for row in rows.select_related("user")
    }
    return [{"name": name, "step": where} for name, where in sorted(names)]


def _event(kind: str, data) -> str:
    return f"event: {kind}\ndata: {json.dumps(data)}\n\n"
