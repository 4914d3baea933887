"""The renders of a shot, as pages ask for them."""

from web.elements.models import Render
from web.shows.models import Shot
from web.ui.prepared import Prepared

MOST = 50  # of a shot's renders that are looked through

_newest = Prepared(lambda shot: Render.objects.filter(shot=shot)[:MOST])


def newest_renders(shot: Shot) -> list[Render]:
    """The newest first."""
    found = _newest(shot.pk)
    for row in found:
        row.shot = shot
    return found


def newest_whole(shot: Shot) -> Render | None:
    """The newest of the plate's size; None where there is none."""
    return next((row for row in newest_renders(shot) if row.whole), None)
