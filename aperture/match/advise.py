"""What to measure next: for each fact one could still get, by how much it would shrink the ± of a
chosen quantity.

A candidate is a document with one more mark or fact, its value as the fit has it, so that nothing
else changes; its normal matrix gives the new ±. What is offered: lengths between spots, the
camera's height and place, the lens, a level camera, one more edge in each direction.
"""

from __future__ import annotations

import copy
import itertools
import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.camera import Camera
from aperture.errors import Problem
from aperture.geometry.rotation import angles_from_rotation
from aperture.match.document import read
from aperture.match.facts import AXES
from aperture.match.least_squares import Spread, spread_of
from aperture.match.solve import find
from aperture.match.system import State, System

QUANTITIES = {
    "focal": "focal length",
    "position": "position",
    "height": "height above floor",
    "direction": "direction",
    "size": "size of things",
}
# How well each is usually measured: common practice, no source.
TAPE_M, HEIGHT_M, PLACE_M, LENS_SHARE, LEVEL_DEG, EDGE_PX = 0.005, 0.01, 0.05, 0.01, 0.3, 0.5
MOST_LENGTHS = 24


@dataclass(frozen=True)
class Advice:
    """`before`, `after`: the quantity's ± (metres, radians; of the focal length and of the size a
    share), inf where it is open.

    `fact` or `mark`: what to add, with the value that the fit has.
    """

    says: str
    before: float
    after: float
    fact: dict[str, Any] | None = None
    mark: dict[str, Any] | None = None
    plus_minus: str = ""

    @property
    def share(self) -> float:
        """How much of the ± goes away, 0 to 1."""
        if not math.isfinite(self.before):
            return 1.0 if math.isfinite(self.after) else 0.0
        return 1 - self.after / self.before if self.before > 0 else 0.0


def advise(
    document: dict[str, Any], quantity: str, warm: dict[str, Any] | None = None
) -> list[Advice]:
    """Candidates for a match document, best first. `warm`: its fit, where it is at hand.

    Raises Problem where there is no fit to start from, or no such quantity.
    """
    if quantity not in QUANTITIES:
        raise Problem(f"“{quantity}” is not one of {', '.join(QUANTITIES)}.")
    system, optimum = find(document, warm, own=True)
    before = _spread(system, optimum.state, optimum.wide_spread, quantity)
    out = []
    for says, plus_minus, addition, part in _candidates(document, system, optimum.state):
        more = copy.copy(document) | {part: [*document.get(part, ()), addition]}
        try:
            evidence = read(more, checked=True).without(system.evidence.mistrusted)
            grown = System(evidence)
        except Problem:
            continue
        state = grown.state_like(system, optimum.state)
        _, jacobian = grown.evaluate(state)
        if not np.isfinite(jacobian).all():
            continue
        after = _spread(grown, state, spread_of(jacobian), quantity) * math.sqrt(optimum.widening)
        out.append(
            Advice(says, before, after, **{part.removesuffix("s"): addition}, plus_minus=plus_minus)
        )
    return sorted(
        (one for one in out if one.share > 0.005),
        key=lambda one: (not math.isfinite(one.after), -one.share),
    )


def spread_of_quantity(
    document: dict[str, Any], quantity: str, warm: dict[str, Any] | None = None
) -> float:
    """The ± that a quantity has now, as in Advice; inf where it is not determined."""
    system, optimum = find(document, warm, own=True)
    return _spread(system, optimum.state, optimum.wide_spread, quantity)


def _spread(system: System, state: State, spread: Spread, quantity: str) -> float:
    identity = np.eye(system.size)
    if quantity == "focal":
        rows = (
            identity[system.at["lens"]][:1] if 0 in system.free_lens else np.zeros((1, system.size))
        )
    elif quantity == "direction":
        rows = identity[system.at["rotation"]]
    elif not system.has_position:
        return math.inf
    elif quantity == "height":
        rows = identity[system.at["position"]][1:2]
    elif quantity == "position":
        rows = identity[system.at["position"]]
    else:  # the distance from the camera to the first placed spot, as a share of itself
        if not system.placed:
            return math.inf
        away = state.position - system.points(state)[system.placed[0]]
        rows = system.distance_row(state)[None] / (away @ away)
    if not all(spread.determined(row) for row in rows if row.any()):
        return math.inf
    return float(np.sqrt((spread.plus_minus(rows) ** 2).sum()))


def _candidates(
    document: dict[str, Any], system: System, state: State
) -> Iterator[tuple[str, str, dict[str, Any], str]]:
    """(words, usual ±, mark or fact, "marks" or "facts") of what could be measured."""
    taken = {item["id"] for part in ("marks", "facts") for item in document.get(part, ())}
    fresh = next(f"new{n}" for n in itertools.count() if f"new{n}" not in taken)
    yield from _lengths(system, state, fresh)
    if system.has_position:
        yield from _places(system, state, fresh)
    if 0 in system.free_lens and system.evidence.focal is None:
        view = Camera(system.grid, state.lens, np.eye(4)).view
        fact = {
            "id": fresh,
            "kind": "angle_of_view",
            "basis": "horizontal",
            "degrees": math.degrees(view.horizontal),
            "plus_minus": math.degrees(LENS_SHARE * math.sin(view.horizontal)),
        }
        what = "the lens's focal length, from its ring or the camera report"
        yield what, "1 %", fact, "facts"
    _, tilt, roll = angles_from_rotation(state.rotation)
    for name, angle in (("tilt", tilt), ("roll", roll)):
        fact = {
            "id": fresh,
            "kind": "camera_angle",
            "of": name,
            "degrees": math.degrees(angle),
            "plus_minus": LEVEL_DEG,
        }
        yield f"the camera's {name}, by a level on it", f"{LEVEL_DEG}°", fact, "facts"
    yield from _edges(system, state, fresh)


def _lengths(
    system: System, state: State, fresh: str
) -> Iterator[tuple[str, str, dict[str, Any], str]]:
    """Distances between spots that aren't measured yet, the longest first."""
    points, names, spots = system.points(state), system.evidence.names, system.spots
    measured = {frozenset((length.start, length.end)) for length in system.evidence.lengths}
    pairs = []
    for a, b in itertools.combinations(range(len(spots)), 2):
        both_known = (system.variable[[a, b]] < 0).all()
        if not both_known and frozenset((spots[a].id, spots[b].id)) not in measured:
            pairs.append((float(np.linalg.norm(points[a] - points[b])), a, b))
    pairs.sort(key=lambda pair: -pair[0])
    for apart, a, b in pairs[:MOST_LENGTHS]:
        if apart > 1e-9:
            fact = {
                "id": fresh,
                "kind": "length",
                "from": spots[a].id,
                "to": spots[b].id,
                "metres": apart,
                "plus_minus": TAPE_M,
            }
            what = f"the distance from “{names[spots[a].id]}” to “{names[spots[b].id]}”"
            yield what, "5 mm", fact, "facts"


def _places(
    system: System, state: State, fresh: str
) -> Iterator[tuple[str, str, dict[str, Any], str]]:
    """The camera's height and its place along the two level axes, where they aren't measured
    yet."""
    known = {fact.axis for fact in system.evidence.coordinates}
    fact: dict[str, Any]
    if 1 not in known:
        height = float(state.position[1])
        fact = {"id": fresh, "kind": "camera_height", "metres": height, "plus_minus": HEIGHT_M}
        yield "the camera's height above the floor", "1 cm", fact, "facts"
    for axis in {0, 2} - known:
        place: list[float | None] = [None, None, None]
        place[axis] = float(state.position[axis])
        fact = {"id": fresh, "kind": "camera_position", "metres": place, "plus_minus": PLACE_M}
        yield f"the camera's place {AXES[axis]} from the origin", "5 cm", fact, "facts"


def _edges(
    system: System, state: State, fresh: str
) -> Iterator[tuple[str, str, dict[str, Any], str]]:
    """One more edge of each axis, at the place of a coarse raster where it would be worth drawing:
    long, through that place."""
    width, height = system.evidence.width, system.evidence.height
    for axis in range(3):
        direction = state.rotation.T @ np.eye(3)[axis]
        for where, (u, v) in (
            ("left", (0.15, 0.5)),
            ("right", (0.85, 0.5)),
            ("top", (0.5, 0.15)),
            ("bottom", (0.5, 0.85)),
        ):
            ray = state.lens.rays(system.grid.to_mm([[u * width, v * height]]))[0]
            if not np.isfinite(ray).all():
                continue
            ray /= np.linalg.norm(ray)
            at = system.grid.to_px(
                state.lens.project(ray + np.linspace(-0.35, 0.35, 15)[:, None] * direction)
            )
            inside = (
                np.isfinite(at).all(axis=1)
                & (at > 0).all(axis=1)
                & (at < (width, height)).all(axis=1)
            )
            if inside.sum() < 4:
                continue
            ends = at[inside][[0, -1]]
            if np.linalg.norm(ends[1] - ends[0]) > 0.1 * width:
                yield (
                    f"one more edge {AXES[axis]}, at the {where} of the picture",
                    f"{EDGE_PX} px",
                    {
                        "id": fresh,
                        "kind": "edge",
                        "axis": AXES[axis],
                        "points": ends.tolist(),
                        "sigma_px": EDGE_PX,
                    },
                    "marks",
                )
