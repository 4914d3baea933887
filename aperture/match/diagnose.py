"""Why a match can't be fitted, and which piece of evidence disagrees with the rest.

The statistic for one piece of evidence is the drop of the weighted sum of squares when it is left
out (to first order), put as the σ of a normal distribution with the same probability; above 3 it is
a conflict (Baarda 1968, "A testing procedure for use in geodetic networks"; cited from memory).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.arrays import Array
from aperture.match.facts import AXES
from aperture.match.least_squares import Optimum, Spread
from aperture.match.statistics import as_sigmas, threshold
from aperture.match.system import Block, System

if TYPE_CHECKING:
    from aperture.lens.lens import Lens

# With more contradictions than this there is nothing left to agree with.
MOST_CONFLICTS = 24
# The median of the absolute value of a standard normal variable.
NORMAL_MEDIAN = 0.6745
# The scatter of the others is taken into account where there are so many of them, and it is larger
# by so much: a median of a few is large by chance.
LEAST_FOR_SCATTER = 8
LEAST_SCATTER = 1.4

# Which evidence disagrees
# ---------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Leaving:
    """What leaving one piece of evidence out would do.

    sigmas: how strongly it disagrees with the rest; residual: its weighted residuals (rows,)
    against a fit made without it.
    """

    block: Block
    drop: float
    sigmas: float
    residual: Array
    inverse: Array  # (rows, rows): (I − H)⁺
    freedom: int

    def step(self, optimum: Optimum, spread: Spread) -> Array:
        """(size,) by how much the parameters would change without it, to first order."""
        return spread.covariance @ (optimum.jacobian[self.block.rows].T @ self.residual)

    @property
    def redundancy(self) -> float:
        """Of its own information, the share that the rest repeats, 0 to 1: how much of an error in
        it can show. Baarda's redundancy number."""
        if not self.freedom:
            return 0.0
        if len(self.inverse) > 2:
            return float(1 / np.linalg.eigvalsh(self.inverse).max())
        first, last = (
            float(self.inverse[0, 0]),
            float(self.inverse[-1, -1]),
        )  # of one or two rows: the larger eigenvalue on paper
        across = float(self.inverse[0, -1]) if len(self.inverse) == 2 else 0.0
        return 1 / ((first + last) / 2 + math.hypot((first - last) / 2, across))


def leave_out(system: System, optimum: Optimum, spread: Spread) -> list[Leaving]:
    """One Leaving for every mark and fact, in the order of `system.blocks`."""
    found = _drops(system.blocks, optimum.r, optimum.jacobian, spread.covariance)
    return [
        Leaving(block, drop, as_sigmas(drop, freedom), residual, inverse, freedom)
        for block, (drop, freedom, residual, inverse) in zip(system.blocks, found)
    ]


def leverages(
    system: System, optimum: Optimum, leavings: list[Leaving], spread: Spread
) -> list[float]:
    """For each, how much the camera leans on it, 0 to 1.

    Of all quantities of the camera (direction, position, lens, and what is made of them), the one
    that leans on it most: the share of what is known of that quantity, as one over its variance,
    that would be lost with it. 1: without it something would be open.
    """
    camera = np.r_[system.at["rotation"], system.at["position"], system.at["lens"]]
    used = optimum.jacobian != 0
    everywhere = used.sum(axis=0)
    values, vectors = np.linalg.eigh(spread.covariance[np.ix_(camera, camera)])
    known = values > 1e-14 * values.max(initial=1e-300)
    # In these coordinates what is known of the camera is the same in all directions; the columns
    # are what each row tells of it.
    tells = (vectors[:, known] / np.sqrt(values[known])).T @ (
        spread.covariance[camera] @ optimum.jacobian.T
    )
    losses = np.zeros((len(leavings), known.sum(), known.sum()))
    whole = np.zeros(len(leavings), bool)
    for index, leaving in enumerate(leavings):
        rows = leaving.block.rows
        # Unknowns that only this piece speaks of (an edge's own angle) go with it and are no loss.
        own = int(((used[rows].sum(axis=0) == everywhere) & (everywhere > 0)).sum())
        whole[index] = len(rows) - leaving.freedom > own
        losses[index] = tells[:, rows] @ leaving.inverse @ tells[:, rows].T
    most = (
        np.linalg.eigvalsh(losses)[:, -1].clip(0)
        if known.any() and len(leavings)
        else np.zeros(len(leavings))
    )
    return np.where(whole, 1.0, most / (1 + most)).tolist()


def _drops(
    blocks: list[Block], r: Array, jacobian: Array, covariance: Array
) -> list[tuple[Any, ...]]:
    """For each block: drop of the sum of squares, degrees of freedom, (I − H)⁺ r, and (I − H)⁺, H
    being its share of the hat matrix."""
    out: list[Any] = [None] * len(blocks)
    heights = np.array([len(block.rows) for block in blocks], int)
    reach = (
        jacobian @ covariance if len(blocks) > 3 else None
    )  # one large product instead of many small ones
    for height in np.unique(heights):  # blocks of one size together: one call instead of dozens
        which = np.flatnonzero(heights == height)
        rows = np.array([blocks[index].rows for index in which])
        own, jac = r[rows], jacobian[rows]
        hat = np.einsum("bik,bjk->bij", reach[rows] if reach is not None else jac @ covariance, jac)
        values, vectors = np.linalg.eigh(np.eye(height) - hat)
        keep = values > 1e-6
        inverse = (
            vectors * np.where(keep, 1 / np.where(keep, values, 1), 0)[:, None, :]
        ) @ vectors.transpose(0, 2, 1)
        residual = (inverse @ own[:, :, None])[:, :, 0]
        drop, freedom = (own * residual).sum(axis=1).tolist(), keep.sum(axis=1).tolist()
        for index, block in enumerate(which.tolist()):
            out[block] = (drop[index], freedom[index], residual[index], inverse[index])
    return out


def conflicts(leavings: list[Leaving], optimum: Optimum) -> list[tuple[list[Leaving], float]]:
    """Groups of evidence that contradict each other, with their σ, the strongest first.

    Within a group no member can be told from another by the numbers alone: leaving out any one of
    them settles it. Where the marks scatter further than their ± say, the σ are smaller by as much.
    """
    limit = threshold(len(leavings))
    remaining = [item for item in leavings if item.sigmas > limit]
    groups: list[Any] = []
    r, covariance = optimum.r.copy(), optimum.spread.covariance
    while remaining and len(groups) < MOST_CONFLICTS:
        top = max(remaining, key=lambda item: item.sigmas)
        # Take the strongest out and look whether the rest still disagrees.
        jac = optimum.jacobian[top.block.rows]
        inverse = _drops([top.block], r, optimum.jacobian, covariance)[0][3]
        r = r + optimum.jacobian @ (covariance @ (jac.T @ (inverse @ r[top.block.rows])))
        covariance = covariance + covariance @ jac.T @ inverse @ jac @ covariance
        rest = [item for item in remaining if item.block.id != top.block.id]
        after = _again(rest, r, optimum.jacobian, covariance)
        # What would have settled it as well, and is at peace now, is of the same contradiction.
        group = [
            item
            for item, again in zip(rest, after)
            if item.drop > 0.9 * top.drop and again.sigmas <= limit
        ]
        members = list({item.block.id: item for item in [top, *group]}.values())
        groups.append((members, top.sigmas))
        taken = {member.block.id for member in members}
        remaining = [item for item in after if item.block.id not in taken and item.sigmas > limit]
    if not groups:
        return []
    named = {item.block.id for members, _ in groups for item in members}
    others = [item for item in leavings if item.block.id not in named and item.freedom]
    scatter = _scatter(_again(others, r, optimum.jacobian, covariance))
    return [(members, sigmas / scatter) for members, sigmas in groups if sigmas / scatter > limit]


def _again(leavings: list[Leaving], r: Array, jacobian: Array, covariance: Array) -> list[Leaving]:
    """Each Leaving for other residuals r (M,) and another covariance."""
    found = _drops([item.block for item in leavings], r, jacobian, covariance)
    return [
        replace(item, drop=drop, sigmas=as_sigmas(drop, freedom), residual=residual)
        for item, (drop, freedom, residual, _) in zip(leavings, found)
    ]


def _scatter(leavings: list[Leaving]) -> float:
    """How many times as far as its ± says the typical piece of evidence lies off; at least 1.

    The median, which some blunders more or less don't move, over that of a normal distribution.
    """
    if len(leavings) < LEAST_FOR_SCATTER:
        return 1.0
    typical = float(np.median([item.sigmas for item in leavings])) / NORMAL_MEDIAN
    return typical if typical > LEAST_SCATTER else 1.0


# What vanishing points say about the focal length
# ---------------------------------------------------------------------


@dataclass(frozen=True)
class Vanishing:
    """The edges of two axes as a closed form: focal² (mm²) with its ±; parallel: axes whose edges
    meet nowhere in the picture."""

    axes: tuple[int, int]
    focal2: float
    plus_minus: float
    parallel: tuple[int, ...]
    blame: tuple[
        tuple[str, float], ...
    ]  # (edge id, px that one end would have to move), least first


def vanishing_pairs(system: System, lens: Lens) -> list[Vanishing]:
    """For each two axes with two or more edges each, what their vanishing points alone say about
    the focal length.

    The directions of two perpendicular edges satisfy va · vb + f² = 0 in the picture, measured from
    the principal point (Caprile & Torre 1990, "Using vanishing points for camera calibration";
    cited from memory).
    """
    ends, sigmas, px = _ends_of_edges(system, lens)
    if not np.isfinite(ends).all():
        return []
    counts = np.bincount(system.edge_axes, minlength=3)
    return [
        _vanishing_pair(system, pair, ends, sigmas, px)
        for pair in ((0, 1), (0, 2), (1, 2))
        if (counts[list(pair)] >= 2).all()
    ]


def _ends_of_edges(system: System, lens: Lens) -> tuple[Array, Array, float]:
    """The ends (E, 2, 2) of each edge's best line and how far they may lie beside it (E,),
    straightened and desqueezed; in mm, with the size of a px."""
    edges = system.evidence.edges
    scale = lens.scale_mm / lens.focal_mm
    rays = lens.rays(system.line_mm[: system.line_starts[len(edges)]])
    flat = np.stack([rays[:, 0], -rays[:, 1]], -1) / -rays[:, 2:] * lens.focal_mm
    px = system.grid.mm_per_px[0] / scale[0]
    segments, spreads = [], []
    for index, edge in enumerate(edges):
        own = flat[system.line_starts[index] : system.line_starts[index + 1]]
        middle = own.mean(axis=0)
        direction = np.linalg.svd(own - middle)[2][0]
        reach = (own - middle) @ direction
        segments.append([middle + reach.min() * direction, middle + reach.max() * direction])
        spreads.append(edge.sigma_px * px * np.sqrt(2 / len(own)))
    return np.array(segments).reshape(-1, 2, 2), np.array(spreads), px


def _vanishing_pair(
    system: System, pair: tuple[int, int], ends: Array, sigmas: Array, px: float
) -> Vanishing:
    """What the vanishing points of two axes say; their ± by moving each end of each edge aside."""
    axes, edges = system.edge_axes, system.evidence.edges
    unit = np.hypot(*system.grid.gate_mm) / 2

    def measure(va: Array, vb: Array) -> Array:
        """(..., 3) the squared focal length, and of each vanishing point (..., 3) the share that
        isn't at infinity."""
        with np.errstate(all="ignore"):
            focal2 = -(va[..., :2] * vb[..., :2]).sum(axis=-1) / (va[..., 2] * vb[..., 2]) * unit**2
        found = [abs(v[..., 2]) / np.linalg.norm(v, axis=-1) for v in (va, vb)]
        return np.stack(np.broadcast_arrays(focal2, *found), axis=-1)

    points = [_vanishing(ends[axes == axis] / unit) for axis in pair]
    base = measure(*points)
    slopes = np.zeros((len(edges), 2, 3))
    for side, axis in enumerate(pair):
        own = np.flatnonzero(axes == axis)
        along = ends[own, 1] - ends[own, 0]
        across = np.stack([-along[:, 1], along[:, 0]], axis=1)
        across /= np.maximum(np.linalg.norm(along, axis=1), 1e-12)[:, None]
        # One end of one of its edges is moved at a time; the other axis' point stays.
        count = len(own)
        moved = np.tile(ends[own], (count, 2, 1, 1, 1))
        for end in range(2):
            moved[range(count), end, range(count), end] += across * sigmas[own, None] * 0.1
        both = [point[None, None] for point in points]
        both[side] = _vanishing(moved / unit)
        with np.errstate(invalid="ignore"):
            slopes[own] = (measure(*both) - base) / 0.1
    spread = np.sqrt(np.nansum(slopes**2, axis=(0, 1)))
    steepest = np.abs(slopes[:, :, 0]).max(axis=1)
    needed = [
        (edges[i].id, abs(base[0]) / steepest[i] * sigmas[i] / px)
        for i in range(len(edges))
        if np.isfinite(steepest[i]) and steepest[i] > 0 and np.isfinite(base[0])
    ]
    parallel = tuple(
        axis for axis, value, sd in zip(pair, base[1:], spread[1:]) if value < 2.5 * sd
    )
    blame = tuple(sorted(needed, key=lambda item: item[1]))
    return Vanishing(pair, float(base[0]), float(spread[0]), parallel, blame)


def _vanishing(ends: Array) -> Array:
    """(..., 3) where lines through ends (..., N, 2, 2) meet, homogeneous."""
    homogeneous = np.concatenate([ends, np.ones((*ends.shape[:-1], 1))], -1)
    lines = np.cross(homogeneous[..., 0, :], homogeneous[..., 1, :])
    return np.asarray(np.linalg.svd(lines)[2][..., 2, :])


def negative_square(system: System, lens: Lens) -> str | None:
    """A sentence where the edges alone give a negative squared focal length beyond doubt; None
    otherwise."""
    pairs = [
        pair
        for pair in vanishing_pairs(system, lens)
        if not pair.parallel and np.isfinite(pair.plus_minus)
    ]
    if not pairs or any(pair.focal2 > 2 * pair.plus_minus for pair in pairs):
        return None
    worst = min(pairs, key=lambda pair: pair.focal2 / max(pair.plus_minus, 1e-12))
    if worst.focal2 > -2 * worst.plus_minus:
        return None
    names = system.evidence.names
    blamed = [
        f"“{names[edge]}” (an end would have to move by {px:.0f} px)"
        for edge, px in worst.blame[:2]
    ]
    first, second = (AXES[axis] for axis in worst.axes)
    return (
        f"No lens sees these edges at right angles: those {first} and those {second} meet on the"
        " same side of the picture's middle, which would make the square of the focal length"
        f" negative. Most to blame: {' and '.join(blamed)}. Check these edges and their axes."
    )


def parallel_axes(system: System, lens: Lens) -> list[int]:
    """Axes whose edges are parallel in the picture, as far as their ± can tell."""
    return sorted({axis for pair in vanishing_pairs(system, lens) for axis in pair.parallel})
