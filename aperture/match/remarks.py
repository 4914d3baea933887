"""Sentences about a fit as a whole: what its numbers rest on, and what would make them better."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.arrays import Array
from aperture.lens.distortion import NAMES as COEFFICIENTS
from aperture.match.evidence import Evidence, Spot
from aperture.match.least_squares import Optimum, minimise
from aperture.match.system import System

if TYPE_CHECKING:
    from aperture.geometry.grid import Grid
    from aperture.lens.lens import Lens

# A camera that looks up or down more steeply than this has no pan of its own, radians.
STEEP = np.radians(89.0)
# What freeing a coefficient has to explain before it is suggested: of the sum of squares, σ² and
# a share.
LEAST_GAIN = 25.0
LEAST_GAIN_SHARE = 0.3
# Two drawn points are the same where they differ by less than this, px; two facts by less, metres.
SAME = 1e-6


@dataclass(frozen=True)
class Suggestion:
    """A coefficient of distortion worth freeing, and what that would bring."""

    coefficient: str
    says: str
    rms_px: float


def about(system: System, optimum: Optimum, cut_short: bool) -> list[str]:
    """The remarks on a fit, the most important first."""
    out = []
    if cut_short:
        out.append(
            "This evidence is too large or too contradictory to be searched through: this is the "
            "best camera found so far. Turn off what may be wrong."
        )
    elif not optimum.converged:
        out.append(
            "The fit didn't settle: the numbers may change with the next edit. Check the marks "
            "with the largest residuals."
        )
    if optimum.widening > 1:
        times = np.sqrt(optimum.widening)
        out.append(
            f"The marks and facts lie {times:.1f} times as far from the fit as their ± say; every "
            f"± of this fit is widened by as much."
        )
    out += _duplicates(system.evidence)
    tilt = np.arctan2(-optimum.state.rotation[1, 2], np.linalg.norm(optimum.state.rotation[::2, 2]))
    if abs(tilt) > STEEP:
        way = "up" if tilt > 0 else "down"
        out.append(
            f"The camera looks straight {way}: pan and roll turn about the same axis, so each "
            f"alone is not determined."
        )
    folded = folds_back(system, optimum)
    if folded:
        out.append(folded)
    return out


def folds_back(system: System, optimum: Optimum) -> str:
    """A sentence where the lens's model has no answer in a part of the picture; else empty."""
    lens, grid = optimum.state.lens, system.grid
    share = unseen_share(lens, grid)
    if not share:
        return ""
    return (
        f"The lens's distortion folds back inside the picture: for {share:.0%} of it the model has "
        f"no answer. Free fewer coefficients, or mark bows near the picture's border."
    )


def unseen_share(lens: Lens, grid: Grid) -> float:
    """The share of the picture for which a lens's model has no answer, 0 to 1."""
    if not lens.distorts:
        return 0.0
    across, down = np.meshgrid(np.linspace(0, 1, 25), np.linspace(0, 1, 25))
    pixels = np.stack([across.ravel() * grid.width, down.ravel() * grid.height], -1)
    return float(np.mean(~np.isfinite(lens.rays(grid.to_mm(pixels))).all(axis=1)))


def _duplicates(evidence: Evidence) -> list[str]:
    """Marks and facts that are there twice, and so count as two measurements."""
    out: list[str] = []
    seen: dict[Any, str] = {}
    items: tuple[Any, ...] = (*evidence.edges, *evidence.bows, *evidence.spots, *evidence.facts)
    for item in items:
        key = _content(item)
        if key is None:
            continue
        if key in seen:
            out.append(
                f"“{seen[key]}” and “{item.name}” are the same. Together they count as two "
                f"measurements, which makes the ± too small: remove one."
            )
        else:
            seen[key] = item.name
    return out


def _content(item: Any) -> tuple[Any, ...] | None:
    """What makes two pieces of evidence the same; None where that can't be."""
    if hasattr(item, "points"):
        return ("line", item.axis, *_rounded(item.points))
    if isinstance(item, Spot):
        known = np.isfinite(item.world).any()
        world = np.nan_to_num(item.world, nan=1e9)
        return ("spot", *_rounded(item.at), *_rounded(world)) if known else None
    if item.of_lens:
        return None
    values = {key: value for key, value in vars(item).items() if key not in ("id", "name")}
    return (type(item).__name__, *(values[key] for key in sorted(values)))


def _rounded(values: Array) -> tuple[Any, ...]:
    return tuple(np.round(np.ravel(values) / SAME).astype(int).tolist())


def suggest_distortion(system: System, optimum: Optimum) -> Suggestion | None:
    """The first coefficient to free, where the marks miss in a way that it explains.

    Tested by the drop of the weighted sum of squares, first to first order from the derivative at
    the optimum (a score test), then by a fit.
    """
    evidence = system.evidence
    if not evidence.projection.straight or optimum.widening == 1:
        return None
    free = evidence.free_coefficients
    candidate = next((index for index in (0, 1) if index not in free), None)
    if candidate is None:
        return None
    freer = System(replace(evidence, free_coefficients=tuple(sorted({*free, candidate}))))
    if freer.size >= freer.row_count:
        return None
    found = minimise(freer, optimum.state)
    if found is None or not found.converged:
        return None
    gain = optimum.chi2 - found.chi2
    row = np.eye(freer.size)[freer.at["lens"]][freer.free_lens.index(3 + candidate)]
    if gain < LEAST_GAIN or gain < LEAST_GAIN_SHARE * optimum.chi2:
        return None
    if not found.spread.determined(row):
        return None
    name = COEFFICIENTS[candidate]
    before, after = rms_px(system, optimum.r), rms_px(freer, found.r)
    value = found.state.lens.coefficients[candidate]
    spread = float(np.sqrt(found.widening) * found.spread.plus_minus(row)[0])
    unit = "mm" if evidence.gate_mm else "px"
    says = (
        f"Many marks miss in the same way, as a lens that bends makes them: with {name} free "
        f"({value:.3g} ± {spread:.2g}) the residuals fall from {before:.1f} to {after:.1f} px rms"
    )
    if 0 in system.free_lens:
        says += f", and the focal length would be {found.state.lens.focal_mm:.2f} {unit}"
    return Suggestion(name, says + ".", after)


def rms_px(system: System, r: Array) -> float:
    """Root mean square distance of the marks from the fit, px, from weighted residuals r (M,)."""
    square, count = 0.0, 0
    for block in system.blocks:
        if block.is_fact:
            continue
        is_spot = isinstance(block.item, Spot)
        rows = block.rows[:2] if is_spot else block.rows
        square += float(np.sum(r[rows] ** 2)) * block.item.sigma_px**2
        count += 1 if is_spot else len(rows)
    return float(np.sqrt(square / max(count, 1)))
