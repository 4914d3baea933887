"""The history of a shot: the one way to save, undo, redo, restore, lock.

Every edit appends a revision. The work is done outside the transaction, which only compares and
swaps the shot's head. A save from a page that shows an older revision is merged where it changed
other groups of parts than those that changed since; else it is kept beside the head, and refused.
"""

from datetime import timedelta

from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from web.blobs import store
from web.shows import state as states
from web.shows.models import Revision, Shot, Show, StatePart
from web.shows.refusals import Locked, Moved, Refused, Stale
from web.shows.state import State
from web.ui.prepared import Prepared

KEPT = "Kept from another window: "
# Small edits of one kind that follow each other as closely as this are one revision.
PAUSE = timedelta(seconds=3)
LOCKED = "The camera of this shot is locked. Unlock it to change its plate, gate, marks or facts."


@transaction.atomic
def create_shot(show: Show, code: str, description: str = "") -> Shot:
    """A shot with its first, empty revision."""
    shot = Shot.objects.create(show=show, code=code, description=description)
    return begin(shot, "New shot", State())


def begin(shot: Shot, label: str, state: State) -> Shot:
    """Give a new shot its first revision, within the caller's transaction."""
    digests = state.digests()
    _keep({digest: state.text(digest) for digest in digests.values()})
    shot.head = Revision.objects.create(
        shot=shot, number=1, label=label[:200], version=states.VERSION, parts=digests
    )
    shot.save(update_fields=["head"])
    return shot


def edit(
    shot: Shot, label: str, change, base: int | None = None, run: str = "", alone: bool = False
) -> Shot:
    """Append the state that `change(state)` makes of the one that the editor had on screen, and
    move the head to it.

    Parameters
    ----------
    change : takes a State and changes it; called again where somebody saves meanwhile.
    base : the number of the revision on screen; None for the head, whatever it is.
    run : what kind of small edit this is ("nudge e1"); those of one kind that follow each other
        within PAUSE become one revision.
    alone : nothing that was begun before it can be merged with it (the world was turned).

    Returns the fresh shot. Raises Locked where the camera is locked and would change, NotValid
    where a part breaks its schema, Stale where somebody changed the same since `base` (the refused
    version is kept as a revision), Moved where the shot has no such revision.
    """
    while True:
        shot = Shot.objects.with_head().get(pk=shot.pk)
        origin = _revision_at(shot, base)
        state = origin.state.copy()
        before = state.digests()
        change(state)
        after = state.digests()
        changed = {key for key in before.keys() | after.keys() if before.get(key) != after.get(key)}
        if not changed:
            return shot
        if shot.locked and changed & states.camera_keys():
            raise Locked(LOCKED)
        state.check(changed)
        texts = _unstored(origin, state)
        _keep_large(texts)
        done = _swap(shot, origin, label, after, changed, texts, run, alone, base is None)
        if done is not None:
            return done


def _unstored(origin: Revision, state: State) -> dict[str, str]:
    """The texts, by digest, of what a state has and the revision it came from hasn't stored.

    That is what was changed, and what was brought up to date where the revision is of an older
    version.
    """
    fresh = set(state.digests().values()) - set(origin.parts.values())
    return {digest: state.text(digest) for digest in fresh}


def _keep_large(texts):
    """What is too large for the table of parts is on the disk before a transaction refers to it."""
    for text in texts.values():
        if len(text) > states.LARGEST_INLINE:
            store.put(text.encode())


def _keep(texts):
    """Store texts, wherever each belongs."""
    _keep_large(texts)
    StatePart.keep(texts)


def _revision_at(shot, base):
    if base is None or base == shot.head.number:
        return shot.head
    found = shot.revisions.filter(number=base).first()
    if found is None:
        raise Moved(f"This shot has no revision {base} to change.", shot.head.number)
    return found


def _swap(shot, origin, label, after, changed, texts, run, alone, again) -> Shot | None:
    """Compare and swap the head; None where it moved meanwhile and the work has to be done
    `again`."""
    with transaction.atomic():
        shot = _held(shot)
        if shot.locked and changed & states.camera_keys():
            raise Locked(LOCKED)
        if shot.head != origin and again:
            return None
        StatePart.keep(texts)
        fresh = {"version": states.VERSION, "run": run[:60], "alone": alone}
        if shot.head == origin:
            _append(shot, origin, label, after, **fresh)
            return shot
        if not alone and _goes_together(shot, origin, changed):
            _keep(_unstored(shot.head, shot.head.state))
            merged = shot.head.state.digests()
            for key in changed:
                merged.pop(key, None)
                if key in after:
                    merged[key] = after[key]
            _append(shot, shot.head, label, merged, **fresh)
            return shot
        kept = Revision.objects.create(
            shot=shot,
            number=_next_number(shot),
            parent=origin,
            label=(KEPT + label)[:200],
            parts=after,
            version=states.VERSION,
            kept=True,
        )
        newest = shot.head.number
    raise Stale(kept.number, newest)


def _held(shot: Shot) -> Shot:
    """The shot as it is stored, held until the caller's transaction ends. Held first and read then:
    a query that does both, and waits in between, would read the shot as it is and its head as it
    was.
    """
    Shot.objects.select_for_update().only("pk").get(pk=shot.pk)
    return Shot.objects.with_head().get(pk=shot.pk)


def _append(shot, parent, label, digests, run, **fresh):
    """A new head after `parent`; one that goes on with a run of small edits takes its place."""
    follows = (
        run
        and parent.run == run
        and parent.parent_id
        and not parent.is_kept_for_itself
        and timezone.now() - parent.created < PAUSE
    )
    if follows:
        parent.folded = True
        parent.save(update_fields=["folded"])
    revision = Revision.objects.create(
        shot=shot,
        number=_next_number(shot),
        parent_id=parent.parent_id if follows else parent.pk,
        label=label[:200],
        parts=digests,
        run=run,
        **fresh,
    )
    _move_head(shot, revision)


def _goes_together(shot, origin, changed) -> bool:
    """Whether a change of an older revision touches nothing that changed since, on the way to the
    head."""
    rows = shot.revisions.filter(number__gt=origin.number).values_list("pk", "parent_id", "alone")
    parents = {pk: (parent, alone) for pk, parent, alone in rows}
    # A run of small edits replaces its own first revisions: the one on screen may be among them.
    ends = {origin.pk, origin.parent_id} if origin.folded else {origin.pk}
    at = shot.head_id
    while at not in ends:
        at, alone = parents.get(at, (None, True))
        if at is None or alone:
            return False
    ours, theirs = origin.state.digests(), shot.head.state.digests()
    moved = {key for key in ours.keys() | theirs.keys() if ours.get(key) != theirs.get(key)}
    return not states.groups_of(moved) & states.groups_of(changed)


def _next_number(shot) -> int:
    return shot.revisions.aggregate(Max("number"))["number__max"] + 1


def _move_head(shot, revision):
    shot.head = revision
    shot.save(update_fields=["head"])


def _unmoved(shot: Shot, base: int | None, undone: str) -> Shot:
    """The shot as it is stored, for a change inside the caller's transaction. Raises Moved where
    its head isn't `base`."""
    shot = _held(shot)
    if base is not None and base != shot.head.number:
        raise Moved(
            f"This shot was changed in another window after you opened it, so {undone}. Look at the"
            " newer version first.",
            shot.head.number,
        )
    return shot


def undo(shot: Shot, base: int | None = None) -> str:
    """Move the head back by one edit; the sentence says what was undone.

    `base` is the revision on screen: whoever undoes has to see what goes. Raises Moved where the
    head is another one, Refused at the beginning or where locked.
    """
    with transaction.atomic():
        shot = _unmoved(shot, base, "nothing was undone")
        if shot.head.parent is None:
            raise Refused("There is nothing to undo.")
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
            raise Refused("There is nothing to redo.")
        _require_unlocked(shot, following)
        _move_head(shot, following)
        return f"Redone: {following.label}"


_edits_on = Prepared(
    lambda parent: Revision.objects.filter(parent=parent, kept=False, folded=False).order_by(
        "-number"
    )[:1]
)


def next_revision(shot: Shot) -> Revision | None:
    """What redo would go to: the newest edit made on the head, leaving out versions that were
    refused."""
    return _edits_on.first(shot.head.pk)


def _require_unlocked(shot, target):
    if not shot.locked:
        return
    here, there = shot.head.state.digests(), target.state.digests()
    if any(here.get(key) != there.get(key) for key in states.camera_keys()):
        raise Locked("The camera of this shot is locked. Unlock it to undo or redo its edits.")


def restore(shot: Shot, number: int, base: int | None = None) -> Shot:
    """Make an earlier or kept revision the current state, as a new edit.

    `base` is the head that it is to replace. Raises Moved where the head is another one, Refused
    where there is no such revision.
    """
    revision = shot.revisions.filter(number=number).first()
    if revision is None:
        raise Refused(f"This shot has no revision {number}.")
    with transaction.atomic():
        return edit(
            _unmoved(shot, base, "nothing was taken"),
            f"Took revision {number}",
            lambda state: state.become(revision.state),
        )


def set_locked(shot: Shot, locked: bool, base: int | None = None) -> Shot:
    """Lock or unlock the shot's camera. `base` is the revision on screen; raises Moved where the
    head is another one."""
    with transaction.atomic():
        shot = _unmoved(shot, base, "its lock stays as it was")
        shot.locked = locked
        shot.save(update_fields=["locked"])
        return shot


def listed(shot: Shot, most: int = 200):
    """The newest revisions, as the history shows them: a run of small edits by its last."""
    return shot.revisions.filter(folded=False).order_by("-number")[:most]


def name_revision(shot: Shot, number: int, name: str) -> None:
    """Give a revision a name, by which it is found again; it is never thinned then. An empty one
    takes it away."""
    name = " ".join(name.split())[:60]
    if not shot.revisions.filter(number=number).update(name=name):
        raise Refused(f"This shot has no revision {number}.")


def mark_handed_off(shot: Shot) -> None:
    """The revision on screen was given to somebody: it stays."""
    shot.revisions.filter(pk=shot.head_id, handed_off=False).update(handed_off=True)
