"""Old revisions made fewer: what nobody would go back to is removed, what something was made from
stays.

Off unless a show says after how many days. A revision stays where it is the head, the first one, a
branch point or the end of a branch, has a name, was handed off, or where a render or a snapshot was
made from it. What follows a removed revision goes on from the one before it.
"""

import json
from collections import Counter
from collections.abc import Callable, Iterable
from datetime import datetime

from django.db import transaction

from web.blobs import store
from web.blobs.in_use import referred
from web.shows.models import Revision, Shot, StatePart

_keepers: list[Callable[[Shot], Iterable[int]]] = []


def keep_for(keeper: Callable[[Shot], Iterable[int]]) -> None:
    """Register a function that gives the numbers of a shot's revisions that something was made
    from."""
    if keeper not in _keepers:
        _keepers.append(keeper)


def thin(shot: Shot, before: datetime) -> int:
    """Remove a shot's revisions made before a time, but for those that have to stay; how many
    went."""
    with transaction.atomic():
        shot = Shot.objects.select_for_update().get(pk=shot.pk)
        rows = {one.pk: one for one in shot.revisions.defer("parts")}
        following = Counter(one.parent_id for one in rows.values())
        used = {number for keeper in _keepers for number in keeper(shot)}
        gone = {
            pk
            for pk, one in rows.items()
            if one.created < before
            and pk != shot.head_id
            and one.parent_id is not None
            and one.number not in used
            and not one.is_kept_for_itself
            and (following[pk] == 1 or one.folded and not following[pk])
        }
        for pk, one in rows.items():
            parent = one.parent_id
            while parent in gone:
                parent = rows[parent].parent_id
            if pk not in gone and parent != one.parent_id:
                Revision.objects.filter(pk=pk).update(parent=parent)
        # Each one's parent may be gone too: the reference is let go first.
        Revision.objects.filter(pk__in=gone).update(parent=None)
        Revision.objects.filter(pk__in=gone).delete()
    return len(gone)


def _digests_of_revisions() -> set[str]:
    return {
        digest
        for parts in Revision.objects.values_list("parts", flat=True).iterator(chunk_size=500)
        for digest in parts.values()
    }


def forget_parts() -> int:
    """Remove parts from their table that no revision has any more; how many went."""
    with transaction.atomic():
        stored = set(StatePart.objects.values_list("digest", flat=True))
        lost = list(stored - _digests_of_revisions())
        for start in range(0, len(lost), 500):
            StatePart.objects.filter(digest__in=lost[start : start + 500]).delete()
    return len(lost)


def blobs_in_use() -> Iterable[str]:
    """The blobs that revisions refer to, refused ones too: large parts, and what parts refer to."""
    inline = set()
    for part in StatePart.objects.iterator(chunk_size=500):
        inline.add(part.digest)
        if '"blob"' in part.text:
            yield from referred(json.loads(part.text))
    for digest in _digests_of_revisions() - inline:
        yield digest
        if store.exists(digest):
            yield from referred(json.loads(store.get(digest)))
