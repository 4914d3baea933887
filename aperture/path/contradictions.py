"""Facts that disagree with the tracks or with each other.

With a_i the derivatives of a fact over its ±, r_i its residual, and N the normal matrix, the share
of the fact in its own adjustment is h_i = a_iᵀ N⁻¹ a_i, and w_i = r_i / √(1 − h_i) is normally
distributed with variance 1 if all is well (Baarda 1968, "data snooping"). The largest beyond the
threshold is named; what the rest implies is its value less r_i / (1 − h_i). It is taken out, by a
change of low rank of all products a_iᵀ N⁻¹ a_j, and the next is looked for, as one wrong fact makes
others look wrong.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.arrays import Array
from aperture.match.statistics import threshold
from aperture.path.facts import Direction, Distance, FocalOn, LensValue, OnOnePlane
from aperture.path.given import OfMove
from aperture.path.problem import Equation, Row

if TYPE_CHECKING:
    from aperture.path.report import Told

# A fact with less redundancy than this checks nothing.
LEAST_REDUNDANCY = 1e-4
MOST_NAMED = 5


def find(told: Told) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    """Of each fact how far the solution is from it, and the ones that contradict the rest."""
    network = told.network
    aside, found = _set_aside(told)
    # An equation of several things, such as all lines of a frame, has rows of each.
    equations, rows = [], []
    for equation in network.facts.equations:
        if isinstance(equation, OnOnePlane | OfMove):
            continue
        for row in equation.rows(network.state):
            equations.append(equation)
            rows.append(row)
    if not rows:
        return aside, found
    r = np.array([row.residual for row in rows])
    products = told.solved.products(rows)
    ids = np.array([row.of or equation.id for equation, row in zip(equations, rows)])
    facts = aside | _told_of_each(equations, rows, r, products)
    conflicts: list[dict[str, Any]] = []
    gone = np.zeros(len(rows), bool)
    limit = threshold(len(rows))
    while len(conflicts) < MOST_NAMED:
        redundancy = 1 - np.diag(products)
        with np.errstate(all="ignore"):
            w = np.where((redundancy > LEAST_REDUNDANCY) & ~gone, r / np.sqrt(redundancy), 0.0)
        worst = int(np.argmax(np.abs(w)))
        if abs(w[worst]) <= limit:
            break
        conflicts.append(
            _named(told, str(ids[worst]), equations[worst], r[worst] / redundancy[worst], w[worst])
        )
        of_it = ids == ids[worst]
        # All of it: what is left would pull on.
        r, products = _taken_out(np.flatnonzero(of_it), r, products)
        gone |= of_it
    return facts, found + conflicts


def _set_aside(told: Told) -> tuple[dict[str, Any], list[dict[str, Any]]]:
    """The same of facts that aren't heeded: how far the solution is from each, which has none of it
    in it, the farthest first."""
    state, facts, out = told.network.state, {}, []
    of, rows = [], []
    for one in told.network.facts.aside:
        for row in one.equation.rows(state):
            of.append(one)
            rows.append(row)
    if not rows:
        return {}, []
    r, products = np.array([row.residual for row in rows]), told.solved.products(rows)
    w = r / np.sqrt(1 + np.diag(products))
    for number in np.argsort(-np.abs(w), kind="stable").tolist():
        equation, rivals = of[number].equation, of[number].rivals
        if equation.id in facts:
            continue  # another row of it is farther off
        own = _told_of_each([equation], [rows[number]], r[[number]], np.zeros((1, 1)))
        facts[equation.id] = own[equation.id] | {"sigmas": float(w[number])}
        out.append(_named(told, equation.id, equation, r[number], w[number], rivals))
    return facts, out


def _taken_out(own: Array, r: Array, products: Array) -> tuple[Array, Array]:
    """Residuals (R,) and products (R, R) as they would be without some of the equations (n,).

    What of these nothing else checks, such as where a line itself lies, moves nothing else: it is
    left as it is, where dividing by its redundancy would make large errors of rounding.
    """
    redundancy, ways = np.linalg.eigh(np.eye(len(own)) - products[np.ix_(own, own)])
    checked = redundancy > LEAST_REDUNDANCY
    inverse = (ways[:, checked] / redundancy[checked]) @ ways[:, checked].T
    step = products[:, own] @ inverse
    return r + step @ r[own], products + step @ products[own]


def _told_of_each(
    equations: list[Equation], rows: list[Row], r: Any, products: Any
) -> dict[str, Any]:
    """By the fact's id: its residual in its unit and in σ; of several equations the worst."""
    out: dict[str, Any] = {}
    for number, (equation, row) in enumerate(zip(equations, rows)):
        id_ = row.of or equation.id
        redundancy = 1 - products[number, number]
        checked = redundancy > LEAST_REDUNDANCY
        w = float(r[number] / math.sqrt(redundancy)) if checked else 0.0
        before = out.get(id_)
        if before is None or abs(w) > abs(before["sigmas"]):
            off = float(r[number] * (row.sigma or equation.sigma))
            if equation.unit == "rad":
                off = math.degrees(off)
            name = {"m": "metres", "rad": "degrees", "mm": "mm", "px": "px"}.get(
                equation.unit, "value"
            )
            out[id_] = {name: off, "sigmas": w, "redundancy": float(max(redundancy, 0.0))}
    return out


def of_readout(told: Told, per_frame: float, wider: float) -> list[dict[str, Any]]:
    """Whether the readout time that is known contradicts what the tracks say by themselves.

    per_frame: milliseconds of a frame; wider: by how much errors that hang together widen its ±.
    """
    readout, (known, sigma) = told.network.readout, told.evidence.readout
    if readout is None or not 0 < sigma < np.inf or readout.sigma >= sigma:
        return []
    # The solved one is the mean of both, each weighted with its ±: the tracks' is what is left.
    own = 1 / (1 / readout.sigma**2 - 1 / sigma**2)
    implied = own * (readout.frames / readout.sigma**2 - known / sigma**2)
    w = (implied - known) / math.sqrt(own * wider**2 + sigma**2)
    if abs(w) <= threshold(1):
        return []
    says = (
        f"The readout time disagrees with the tracks by {abs(w):.1f} σ: without it, it would be"
        f" {implied * per_frame:.2f} ms, not {known * per_frame:.2f}. Type another, widen its ±, or"
        " let it be solved."
    )
    return [{"of": ["lens.readout_ms"], "sigmas": abs(w), "says": says}]


def _called(told: Told, id_: str) -> str:
    """A fact's name; of the lens's values, which have none, what they are."""
    if id_ in told.evidence.names:
        return f"“{told.evidence.names[id_]}”"
    name, _, frame = id_.removeprefix("lens.").partition("@")
    if name in ("ln_focal", "focal_mm"):
        return f"The focal length on frame {frame}" if frame else "The focal length"
    if name in ("centre_x", "centre_y"):
        return "The lens’s centre"
    return f"The lens’s {name}" if id_.startswith("lens.") else f"“{id_}”"


def _implied(equation: Equation, without: float) -> str:
    """What a fact would be by all others."""
    off = without * equation.sigma
    if isinstance(equation, Distance) and equation.axis is None:
        implied = equation.metres + off
        return f"without it the distance would be {implied:.3f} m, not {equation.metres:.3f}"
    if isinstance(equation, Direction):
        turned = abs(math.degrees(off))
        return f"without it that line would run {turned:.2f}° off its axis"
    if isinstance(equation, FocalOn) or (isinstance(equation, LensValue) and not equation.index):
        known = equation.focal_mm if isinstance(equation, FocalOn) else math.exp(equation.value)
        return f"without it, it would be {known * math.exp(off):.2f} mm, not {known:.2f}"
    if hasattr(equation, "metres"):
        return f"without it, it would be {equation.metres + off:.3f} m, not {equation.metres:.3f}"
    if hasattr(equation, "radians"):
        known, implied = math.degrees(equation.radians), math.degrees(equation.radians + off)
        return f"without it, it would be {implied:.2f}°, not {known:.2f}°"
    return ""


def _named(
    told: Told,
    id_: str,
    equation: Equation,
    without: float,
    w: float,
    rivals: tuple[str, ...] | None = None,
) -> dict[str, Any]:
    """One contradiction, in words: what the rest says, and what can be done. rivals: of a fact that
    isn't heeded, those which may be the wrong ones in its place."""
    by = f"{abs(w):.1f}" if abs(w) < 100 else f"{abs(w):,.0f}"
    says = f"{_called(told, id_)} disagrees with the rest by {by} σ"
    if rivals is not None:
        says += ", too much to be used"
    if implied := _implied(equation, without):
        says += f": {implied}"
    if rivals:
        others = " or ".join(_called(told, rival) for rival in rivals)
        says += f". It may be right, and {others} wrong. Turn one off"
    else:
        says += ". Turn it off"
    says += ", widen its ±, or look at the tracks it is about."
    return {"of": [id_, *(rivals or ())], "sigmas": abs(float(w)), "says": says}
