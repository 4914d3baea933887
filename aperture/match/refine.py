"""Refine a drawn mark to the picture's gradient, at sub-pixel accuracy, with a σ from what blur,
noise and texture left of it.

`edge_lines` finds the edge beside a line, `corners` the corner or round mark near a point.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array, ArrayLike
from aperture.errors import Problem
from aperture.match.corners import LEAST_SIGMA_PX, find_corner
from aperture.match.edge_lines import bow, find_line
from aperture.match.sampling import Sampler


@dataclass(frozen=True)
class Refined:
    """points: (N, 2) px; `moved`: by how far, px, at most; `bent`: by how far the edge bows from
    its chord, px, 0 where it is straight within its ±."""

    points: Array
    sigma_px: float
    moved: float
    bent: float = 0.0


def refine_edge(
    pixels: Array, points: ArrayLike, transfer: str = "srgb", lossy: bool = False
) -> Refined:
    """Refine the line through drawn points (N, 2) px.

    As a whole where it has two points, at each of its points where it has more. `transfer`: the
    picture's curve, a key of `colour.TRANSFERS`; light blurs before it is encoded, so an edge has
    its place in linear light. `lossy`: a movie's codec left things out of the picture, whose errors
    run further along an edge than a photograph's. Raises Problem, with a sentence, where the
    picture has no edge there.
    """
    sampler, points = Sampler(pixels, transfer), np.asarray(points, float)
    if len(points) == 2:
        return _whole_line(sampler, points, lossy)
    gaps = np.linalg.norm(np.diff(points, axis=0), axis=1)
    out, variances = points.copy(), []
    for index in range(len(points)):
        before, after = points[max(index - 1, 0)], points[min(index + 1, len(points) - 1)]
        direction = (after - before) / max(np.linalg.norm(after - before), 1e-12)
        reach = float(
            np.clip(0.4 * min(gaps[max(index - 1, 0)], gaps[min(index, len(gaps) - 1)]), 6, 40)
        )
        first = reach / 2
        if index in (0, len(points) - 1):  # the ends look inward only
            first = reach if index else 0
        ends = (
            points[index]
            + np.array([-first, reach - first if index else reach])[:, None] * direction
        )
        try:
            line = find_line(sampler, ends, lossy)
        except Problem:
            continue
        place = first / reach
        out[index] = points[index] + line.normal * (
            line.offset[0] + place * (line.offset[1] - line.offset[0])
        )
        variances.append(line.variance(place))
    if len(variances) < max(2, 0.6 * len(points)):
        raise Problem(
            f"Only {len(variances)} of {len(points)} points lie on an edge of the picture. Draw it"
            " closer, or leave it as it is."
        )
    return Refined(
        out,
        max(LEAST_SIGMA_PX, float(np.sqrt(np.median(variances)))),
        float(np.linalg.norm(out - points, axis=1).max()),
    )


def _whole_line(sampler: Sampler, ends: Array, lossy: bool) -> Refined:
    line = find_line(sampler, ends, lossy)
    along = line.ends + line.offset[:, None] * line.normal
    line = find_line(sampler, along, lossy)  # along itself the profiles are sharper
    if line.turns and sampler.transfer != "linear":
        # Where the step turns its sign, the wrong curve shows: it shifts the step both ways.
        other = find_line(Sampler(sampler.pixels, "linear"), along, lossy)
        line = min(line, other, key=lambda found: found.scatter)
    found = line.ends + line.offset[:, None] * line.normal
    moved = float(np.abs((found - ends) @ line.normal).max())
    at = np.linspace(0, 1, 5) if line.sag else np.array([0.0, 1.0])
    points = found[0] + at[:, None] * (found[1] - found[0])
    points = points + (np.asarray(bow(at)) * line.sag)[:, None] * line.normal
    sigma = math.sqrt(np.mean([line.variance(place) for place in at]))
    return Refined(points, max(LEAST_SIGMA_PX, sigma), moved, abs(line.sag))


def refine_spot(pixels: Array, point: ArrayLike, transfer: str = "srgb") -> Refined:
    """Refine a drawn point (2,) px to the corner or round mark nearest to it.

    `transfer` as in `refine_edge`. Raises Problem where there is neither.
    """
    found = find_corner(Sampler(pixels, transfer), point)
    moved = float(np.linalg.norm(found.at - np.asarray(point, float)))
    return Refined(found.at[None], found.sigma_px, moved)
