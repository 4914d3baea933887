"""Which shots a plate's or film's pictures belong to: they are addressed by their digest, which
says nothing of a show."""

import json

from web.people.models import PictureOf
from web.shows.models import Revision, StatePart

PARTS = ("plate", "film")


def remember(sender, instance: Revision, created: bool, **_) -> None:
    """Note the pictures of a new revision, where they are others than those of the one before."""
    if not created:
        return
    before = instance.parent.parts if instance.parent else {}
    fresh = [
        instance.parts[part]
        for part in PARTS
        if part in instance.parts and instance.parts[part] != before.get(part)
    ]
    if fresh:
        note(instance.shot_id, fresh)


def note(shot: int, parts: list[str]) -> None:
    """Note the pictures that parts of a state, by digest, tell of."""
    rows = [
        PictureOf(digest=told["digest"], shot_id=shot)
        for text in StatePart.texts(set(parts)).values()
        if (told := json.loads(text)) and "digest" in told
    ]
    PictureOf.objects.bulk_create(rows, ignore_conflicts=True)
