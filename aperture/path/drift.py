"""How a track's errors hang together from frame to frame: its drift.

A template that slowly slides over its point, or that a codec pulls along, errs alike on many
frames in a row. The residuals show little of that: where the point lies is found from the same
frames, and takes most of the drift up. So the residuals' own covariance between frames is set
against what would be left of each kind of error, once each point has found its place: for each
track with the derivatives J by its point, the residuals of errors with the covariance Σ have

    P Σ P,        P = 1 − J (Jᵀ J)⁻¹ Jᵀ,

and the variances of the kinds, all at least 0, are those whose sums over all tracks fit best, lag
by lag. (Estimating components of variance from what a fit leaves: Patterson and Thompson 1971;
cited from memory.) The kinds are errors that are new on each frame, and errors of which a share
(KEPT) stays from one frame to the next. What stays for ever can't be told from another point.

With errors that don't hang together this finds nothing but noise: hundredths of their variance.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy.linalg import eigh
from scipy.optimize import nnls

from aperture.arrays import Array

# How much of a slow error stays from one frame to the next: about three frames, and thirty.
KEPT = (0.7, 0.97)
# The lags whose covariances are compared, in frames.
LAGS = 13
# Of a track at least and at most so many sightings are looked at, of so many tracks at most; fewer
# tracks than the last tell nothing.
LEAST_SEEN, MOST_SEEN, MOST_TRACKS, FEWEST_TRACKS = 6, 64, 80, 20
# Where there are no more at all, few have to do.
FEWEST_OF_ALL = 6
# Residuals of a track beyond so many σ rms are those of another fault.
FAR = 2.5
# Of the slow errors of one track the largest so many modes, by axis; the rest change too quickly
# to move more than the frames they are on.
MODES = 12


@dataclass(frozen=True)
class Drift:
    """Variances of a track's errors, over their σ squared: of what is new on each frame, and of
    what is kept, by KEPT."""

    fresh: float = 1.0
    slow: tuple[float, ...] = (0.0,) * len(KEPT)

    def __bool__(self) -> bool:
        return any(self.slow)

    def between(self, frames: Array) -> Array:
        """(n, n) the covariance of one axis's errors on frames (n,)."""
        apart = np.abs(frames[:, None] - frames[None])
        slow = sum(part * kept**apart for part, kept in zip(self.slow, KEPT))
        return self.fresh * np.eye(len(frames)) + slow

    def modes(self, frames: Array) -> Array:
        """(n, m) errors whose squares add up to the covariance of one axis, the largest first; of
        many frames the slow ones alone."""
        count = len(frames)
        largest = (max(count - MODES, 0), count - 1)
        values, vectors = eigh(self.between(frames), subset_by_index=largest)
        found: Array = vectors * np.sqrt(np.maximum(values, 0))
        return found[:, ::-1]


def estimated(tracks: Sequence[tuple[Array, Array, Array]], fewest: int = FEWEST_TRACKS) -> Drift:
    """The drift of tracks whose points were free; of fewer than `fewest` nothing is told.

    tracks: of each the frames (n,), rising; the residuals (n, 2) over their σ; and their
    derivatives (n, 2, 3) by the point. Nothing is told of tracks that are short, or far off.
    """
    some = [
        tuple(part[:MOST_SEEN] for part in track)
        for track in tracks
        if len(track[0]) >= LEAST_SEEN and np.sqrt(np.mean(track[1] ** 2)) <= FAR
    ]
    if len(some) < fewest:
        return Drift()
    left, counts = np.zeros(LAGS), np.zeros(LAGS)
    shares = np.zeros((LAGS, 1 + len(KEPT)))
    lengths = np.array([len(frames) for frames, _, _ in some])
    frames, residuals, by_point = (_padded(part) for part in zip(*some))
    basis, size, _ = np.linalg.svd(by_point.reshape(len(some), -1, 3), full_matrices=False)
    # What the points don't take up at all has no direction.
    basis *= (size > 1e-9 * np.maximum(size[:, :1], 1e-300))[:, None]
    basis = basis.reshape(by_point.shape)
    _add_lags(lengths, frames, residuals, basis, np.array(KEPT), left, counts, shares)
    # A covariance of so many products is known to one over the root of their number.
    weights = 1 / np.sqrt(counts + 1)
    found, _ = nnls(shares * weights[:, None], left * weights)
    return Drift(float(found[0]), tuple(found[1:].tolist()))


def _padded(parts: Sequence[Array]) -> Array:
    """(T, MOST_SEEN, …) arrays (n, …) of T tracks, with zeros behind."""
    out = np.zeros((len(parts), MOST_SEEN, *parts[0].shape[1:]), parts[0].dtype)
    for number, part in enumerate(parts):
        out[number, : len(part)] = part
    return out


@njit(cache=True, nogil=True)
def _add_lags(lengths, frames, residuals, basis, kept, left, counts, shares):
    """Add by lag, over all tracks: the sums of products of their residuals to `left` (LAGS,), how
    many these are to `counts` (LAGS,), and what each kind of error of variance 1 would make of them
    to `shares` (LAGS, kinds)."""
    for track in range(len(lengths)):
        seen = lengths[track]
        _add_track(
            frames[track, :seen], residuals[track], basis[track, :seen], kept, left, counts, shares
        )


@njit(cache=True, nogil=True)
def _add_track(frames, residuals, basis, kept, left, counts, shares):
    """The same of one track. With B, (n, 2, 3), the basis of what the point takes up and K a kind's
    covariance, P K P = K − B Tᵀ − T Bᵀ where T = K B − B (Bᵀ K B) / 2."""
    count, rank = len(frames), basis.shape[2]
    for late in range(count):
        for early in range(late, -1, -1):
            lag = frames[late] - frames[early]
            if lag >= len(left):
                break
            counts[lag] += 2
            for axis in range(2):
                left[lag] += residuals[late, axis] * residuals[early, axis]
    taking, inner = np.zeros((count, 2, rank)), np.zeros((rank, rank))
    for kind in range(len(kept) + 1):
        share = kept[kind - 1] if kind else 0.0
        by_lag = share ** np.arange(len(left))  # 1 at lag 0 whatever the share
        _moved(frames, basis, share, taking)
        inner[:] = 0.0
        for frame in range(count):
            for axis in range(2):
                for i in range(rank):
                    for j in range(rank):
                        inner[i, j] += basis[frame, axis, i] * taking[frame, axis, j]
        for frame in range(count):
            for axis in range(2):
                for i in range(rank):
                    for j in range(rank):
                        taking[frame, axis, i] -= inner[i, j] * basis[frame, axis, j] / 2
        for late in range(count):
            for early in range(late, -1, -1):
                lag = frames[late] - frames[early]
                if lag >= len(left):
                    break
                value = 2.0 * by_lag[lag]
                for axis in range(2):
                    for i in range(rank):
                        value -= basis[late, axis, i] * taking[early, axis, i]
                        value -= basis[early, axis, i] * taking[late, axis, i]
                shares[lag, kind] += value


@njit(cache=True, nogil=True)
def _moved(frames, basis, share, out):
    """Put K B into `out`: from frame to frame, once onward and once back."""
    count = len(frames)
    out[:] = basis
    if share == 0.0:
        return
    running = np.zeros((2, basis.shape[2]))
    for frame in range(1, count):
        stays = share ** (frames[frame] - frames[frame - 1])
        for axis in range(2):
            for i in range(basis.shape[2]):
                running[axis, i] = stays * (running[axis, i] + basis[frame - 1, axis, i])
                out[frame, axis, i] += running[axis, i]
    running[:] = 0.0
    for frame in range(count - 2, -1, -1):
        stays = share ** (frames[frame + 1] - frames[frame])
        for axis in range(2):
            for i in range(basis.shape[2]):
                running[axis, i] = stays * (running[axis, i] + basis[frame + 1, axis, i])
                out[frame, axis, i] += running[axis, i]


def of_points(starts: Array, cameras: Array, by_point: Array, drift: Drift) -> Array:
    """(P, 3, 3) Jᵀ Σ J of each point, with the drift's Σ.

    starts (P + 1,): where each point's rows of cameras (N,) and by_point (N, 2, 3) begin.
    """
    out = np.zeros((len(starts) - 1, 3, 3))
    slow, kept = np.array(drift.slow), np.array(KEPT)
    _add_products(starts, cameras, by_point, drift.fresh, slow, kept, out)
    return out


@njit(cache=True, nogil=True)
def _add_products(starts, cameras, by_point, fresh, slow, kept, out):
    """What `of_points` returns: the sums over pairs of frames, from frame to frame, each slow kind
    keeping a running sum of what came before."""
    before, earlier = np.zeros((len(kept), 2, 3)), np.zeros((2, 3))
    at_once = fresh + slow.sum()
    for p in range(len(starts) - 1):
        before[:] = 0.0
        earlier[:] = 0.0
        for o in range(starts[p], starts[p + 1]):
            if o > starts[p]:
                gap = cameras[o] - cameras[o - 1]
                earlier[:] = 0.0
                for kind in range(len(kept)):
                    share = kept[kind] if gap == 1 else kept[kind] ** gap
                    for axis in range(2):
                        for i in range(3):
                            kept_on = share * (before[kind, axis, i] + by_point[o - 1, axis, i])
                            before[kind, axis, i] = kept_on
                            earlier[axis, i] += slow[kind] * kept_on
            for axis in range(2):
                for i in range(3):
                    here = by_point[o, axis, i]
                    for j in range(i + 1):
                        there = by_point[o, axis, j]
                        pairs = here * earlier[axis, j] + earlier[axis, i] * there
                        out[p, i, j] += at_once * here * there + pairs
        for i in range(3):
            for j in range(i):
                out[p, j, i] = out[p, i, j]
