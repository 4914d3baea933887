"""The verbs that change the catalogue."""

import copy

from django.db import transaction

from aperture.errors import Problem
from aperture.formats.catalogue import FORMAT, check
from web.catalogue.models import KINDS, Entry

LISTS = {"body": "bodies", "lens": "lenses"}


def checked(kind: str, data: dict) -> dict:
    """One body's or lens's document, completed. Raises Problem where it can't be."""
    return check({"format": FORMAT, "version": 1, LISTS[kind]: [data]})[LISTS[kind]][0]


@transaction.atomic
def save(kind: str, data: dict, entry: Entry | None = None) -> Entry:
    """Add an entry, or change one. Raises Problem where its document is wrong, or the name is
    taken."""
    data = checked(kind, data)
    model = KINDS[kind]
    taken = (
        model.objects.offered()
        .filter(maker=data["maker"], name=data["name"])
        .exclude(pk=entry.pk if entry else None)
    )
    if taken.exists():
        raise Problem(
            f"The catalogue has a “{data['maker']} {data['name']}” already.".replace("“ ", "“")
        )
    entry = entry or model()
    entry.maker, entry.name, entry.data = data["maker"], data["name"], data
    entry.save()
    return entry


@transaction.atomic
def duplicate(kind: str, entry: Entry) -> Entry:
    """A copy with a name of its own."""
    data = copy.deepcopy(entry.data)
    taken = set(KINDS[kind].objects.values_list("name", flat=True))
    base = entry.name[:100]
    data["name"] = next(
        name
        for n in range(1, 10000)
        if (name := f"{base}, copy" + (f" {n}" if n > 1 else "")) not in taken
    )
    return save(kind, data)


@transaction.atomic
def set_removed(kind: str, entry: Entry, removed: bool) -> None:
    """Take an entry off the lists, or put it back. Raises Problem where its place has been taken
    meanwhile."""
    if (
        not removed
        and KINDS[kind]
        .objects.offered()
        .filter(maker=entry.maker, name=entry.name)
        .exclude(pk=entry.pk)
        .exists()
    ):
        raise Problem(
            f"There is another {entry} now: rename that one before putting this one back."
        )
    entry.removed = removed
    entry.save(update_fields=["removed", "changed"])


@transaction.atomic
def bring_in(document: dict) -> str:
    """Take a catalogue document in; the sentence says what happened. What has the name of an entry
    replaces it; the old one stays among the removed."""
    added = replaced = same = 0
    for kind, model in KINDS.items():
        for data in document[LISTS[kind]]:
            old = model.objects.offered().filter(maker=data["maker"], name=data["name"]).first()
            if old and old.data == data:
                same += 1
                continue
            if old:
                set_removed(kind, old, True)
                replaced += 1
            save(kind, data)
            added += not old
    return (
        f"{added} came in new, {replaced} replaced an entry of the same name (the old ones are kept"
        f" among the removed), {same} were there already."
    )
