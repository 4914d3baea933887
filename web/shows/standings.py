"""How far each step of a shot is, stored by what it depends on: boards and the front page compute
nothing twice.

A standing follows from the digests of the state's parts, a few fields of shot and show, and what a
step says that it depends on besides (its renders). While these stay, what was computed stays, also
that it couldn't be computed.
"""

import hashlib
import json
import logging
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from django.db import DatabaseError, transaction
from django.db.models import QuerySet

from web.shows.alone import alone
from web.ui.prepared import Prepared

logger = logging.getLogger(__name__)

# Raised where a release says standings in other words, or judges them otherwise.
VERSION = 2


@dataclass(frozen=True)
class Standing:
    """How far a step is: `state` is a key of `steps.STATES`, `says` a few words."""

    state: str
    says: str


FAILED = Standing("needs", "can't be computed")


def _stored_of(shot: int) -> QuerySet:
    from web.shows.models import StoredStanding

    return StoredStanding.objects.filter(shot=shot)


_stored = Prepared(_stored_of)


def of(shots: Sequence, steps: Mapping, patient: bool = True) -> list[dict[str, Standing]]:
    """For each shot the standing of each of `steps` (by key), stored or computed now.

    Where one isn't `patient`, as for the lists of many shots: what is being computed for somebody
    else just now is told as it was before.
    """
    from web.shows.models import StoredStanding

    keys = _keys(shots, steps)
    if len(shots) == 1:
        stored = {one.pk: one for one in _stored(shots[0].pk)}
    else:
        stored = StoredStanding.objects.in_bulk([shot.pk for shot in shots])
    out = []
    for shot, key in zip(shots, keys):
        known = stored.get(shot.pk)
        if known is None or known.key != key:
            with alone("standing", str(shot.pk), patient or known is None) as mine:
                if mine or known is None:
                    known = _renewed(shot, key, steps)
        out.append({name: Standing(*row) for name, row in known.steps.items()})
    return out


def _renewed(shot, key: str, steps: Mapping):
    """What somebody else has just stored, or computed and stored now."""
    from web.shows.models import StoredStanding

    known = StoredStanding.objects.filter(shot=shot, key=key).first()
    if known is None:
        found = {name: _standing(shot, name, step.standing) for name, step in steps.items()}
        rows = {name: [one.state, one.says] for name, one in found.items()}
        known = StoredStanding(shot_id=shot.pk, key=key, steps=rows)
        _keep(known)
    return known


def _keys(shots: Sequence, steps: Mapping) -> list[str]:
    ids = [shot.pk for shot in shots]
    outside = [step.outside(ids) for step in steps.values() if step.outside]
    out = []
    for shot in shots:
        show = shot.show
        depends = [
            VERSION,
            sorted(steps),
            shot.head.version,
            shot.head.parts,
            shot.locked,
            [show.up_axis, show.length_unit, show.rate_numerator, show.rate_denominator],
            [found.get(shot.pk, "") for found in outside],
        ]
        text = json.dumps(depends, sort_keys=True)
        out.append(hashlib.sha256(text.encode()).hexdigest())
    return out


def _standing(shot, key: str, standing: Callable) -> Standing:
    """One that can't be computed is said so, and takes no other page down."""
    try:
        return standing(shot)
    except Exception:  # whatever it is, the rest of the board and Undo have to work
        logger.exception("The standing of %s, step %s, can't be computed", shot, key)
        return FAILED


def _keep(known) -> None:
    try:
        with transaction.atomic():
            type(known).objects.bulk_create(
                [known],
                update_conflicts=True,
                update_fields=["key", "steps"],
                unique_fields=["shot"],
            )
    except DatabaseError:  # a full disk, say: then it is computed again next time
        logger.exception("The standing of shot %s can't be stored", known.shot_id)
