"""The camera that only turns, and the one that does nothing.

A camera on a tripod head gives no parallax: no distance can be known, and a solution that assumes a
path "explains" its tracks with a wrong lens and points at invented depths. So the simple cases are
tried first.

Turning: rotations, lens and one direction per track, in a bundle of its own
(`Freedom.at_infinity`). A test by homographies would be misled by distortion, which bends them;
this bundle has distortion in it.
"""

from __future__ import annotations

import warnings
from dataclasses import dataclass
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.path.bundle import Bundle
from aperture.path.growing import HUBER_SIGMAS, OUTLIER_SIGMAS, LensPrior
from aperture.path.imaging import Optics
from aperture.path.problem import Freedom, State, reweighted
from aperture.path.sightings import Sightings

LEAST_SHARED = 8


@dataclass
class Turning:
    """A solved rotation-only path over some frames.

    frames (K,): indices; rotations (K, 3, 3); lens (8,); directions (T, 3), NaN where unknown;
    residuals (F, T) in σ; scale: their robust size; use (F, T); zoom (K,): ln of each frame's focal
    length over the lens's.
    """

    frames: Array
    rotations: Array
    lens: Array
    directions: Array
    residuals: Array
    scale: float
    use: Array
    zoom: Array


def is_still(sightings: Sightings, most_px: float = 0.5, share: float = 0.7) -> bool:
    """Whether most tracks stay where they are: within half a pixel of their own middle, or their
    own noise."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)  # tracks that are seen nowhere
        middle = np.nanmedian(sightings.xy, axis=0)
        off = np.linalg.norm(sightings.xy - middle, axis=2)
        spread = np.sqrt(np.nanmean(off**2, axis=0) / 2)
        sigma = np.nanmedian(sightings.sigma, axis=(0, 2))
    several = sightings.seen.sum(axis=0) >= 2
    if not several.any():
        return True
    stays = spread[several] < np.maximum(most_px, 4 * sigma[several])
    return bool(stays.mean() >= share)


def solve_turning(
    sightings: Sightings,
    optics: Optics,
    frames: Array,
    lens: Array,
    free_lens: Array,
    prior: LensPrior | None,
    rounds: int = 3,
    threads: int = 1,
    zoom: Array | None = None,
) -> Turning | None:
    """Rotations, lens and directions for some frames, from an assumed lens; None where neighbours
    share too little.

    zoom (K,): where the lens zooms, the assumed ln of each frame's focal length over the lens's.
    """
    frames = np.asarray(frames)
    begin = np.zeros(len(frames)) if zoom is None else zoom
    x = sightings.on(frames).zoomed(optics.lens.with_parameters(lens), begin)
    rotations = _chained(x)
    if rotations is None:
        return None
    seen = np.isfinite(x[:, :, 0])
    seen &= seen.sum(axis=0) >= 2
    tracks = np.flatnonzero(seen.any(axis=0))
    row, column = np.nonzero(seen[:, tracks])
    rays = np.einsum("nij,nj->ni", rotations[row], _rays(x[row, tracks[column]]))
    directions = _means(rays, column, len(tracks))
    at = frames[row], tracks[column]
    observations = sightings.observations(row, column, at)
    free = np.zeros((len(frames), 6 if zoom is None else 7), bool)
    free[1:, :3] = True
    free[:, 6:] = True
    count = len(frames)
    state = State(rotations, np.zeros((count, 3)), begin, lens.copy(), directions)
    prior = prior.on(frames) if prior is not None else None
    freedom = Freedom(free, free_lens, np.zeros((len(tracks), 3), bool), at_infinity=True)
    factor = None
    for _ in range(rounds):
        weighted = observations if factor is None else reweighted(observations, factor)
        bundle = Bundle(weighted, optics, state, freedom, prior, threads=threads)
        bundle.solve(most=25, least_gain=1e-3)
        state = bundle.state
        residuals, _ = bundle.residuals(state)
        sigmas = np.linalg.norm(residuals, axis=1)
        sigmas = np.nan_to_num(sigmas if factor is None else sigmas * factor, nan=1e6)
        scale = max(0.1, float(np.median(sigmas)) / 1.1774)
        factor = np.sqrt(np.maximum(sigmas / (HUBER_SIGMAS * scale), 1.0))
        factor[sigmas > 8 * scale] = 1e4
    every = np.full((sightings.xy.shape[1], 3), np.nan)
    every[tracks] = state.points
    shape, good = sightings.seen.shape, sigmas <= max(OUTLIER_SIGMAS * scale, 0.5)
    table, use = _filled(shape, at, sigmas, np.nan), _filled(shape, at, good, False)
    return Turning(frames, state.rotations, state.lens, every, table, scale, use, state.zoom)


def chained(seen: Array, begin: int) -> Array:
    """The frames (K,), indices, from one of them both ways, of which each shares enough tracks with
    the one before; seen (F, T) of bool. A black frame between them is left out."""
    ways = []
    for others in (range(begin - 1, -1, -1), range(begin + 1, len(seen))):
        way, last = [], begin
        for frame in others:
            if np.count_nonzero(seen[last] & seen[frame]) >= LEAST_SHARED:
                way.append(frame)
                last = frame
        ways.append(way)
    return np.array([*ways[0][::-1], begin, *ways[1]])


def _means(rays: Array, of: Array, count: int) -> Array:
    """(count, 3) the unit mean of the rays (N, 3) that belong to each."""
    out = np.zeros((count, 3))
    np.add.at(out, of, rays)
    return np.asarray(out / np.linalg.norm(out, axis=1, keepdims=True))


def _filled(shape: tuple[int, ...], at: tuple[Array, Array], values: Array, rest: Any) -> Array:
    """An array with values at some places, and `rest` elsewhere."""
    out = np.full(shape, rest)
    out[at] = values
    return out


def _rays(x: Array) -> Array:
    """(n, 3) unit rays in camera space of normalised positions (n, 2), y down."""
    rays = np.concatenate([x * [1, -1], -np.ones((len(x), 1))], axis=1)
    return rays / np.linalg.norm(rays, axis=1, keepdims=True)


def _chained(x: Array) -> Array | None:
    """(K, 3, 3) rotations world from camera, the first as it is: each from the directions it shares
    with the one before."""
    rotations = [np.eye(3)]
    for before, after in zip(x[:-1], x[1:]):
        both = np.isfinite(before[:, 0]) & np.isfinite(after[:, 0])
        if np.count_nonzero(both) < LEAST_SHARED:
            return None
        a, b = _rays(before[both]), _rays(after[both])
        weight = np.ones(len(a))
        for _ in range(5):
            # Kabsch (1976): the rotation that turns b onto a.
            left, _, right = np.linalg.svd((a * weight[:, None]).T @ b)
            turn = left @ np.diag([1, 1, np.linalg.det(left @ right)]) @ right
            off = np.linalg.norm(b @ turn.T - a, axis=1)
            weight = 1 / (1 + (off / max(float(np.median(off)), 1e-6)) ** 2)
        rotations.append(rotations[-1] @ turn)
    return np.array(rotations)


def lens_of(optics: Optics, focal_mm: float) -> Array:
    """(8,) PARAMETERS of the optics' lens at another focal length."""
    start = optics.lens.parameters.copy()
    start[0] = np.log(focal_mm)
    return start
