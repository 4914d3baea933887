"""The verbs that change a show or a shot. Every edit of a shot is one appended revision; the one way to save is `edit`."""

import copy

from django.db import transaction
from django.db.models import Max

from aperture.errors import Problem
from web.shows.models import Revision, Shot, Show

EMPTY = {
    "plate": None,
    "plate_facts": {},
    "gate": None,
    "lens": {"focal_mm": None},
    "marks": [],
    "facts": [],
    "planes": [],
    "robust": False,
    "survey": [],
    "draft": "First",
    "drafts": {},
    "stand_ins": [],
}
# Parts of the state that make the camera: a locked shot refuses to change these.
CAMERA_PARTS = ("plate", "gate", "lens", "marks", "facts", "planes", "robust", "draft")


class Locked(Problem):
    """The shot's camera is locked."""


class Moved(Problem):
    """The shot isn't what the page shows any more, and nothing was done; `newest` is the head's number."""

    def __init__(self, sentence: str, newest: int):
        super().__init__(sentence)
        self.newest = newest


class Stale(Moved):
    """Somebody saved in between; `kept` is the revision that holds the refused version."""

    def __init__(self, kept: Revision, newest: int):
        super().__init__(
            "This shot was changed in another window after you opened it. Nothing was overwritten: the newer version stays, "
            f"and yours is kept as revision {kept.number}.",
            newest,
        )
        self.kept = kept


@transaction.atomic
def create_shot(show: Show, code: str, description: str = "") -> Shot:
    """A shot with its first, empty revision."""
    shot = Shot.objects.create(show=show, code=code, description=description)
    shot.head = Revision.objects.create(
        shot=shot, number=1, label="New shot", state=copy.deepcopy(EMPTY)
    )
    shot.save(update_fields=["head"])
    return shot


def edit(shot: Shot, label: str, change, base: int | None = None) -> Shot:
    """Append the state that `change(state)` makes of a copy of the current one, and move the head to it.

    `base` is the revision number that the editor had on screen. Raises Locked where the camera is locked and would change, Stale where
    the shot has moved on since `base`: the refused version is then kept as a revision beside the head. Raises Moved where the shot has
    no such revision. Returns the fresh shot.
    """
    with transaction.atomic():
        shot = Shot.objects.select_for_update().with_head().get(pk=shot.pk)
        from_revision = shot.head
        if base is not None and base != shot.head.number:
            from_revision = shot.revisions.filter(number=base).first()
            if from_revision is None:
                raise Moved(f"This shot has no revision {base} to change.", shot.head.number)
        state = copy.deepcopy(from_revision.state)
        change(state)
        if shot.locked and _camera(state) != _camera(from_revision.state):
            raise Locked(
                "The camera of this shot is locked. Unlock it to change its plate, gate, marks or facts."
            )
        if state == from_revision.state:
            return shot
        revision = _append(shot, from_revision, label, state)
        if from_revision == shot.head:
            _move_head(shot, revision)
            return shot
    raise Stale(revision, shot.head.number)


def _camera(state: dict) -> dict:
    """The parts that make the camera; revisions of an earlier version lack some."""
    return {part: state.get(part, EMPTY[part]) for part in CAMERA_PARTS}


def _unmoved(shot: Shot, base: int | None, undone: str) -> Shot:
    """The shot as it is stored, for a change inside the caller's transaction. Raises Moved where its head isn't `base`."""
    shot = Shot.objects.select_for_update().with_head().get(pk=shot.pk)
    if base is not None and base != shot.head.number:
        raise Moved(
            f"This shot was changed in another window after you opened it, so {undone}. Look at the newer version first.",
            shot.head.number,
        )
    return shot


def undo(shot: Shot, base: int | None = None) -> str:
    """Move the head back by one edit; the sentence says what was undone.

    `base` is the revision on screen: whoever undoes has to see what goes. Raises Moved where the head is another one, Problem at the
    beginning or where locked.
    """
    with transaction.atomic():
        shot = _unmoved(shot, base, "nothing was undone")
        if shot.head.parent is None:
            raise Problem("There is nothing to undo.")
        undone = shot.head
        _require_unlocked(shot, shot.head.parent)
        _move_head(shot, shot.head.parent)
        return f"Undone: {undone.label}"


def redo(shot: Shot, base: int | None = None) -> str:
    """Move the head forward again, along the newest branch. Raises as `undo`."""
    with transaction.atomic():
        shot = _unmoved(shot, base, "nothing was redone")
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
    return Revision.objects.create(
        shot=shot, number=number, parent=parent, label=(kept + label)[:200], state=state
    )


def _move_head(shot, revision):
    shot.head = revision
    shot.save(update_fields=["head"])


def _require_unlocked(shot, target):
    if shot.locked and _camera(target.state) != _camera(shot.head.state):
        raise Locked("The camera of this shot is locked. Unlock it to undo or redo its edits.")


def restore(shot: Shot, number: int, base: int | None = None) -> Shot:
    """Make an earlier or kept revision the current state, as a new edit.

    `base` is the head that it is to replace. Raises Moved where the head is another one, Problem where there is no such revision.
    """
    revision = shot.revisions.filter(number=number).first()
    if revision is None:
        raise Problem(f"This shot has no revision {number}.")

    def change(state):
        state.clear()
        state.update(copy.deepcopy(revision.state))

    with transaction.atomic():
        return edit(_unmoved(shot, base, "nothing was taken"), f"Took revision {number}", change)


def set_locked(shot: Shot, locked: bool, base: int | None = None) -> Shot:
    """Lock or unlock the shot's camera. `base` is the revision on screen; raises Moved where the head is another one."""
    with transaction.atomic():
        shot = _unmoved(shot, base, "its lock stays as it was")
        shot.locked = locked
        shot.save(update_fields=["locked"])
        return shot
