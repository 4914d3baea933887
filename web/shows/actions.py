"""The verbs that change a show or a shot. Every edit of a shot is one appended revision; the one way to save is `edit`."""

import copy

from django.db import transaction
from django.db.models import Max

from aperture.errors import Problem
from web.shows.models import Revision, Shot, Show

EMPTY = {"plate": None, "gate": None, "lens": {"focal_mm": None}, "marks": [], "facts": [], "planes": [], "survey": [], "draft": "First", "drafts": {},
         "stand_ins": []}
# Parts of the state that make the camera: a locked shot refuses to change these.
CAMERA_PARTS = ("plate", "gate", "lens", "marks", "facts", "planes", "draft")


class Locked(Problem):
    """The shot's camera is locked."""


class Stale(Problem):
    """Somebody saved in between; `kept` is the revision that holds the refused version."""

    def __init__(self, kept: Revision):
        super().__init__("This shot was changed in another window after you opened it. Nothing was overwritten: the newer version stays, "
                         f"and yours is kept as revision {kept.number}.")
        self.kept = kept


@transaction.atomic
def create_shot(show: Show, code: str, description: str = "") -> Shot:
    """A shot with its first, empty revision."""
    shot = Shot.objects.create(show=show, code=code, description=description)
    shot.head = Revision.objects.create(shot=shot, number=1, label="New shot", state=copy.deepcopy(EMPTY))
    shot.save(update_fields=["head"])
    return shot


def edit(shot: Shot, label: str, change, base: int | None = None) -> Shot:
    """Append the state that `change(state)` makes of a copy of the current one, and move the head to it.

    `base` is the revision number that the editor had on screen. Raises Locked where the camera is locked and would change, Stale where
    the shot has moved on since `base`: the refused version is then kept as a revision beside the head. Returns the fresh shot.
    """
    with transaction.atomic():
        shot = Shot.objects.select_for_update().with_head().get(pk=shot.pk)
        from_revision = shot.head
        if base is not None and base != shot.head.number:
            from_revision = shot.revisions.filter(number=base).first() or shot.head
        state = copy.deepcopy(from_revision.state)
        change(state)
        if shot.locked and _camera(state) != _camera(from_revision.state):
            raise Locked("The camera of this shot is locked. Unlock it to change its plate, gate, marks or facts.")
        if state == from_revision.state:
            return shot
        revision = _append(shot, from_revision, label, state)
        if from_revision == shot.head:
            _move_head(shot, revision)
            return shot
    raise Stale(revision)


def _camera(state: dict) -> dict:
    """The parts that make the camera; revisions of an earlier version lack some."""
    return {part: state.get(part, EMPTY[part]) for part in CAMERA_PARTS}


def undo(shot: Shot) -> str:
    """Move the head back by one edit; the sentence says what was undone. Raises Problem at the beginning or where locked."""
    with transaction.atomic():
        shot = Shot.objects.select_for_update().with_head().get(pk=shot.pk)
        if shot.head.parent is None:
            raise Problem("There is nothing to undo.")
        undone = shot.head
        _require_unlocked(shot, shot.head.parent)
        _move_head(shot, shot.head.parent)
        return f"Undone: {undone.label}"


def redo(shot: Shot) -> str:
    """Move the head forward again, along the newest branch. Raises Problem where there is none or where locked."""
    with transaction.atomic():
        shot = Shot.objects.select_for_update().with_head().get(pk=shot.pk)
        following = next_revision(shot)
        if following is None:
            raise Problem("There is nothing to redo.")
        _require_unlocked(shot, following)
        _move_head(shot, following)
        return f"Redone: {following.label}"


def next_revision(shot: Shot) -> Revision | None:
    """What redo would go to: the newest edit made on the head, leaving out versions that were refused."""
    return shot.head.children.exclude(label__startswith=KEPT).order_by("-number").first()


KEPT = "Kept from another window: "


def _append(shot, parent, label, state):
    number = shot.revisions.aggregate(Max("number"))["number__max"] + 1
    kept = KEPT if parent != shot.head else ""
    return Revision.objects.create(shot=shot, number=number, parent=parent, label=(kept + label)[:200], state=state)


def _move_head(shot, revision):
    shot.head = revision
    shot.save(update_fields=["head"])


def _require_unlocked(shot, target):
    if shot.locked and _camera(target.state) != _camera(shot.head.state):
        raise Locked("The camera of this shot is locked. Unlock it to undo or redo its edits.")


def restore(shot: Shot, number: int) -> Shot:
    """Make an earlier or kept revision the current state, as a new edit. Raises Problem where there is none."""
    revision = shot.revisions.filter(number=number).first()
    if revision is None:
        raise Problem(f"This shot has no revision {number}.")

    def change(state):
        state.clear()
        state.update(copy.deepcopy(revision.state))
    return edit(shot, f"Took revision {number}", change)


def set_locked(shot: Shot, locked: bool) -> Shot:
    """Lock or unlock the shot's camera."""
    with transaction.atomic():
        shot = Shot.objects.select_for_update().with_head().get(pk=shot.pk)
        shot.locked = locked
        shot.save(update_fields=["locked"])
        return shot
