"""By how much facts bend a path, and the path that they only lay down.

Where facts say more than where a path is, how it is turned and how large it is, they bend it. The
alternative is the path that the tracks alone give, stood on its feet: the similarity that agrees
with the facts best, seven numbers and no more. It is the limit of a solution in which every ± of a
fact is k times as large: the tracks then decide all that they can tell, and the facts, among which
nothing changes, the rest. Its covariance is that of the shape, plus that of the seven numbers with
the ± that the facts do have. With C(k) = shape + k² · placing, the normal matrices of two k tell
the two apart.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from aperture.arrays import Array
from aperture.path.bundle import LEAST_GAIN, NEAR_DAMPING
from aperture.path.covariance import Solved
from aperture.path.facts import OF_LENS, Loosened, PathFacts, PointCoordinate
from aperture.path.placement import Known, place
from aperture.path.problem import Equation, State
from aperture.path.spread import Spread

if TYPE_CHECKING:
    from aperture.path.network import Given, Network

# Numbers that lay a path down without bending it: place, turn, size.
SIMILARITY = 7
# By how much facts are loosened, and the ± of a coordinate that counts as exact, metres.
LOOSE, EXACT_M = 100.0, 1e-4
# The least gain of a step (`bundle`) where only how far the facts bend the path is told.
ROUGHLY = 1e-2


@dataclass(frozen=True)
class Bending:
    """metres: the farthest that facts move a camera, and on which frame (an index); px: of the
    tracks' residuals, with the facts and without.

    stood: the path that isn't bent.
    """

    metres: float
    camera: int
    with_px: float
    without_px: float
    stood: State


def stood(given: Given, network: Network, known: Array) -> Network:
    """The path of `network.bending` that facts only lay down, solved with loose facts.

    known (P, 3): coordinates that are exact, NaN where unknown.
    """
    assert network.bending is not None
    exact: list[Equation] = [
        PointCoordinate("", EXACT_M, int(point), int(axis), float(known[point, axis]))
        for point, axis in np.argwhere(np.isfinite(known))
    ]
    equations, count = [*network.facts.equations, *exact], network.facts.extra_count
    # They only hold the path where it has been placed by them, and pull nowhere.
    facts = Loosened(equations, count, network.facts.aside, by=LOOSE, pulls=False)
    placed = replace(network.placed, state=network.bending.stood)
    none = np.full_like(known, np.nan)
    found = given.solve(
        placed, network.tracks, network.use, none, facts, network.factors, like=network
    )
    return replace(found, bending=network.bending, readout=network.readout, doubts=network.doubts)


def placing_spread(network: Network) -> Spread:
    """The ± of the seven numbers by which `stood` placed a path, with the facts' own ±."""
    bundle = network.bundle
    facts = bundle.facts
    assert isinstance(facts, Loosened)
    loose = Solved(bundle).spread()
    bundle.facts = replace(facts, by=2 * facts.by)
    looser = Solved(bundle).spread()
    bundle.facts = facts
    return looser.plus(loose.widened(-1.0)).widened(1 / (3 * facts.by**2))


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
        least_gain=LEAST_GAIN if given.evidence.stands else ROUGHLY,
        damping=NEAR_DAMPING,
        like=network,
    )
    laid = place(free.state, facts.own(), Known(known), given.evidence.lens, begun=True).state
    away = np.linalg.norm(laid.positions - network.state.positions, axis=1)
    camera = int(np.argmax(away))
    return Bending(float(away[camera]), camera, _px(network), _px(free), laid)


def _px(network: Network) -> float:
    """The rms residual of the tracks, px."""
    return float(np.sqrt((network.off_px**2).mean()))
