"""One thing that is known and can't be right: a length in another unit, a sign, two axes exchanged.

Least squares share such an error out over everything: the camera goes far off, good marks are
named as well as the culprit or in its place, or no camera is found at all. So where a fit is that
bad, each fact and each known place is left out in turn (a focal length that is given isn't). If all
the rest agrees without one of them, that one is named, and nothing else. It supposes that there is
only one such error.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.camera import Camera
from aperture.match.document import label, read
from aperture.match.effort import limited
from aperture.match.facts import Length
from aperture.match.least_squares import Optimum
from aperture.match.system import System

Document = dict[str, Any]
# From such a disagreement on, in σ, it is no matter of a mark drawn badly.
GROSS_SIGMAS = 10.0
# So many things are left out at most, those that disagree most; each costs a fit. What all of it
# may cost, in nominal seconds.
MOST_TRIED, TRYING_SECONDS = 16, 6.0
# Where more than so many would each explain it, none is named.
MOST_RIVALS = 3
MUST_STAY = ("focal", "direction", "position", "scale")


@dataclass(frozen=True, eq=False)
class Solved:
    """A fit or refusal with what it was read from, where there is any."""

    fit: Document
    camera: Camera | None = None
    system: System | None = None
    optimum: Optimum | None = None


@dataclass(frozen=True)
class Trial:
    """A document without one thing that it knows, `id`; `says`: what it is, in a sentence."""

    id: str
    says: str
    document: Document


def named(document: Document, fit: Document, solved: Callable[[Document], Solved]) -> Document:
    """A fit that says what can't be right, where one thing spoils it; else the same fit.

    Parameters
    ----------
    document : dict
        The match document, which obeys its schema.
    fit : dict
        Its fit, or refusal.
    solved : callable
        Solves another document.
    """
    if not _is_bad(fit):
        return fit
    clean: list[tuple[Trial, Solved]] = []
    with limited(TRYING_SECONDS):
        for trial in _trials(document, fit):
            found = solved(trial.document)
            if _is_clean(found.fit, fit):
                clean.append((trial, found))
            if len(clean) > MOST_RIVALS:
                return fit
    if not clean:
        return fit
    ids = [trial.id for trial, _ in clean]
    conflicts = fit.get("conflicts", [])
    if len(conflicts) == 1 and set(ids) & set(conflicts[0]["of"]):
        return fit  # it is named alone already, with what the rest says
    called = [trial.says for trial, _ in clean]
    if len(clean) == 1:
        says = f"{called[0]} can't be right beside all the rest: {_implied(document, *clean[0])}"
    else:
        says = f"{', '.join(called[:-1])} or {called[-1]} can't be right: without one of them all"
        says += " the rest agrees"
    says = f"{says[0].upper()}{says[1:]}. Correct it, or switch it off"
    if not fit["ok"]:
        return fit | {"problem": f"{says}: no camera agrees with all of it.", "of": ids}
    sigmas = max(conflict["sigmas"] for conflict in conflicts)
    conflict = {"of": ids, "sigmas": sigmas, "says": f"{says}: the camera leans on it, too."}
    return fit | {"conflicts": [conflict]}


def _is_bad(fit: Document) -> bool:
    if not fit["ok"]:  # other refusals say what is wrong
        return "determined" in fit
    return any(one["sigmas"] >= GROSS_SIGMAS for one in fit["conflicts"])


def _is_clean(found: Document, fit: Document) -> bool:
    """Whether nothing disagrees any more, and nothing that was known has become open."""
    if not found["ok"] or found["conflicts"]:
        return False
    # Of a refusal nothing says what would be known: everything has to be.
    before = fit["determined"] if fit["ok"] else dict.fromkeys(MUST_STAY, "solved")
    return all(found["determined"][name] != "no" for name in MUST_STAY if before[name] != "no")


def _trials(document: Document, fit: Document) -> list[Trial]:
    worst = {id_: -one["sigmas"] for one in fit.get("conflicts", ()) for id_ in one["of"]}
    every = sorted(_every(document), key=lambda trial: worst.get(trial.id, 0.0))
    return every[:MOST_TRIED]


def _every(document: Document) -> Iterator[Trial]:
    for index, fact in enumerate(document.get("facts", ())):
        if not fact.get("off"):
            facts = [*document["facts"]]
            facts[index] = fact | {"off": True}
            yield Trial(fact["id"], f"“{label(fact)}”", document | {"facts": facts})
    for index, mark in enumerate(document.get("marks", ())):
        if "world" in mark and not mark.get("off"):
            known = ("world", "world_plus_minus")
            marks = [*document["marks"]]
            marks[index] = {key: value for key, value in mark.items() if key not in known}
            yield Trial(mark["id"], f"the place of “{label(mark)}”", document | {"marks": marks})


def _implied(document: Document, trial: Trial, found: Solved) -> str:
    """What all the rest says of the thing that was left out."""
    system, optimum, camera = found.system, found.optimum, found.camera
    assert system is not None and optimum is not None and camera is not None, "it was solved"
    facts = [fact for fact in read(document, checked=True).facts if fact.id == trial.id]
    if any(isinstance(fact, Length) and not _is_seen(fact, system) for fact in facts):
        return "without it all the rest agrees"  # but nothing else says where its end lies
    if facts:
        points = system.points(optimum.state)
        told = [fact.says(fact.value(system, optimum.state, points)) for fact in facts]
        return "; ".join(told)
    mark = next(one for one in document["marks"] if one["id"] == trial.id)
    if None in mark["world"]:
        return "the rest puts it elsewhere"
    px = float(np.linalg.norm(camera.project([mark["world"]])[0] - mark["at"]))
    if not np.isfinite(px):
        return "it would lie behind the camera"
    return f"it would be seen {px:.0f} px from the mark"


def _is_seen(fact: Length, system: System) -> bool:
    return {fact.start, fact.end} <= system.spot_index.keys()
