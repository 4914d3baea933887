"""What the artist reads about evidence that contradicts other evidence."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from aperture.match.diagnose import Leaving
from aperture.match.evidence import Evidence, Spot
from aperture.match.least_squares import Optimum, minimise
from aperture.match.system import Block, System

# By how much the ± of a piece of evidence is widened to see what the rest says of it.
LIGHTER = 1e4
# Of so many members of a group, what each alone would imply is told.
TOLD = 3
# From so many heights on, they are told as one question.
SEVERAL = 3
# A focal length that changes by less than this share isn't worth a word.
LEAST_FOCAL_CHANGE = 0.001


def describe(
    system: System, optimum: Optimum, members: list[Leaving], sigmas: float, explain: bool
) -> dict[str, Any]:
    """One conflict of the fit's document: who disagrees, by how much, in a sentence.

    `explain` False leaves out what the rest of the evidence says, which costs a fit each.
    """
    members = sorted(members, key=lambda item: not item.block.is_fact)  # facts can be looked up
    facts = [item for item in members if item.block.is_fact]
    # Where facts contradict each other, the marks that they hang on would settle it as well, but
    # are hardly meant.
    named = facts if len(facts) > 1 else members
    told = [_rest_says(system, optimum, item.block) for item in named[:TOLD] if explain]
    names = [_called(item.block) for item in named]
    if len(names) > TOLD + 1:
        names = [*names[:TOLD], f"{len(names) - TOLD} others"]
    if len(named) == 1:
        opening = f"{names[0]} disagrees with the rest by {sigmas:.1f} σ"
        remedy = "Check it, leave it out or widen its ±"
    else:
        listed = f"{', '.join(names[:-1])} and {names[-1]}"
        opening = f"{listed} disagree with each other by {sigmas:.1f} σ"
        remedy = "Turn one off or widen its ±"
    if hang := len(members) - len(named):
        remedy += f", or check the {'mark' if hang == 1 else f'{hang} marks'} they hang on"
    opening = opening[0].upper() + opening[1:]
    reasons = "; ".join(filter(None, told))
    return {
        "of": [item.block.id for item in members],
        "sigmas": sigmas,
        "says": f"{opening}{': ' if reasons else ''}{reasons}. {remedy}.",
    }


def with_one_height(system: System, conflicts: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """The conflicts, those about the camera's height put together.

    Several heights are one question, which of them is right, and not as many answers.
    """
    heights = {fact.id: fact for fact in system.evidence.coordinates if fact.axis == 1}
    about = [conflict for conflict in conflicts if set(conflict["of"]) & set(heights)]
    if len(heights) < SEVERAL or not about:
        return conflicts
    told = ", ".join(
        f"{fact.metres:.3f} m ± {fact.plus_minus:.3f} (“{fact.name}”)"
        for fact in sorted(heights.values(), key=lambda fact: fact.metres)
    )
    others = [id_ for conflict in about for id_ in conflict["of"] if id_ not in heights]
    sigmas = max(conflict["sigmas"] for conflict in about)
    question = {
        "of": [*heights, *dict.fromkeys(others)],
        "sigmas": sigmas,
        "says": f"The camera's height is given {len(heights)} times, and not alike ({sigmas:.1f} "
        f"σ): {told}. Which is right? Leave the others out.",
    }
    return [question, *(conflict for conflict in conflicts if conflict not in about)]


def _called(block: Block) -> str:
    """A mark or fact in a sentence; what is given of the lens has no name of the artist's own."""
    name = block.item.name
    return name if block.is_fact and block.item.of_lens else f"“{name}”"


def _rest_says(system: System, optimum: Optimum, block: Block) -> str:
    """What the other evidence says of one piece, from a fit in which it weighs next to nothing."""
    item = block.item
    lighter = minimise(System(_lightened(system.evidence, item)), optimum.state, most=40)
    if lighter is None or not lighter.converged:
        return ""
    state = lighter.state
    if block.is_fact:
        return item.says(item.value(system, state, system.points(state)))
    is_spot = isinstance(item, Spot)
    off = lighter.r[block.rows[:2] if is_spot else block.rows] * LIGHTER * item.sigma_px
    px = np.linalg.norm(off) if is_spot else np.abs(off).max()
    text = f"“{item.name}” lies {px:.1f} px from where the rest puts it"
    ratio = state.lens.focal_mm / optimum.state.lens.focal_mm
    if 0 in system.free_lens and 0.2 < ratio < 5 and abs(ratio - 1) > LEAST_FOCAL_CHANGE:
        unit = "mm" if system.evidence.gate_mm else "px"
        text += f", and without it the focal length is {state.lens.focal_mm:.2f} {unit}"
    return text


def _lightened(evidence: Evidence, item: Any) -> Evidence:
    weight = "sigma_px" if hasattr(item, "sigma_px") else "plus_minus"
    lighter = replace(item, **{weight: getattr(item, weight) * LIGHTER})
    kinds = ("edges", "bows", "spots", "facts")
    changed: dict[str, Any] = {
        kind: tuple(lighter if other is item else other for other in getattr(evidence, kind))
        for kind in kinds
    }
    # The given focal length is evidence only while it stands among the facts as it is.
    focal = lighter if evidence.focal is item else evidence.focal
    return replace(evidence, focal=focal, **changed)
