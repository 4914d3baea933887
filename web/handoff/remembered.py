"""What was handed off, and whether it still is what the shot says."""

import numpy as np

from aperture.errors import Problem
from aperture.moves.compare import apart
from web.elements.actions import source_digest
from web.handoff.cameras import cameras_by_frame
from web.handoff.models import HandedOff
from web.shows import history
from web.shows.models import Shot
from web.ui.rows import Remark

SAME_PX = 0.005  # less isn't told apart in any file
MOST_FRAMES = 24  # that are compared


def remember(shot, what: str, recipe: str = "") -> None:
    """Note that files were written from the shot as it stands. The revision that they were made
    from stays, however old it grows.
    """
    history.mark_handed_off(shot)
    HandedOff.objects.create(shot=shot, revision=shot.head.number, what=what, recipe=recipe[:80])


def remark(shot) -> Remark | None:
    """That what was handed off last is no longer current, and by how many px; None where it is, or
    nothing was.
    """
    last = shot.handed_off.first()
    if last is None or last.revision == shot.head.number:
        return None
    if not shot.revisions.filter(number=last.revision).exists():
        return None  # of a shot whose history was taken away
    then = Shot.at_revision(shot.pk, last.revision)
    if source_digest(then.state) == source_digest(shot.state):
        return None
    title = f"What was handed off is of revision {last.revision}"
    try:
        px, frame = _apart(cameras_by_frame(then), cameras_by_frame(shot))
    except Problem as problem:
        return Remark(title, f"It can't be compared with: {problem.sentence}", "doubt")
    if frame is None:
        return Remark(title, "The camera now has none of its frames: hand it off again.", "doubt")
    if not np.isfinite(px):
        says = f"The camera now looks elsewhere on frame {frame}: hand it off again."
        return Remark(title, says, "doubt")
    if px < SAME_PX:
        says = "The camera is the same, but stand-ins have changed: hand them off again."
        return Remark(title, says, "doubt")
    says = (
        f"The camera has changed since, by up to {px:.2f} px, on frame {frame}: hand it off again."
    )
    return Remark(title, says, "doubt")


def _apart(then: dict, now: dict) -> tuple[float, int | None]:
    """By how many px the same points are seen apart, and on which frame most; no frame where there
    is none in common.
    """
    common = sorted(set(then) & set(now))
    if not common:
        return 0.0, None
    some = np.unique(np.linspace(0, len(common) - 1, MOST_FRAMES).astype(int))
    compared = {common[index]: now[common[index]] for index in some}
    each = apart(compared, then)
    frame = max(each, key=lambda number: each[number])
    return each[frame], frame


def recipes(shots: list[Shot]) -> list[str]:
    """By which recipe each was handed off last; a dash where it wasn't, or by none."""
    rows = HandedOff.objects.filter(shot__in=shots).order_by("pk").values_list("shot", "recipe")
    last = dict(rows)
    return [last.get(shot.pk) or "–" for shot in shots]
