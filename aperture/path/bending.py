"""By how much facts bend a path: how it differs from the one that the tracks alone give, laid where the facts say it is."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from aperture.arrays import Array
from aperture.path.facts import AngleOfView, FocalOn, FocalRange, LensValue, PathFacts
from aperture.path.placement import Known, place
from aperture.path.problem import Equation

if TYPE_CHECKING:
    from aperture.path.solve import Given, Network

# Numbers that lay a path down without bending it: place, turn, size.
SIMILARITY = 7
OF_LENS = (AngleOfView, FocalOn, FocalRange, LensValue)


@dataclass(frozen=True)
class Bending:
    """metres: the farthest that facts move a camera, and on which frame (an index); px: of the tracks' residuals, with the facts and without."""

    metres: float
    camera: int
    with_px: float
    without_px: float


def bending(given: Given, network: Network, known: Array) -> Bending | None:
    """None where the facts only lay the path down, or say nothing of it.

    known (P, 3): coordinates that are exact, NaN where unknown.
    """
    facts = network.facts
    own = [equation for equation in facts.equations if not isinstance(equation, OF_LENS)]
    count = sum(len(equation.rows(network.state)) for equation in own) + np.isfinite(known).sum()
    if given.at_infinity or count <= SIMILARITY - network.placed.open_.shape[1]:
        return None
    of_lens: list[Equation] = [
        equation for equation in facts.equations if isinstance(equation, OF_LENS)
    ]
    loose = replace(network.placed, state=network.state, open_=np.eye(SIMILARITY))
    free = given.solve(
        loose,
        network.tracks,
        network.use,
        np.full_like(known, np.nan),
        PathFacts(of_lens),
        network.factors,
    )
    stood = place(free.state, facts, Known(known), given.evidence.lens, begun=True).state
    away = np.linalg.norm(stood.positions - network.state.positions, axis=1)
    camera = int(np.argmax(away))
    return Bending(float(away[camera]), camera, _px(network), _px(free))


def _px(network: Network) -> float:
    """The rms residual of the tracks, px."""
    return float(np.sqrt((network.bundle.off_px(network.state) ** 2).mean()))
