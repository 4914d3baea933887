"""Refine a drawn mark to the picture's gradient, at sub-pixel accuracy, with a σ from what blur, noise and texture left of it.

Edges: profiles across the drawn line, in linear light, are averaged along it in blocks; the line through them along which the gradient is
strongest is found first, then each block's place by fitting a blurred step, then the line by reweighted least squares. Spots: the point
that all gradient lines pass through (a corner) or that all gradients point at (a round mark), after Förstner & Gülch (1987), "A fast
operator for detection and precise location of distinct points, corners and centres of circular features"; cited from memory.
"""

import math
from dataclasses import dataclass

import numpy as np

from aperture.errors import Problem
from aperture.match.edge_lines import SEARCH_PX, Sampler, bow, find_line, noise_of, smoothed

LEAST_SIGMA_PX = 0.02
SPOT_PX = 7


@dataclass(frozen=True)
class Refined:
    """points: (N, 2) px; `moved`: by how far, px, at most; `bent`: by how far the edge bows from its chord, px, 0 where it is straight within its ±."""

    points: np.ndarray
    sigma_px: float
    moved: float
    bent: float = 0.0


def refine_edge(pixels, points, transfer: str = "srgb") -> Refined:
    """Refine the line through drawn points (N, 2) px.

    As a whole where it has two points, at each of its points where it has more. `transfer`: the
    picture's curve, a key of `colour.TRANSFERS`; light blurs before it is encoded, so an edge has
    its place in linear light. Raises Problem, with a sentence, where the picture has no edge there.
    """
    sampler, points = Sampler(pixels, transfer), np.asarray(points, float)
    if len(points) == 2:
        return _whole_line(sampler, points)
    gaps = np.linalg.norm(np.diff(points, axis=0), axis=1)
    out, variances = points.copy(), []
    for index in range(len(points)):
        before, after = points[max(index - 1, 0)], points[min(index + 1, len(points) - 1)]
        direction = (after - before) / max(np.linalg.norm(after - before), 1e-12)
        reach = float(
            np.clip(0.4 * min(gaps[max(index - 1, 0)], gaps[min(index, len(gaps) - 1)]), 6, 40)
        )
        first = (
            reach if index == len(points) - 1 else 0 if index == 0 else reach / 2
        )  # the ends look inward only
        ends = (
            points[index]
            + np.array([-first, reach - first if index else reach])[:, None] * direction
        )
        try:
            line = find_line(sampler, ends)
        except Problem:
            continue
        place = first / reach
        out[index] = points[index] + line.normal * (
            line.offset[0] + place * (line.offset[1] - line.offset[0])
        )
        variances.append(line.variance(place))
    if len(variances) < max(2, 0.6 * len(points)):
        raise Problem(
            f"Only {len(variances)} of {len(points)} points lie on an edge of the picture. Draw it closer, or leave it as it is."
        )
    return Refined(
        out,
        max(LEAST_SIGMA_PX, float(np.sqrt(np.median(variances)))),
        float(np.linalg.norm(out - points, axis=1).max()),
    )


def _whole_line(sampler, ends):
    line = find_line(sampler, ends)
    along = line.ends + line.offset[:, None] * line.normal
    line = find_line(sampler, along)  # along itself the profiles are sharper
    if line.turns and sampler.transfer != "linear":
        # Where the step turns its sign, the wrong curve shows: it shifts the step both ways.
        other = find_line(Sampler(sampler.pixels, "linear"), along)
        line = min(line, other, key=lambda found: found.scatter)
    found = line.ends + line.offset[:, None] * line.normal
    moved = float(np.abs((found - ends) @ line.normal).max())
    at = np.linspace(0, 1, 5) if line.sag else np.array([0.0, 1.0])
    points = found[0] + at[:, None] * (found[1] - found[0])
    points = points + (bow(at) * line.sag)[:, None] * line.normal
    sigma = math.sqrt(np.mean([line.variance(place) for place in at]))
    return Refined(points, max(LEAST_SIGMA_PX, sigma), moved, abs(line.sag))


def refine_spot(pixels, point, transfer: str = "srgb") -> Refined:
    """Refine a drawn point (2,) px to the corner or round mark nearest to it.

    `transfer` as in `refine_edge`. Raises Problem where there is neither.
    """
    sampler, start = Sampler(pixels, transfer), np.asarray(point, float)
    grid = np.arange(-SPOT_PX, SPOT_PX + 1.0)
    at, kind = start.copy(), None
    for _ in range(12):
        patch = sampler.at(at + np.stack(np.meshgrid(grid, grid), -1))
        smooth = smoothed(smoothed(patch, 0.8).T, 0.8).T
        gy, gx = np.gradient(smooth)
        y, x = np.meshgrid(grid, grid, indexing="ij")
        weight = np.exp(-(x**2 + y**2) / (2 * (SPOT_PX / 2.2) ** 2))
        fits = {}
        for name, (a, b, c) in {
            "corner": (gx * gx, gx * gy, gy * gy),
            "round": (gy * gy, -gx * gy, gx * gx),
        }.items():
            normal = np.array(
                [[(weight * a).sum(), (weight * b).sum()], [(weight * b).sum(), (weight * c).sum()]]
            )
            right = np.array([(weight * (a * x + b * y)).sum(), (weight * (b * x + c * y)).sum()])
            values = np.linalg.eigvalsh(normal)
            if values[0] < 0.06 * values[1] or values[1] <= 0:
                continue
            shift = np.linalg.solve(normal, right)
            dx, dy = x - shift[0], y - shift[1]
            fits[name] = (
                float((weight * (a * dx * dx + 2 * b * dx * dy + c * dy * dy)).sum()),
                shift,
                normal,
            )
        if not fits:
            raise Problem(
                "There is no corner and no round mark here in the picture, only an edge or plain ground. Leave the spot as it is."
            )
        kind = kind if kind in fits else min(fits, key=lambda name: fits[name][0])
        left, shift, normal = fits[kind]
        at = at + np.clip(shift, -1.5, 1.5)
        if np.linalg.norm(at - start) > SEARCH_PX + 1:
            raise Problem(
                "The nearest corner is too far from this spot to be meant. Place it closer, or leave it as it is."
            )
        if np.linalg.norm(shift) < 0.003:
            break
    noise = noise_of(patch)
    strength = np.sqrt((weight * (gx**2 + gy**2)).sum() / weight.sum())
    if strength < 1.5 * noise / np.sqrt(10) or strength < 2e-4:
        raise Problem(
            "Nothing stands out from the noise here. Leave the spot as it is, or widen its ±."
        )
    freedom = max(weight.sum() - 2, 1)
    sigma = float(np.sqrt(left / freedom * np.linalg.eigvalsh(np.linalg.inv(normal))[-1] * 2))
    return Refined(
        at[None], float(np.clip(sigma, LEAST_SIGMA_PX, 2.0)), float(np.linalg.norm(at - start))
    )
