"""Which tracks had better be dropped, and why: proposals for the artist, who decides.

A track is of one point that stands still. What gives away one that isn't, once there is a path:

- *jumps*: up to some frame it fits one point, and from there on another one;
- *moves*: it fits no point that stands still, such as a person, water, a leaf;
- *slides*: its residuals drift along the track, by much more than they scatter;
- *edge*: its residuals lie along one line, as on an edge without a corner;
- *below*: its point lies under the floor, as a reflection does.

Residuals are judged against the usual ones of the other tracks, as all of them are less exact in
compressed film.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from aperture.arrays import Array
from aperture.path import one_point

if TYPE_CHECKING:
    from aperture.path.report import Told

# Sightings below which a track isn't judged; rays must span this angle for a track to be called
# moving.
FEWEST, LEAST_ANGLE_DEG = 5, 0.7
# A residual so many times the usual one is much; two parts fit if theirs is that much smaller than
# the whole's.
MUCH, PARTS_FIT = 2.5, 0.35
# Less than this isn't worth a word, px.
LEAST_PX = 0.3
# And they fit at all, px; of at least so many sightings each.
PART_PX, LEAST_PART = 2.5, 3
# Below this a track that isn't used may be right, px; what slides doesn't go farther than that.
LEAST_MISFIT_PX, EDGE_PX = 0.7, 4.0
# Drift over scatter, and the longer axis of residuals over the shorter one.
DRIFTS, STRETCHED = 2.5, 3.0
# A point so far under the floor is no error, metres; and so many of its ±.
BELOW_M, BELOW_SIGMAS = 0.05, 4.0
MOST_NAMED = 2000
# In the order in which they are shown.
REASONS = ("jumps", "moves", "slides", "edge", "below")


def proposals(told: Told) -> list[dict[str, Any]]:
    """Per doubtful track: `id`, `reason`, `frame` (of a jump: the first one after it),
    `residual_px`, `used` sightings; the worst first."""
    if told.kind == "nodal":
        return []
    network, state = told.network, told.network.state
    lens = told.evidence.lens.with_parameters(state.lens)
    x = told.sightings.on(network.frames).zoomed(lens, state.zoom)
    used = _of_used(told, x)
    out = used + _of_left_out(told, x, {one["id"] for one in used})
    out.sort(key=lambda one: (REASONS.index(one["reason"]), -one["residual_px"]))
    return out[:MOST_NAMED]


def _of_used(told: Told, x: Array) -> list[dict[str, Any]]:
    """Of the tracks that the path uses: by all their sightings, those that it leaves out among
    them."""
    network, state, ids, out = told.network, told.network.state, told.evidence.tracks.ids, []
    rms, seen = one_point.rms_of_each(
        np.ascontiguousarray(state.points),
        network.tracks,
        np.ascontiguousarray(state.rotations),
        np.ascontiguousarray(state.positions),
        np.ascontiguousarray(x),
        _focal_px(told),
    )
    several = seen >= FEWEST
    usual = float(np.median(rms[several])) if several.any() else 0.0
    below = _below(told)
    for number, track in enumerate(network.tracks):
        reason, frame = None, None
        if several[number] and rms[number] > max(MUCH * usual, LEAST_PX):
            reason, frame = _why(_sighted(told, x, int(track)))
        if reason is None and below[number]:
            reason = "below"
        if reason:
            used = int(network.use[:, track].sum())
            when = None if frame is None else int(told.evidence.frames[frame])
            out.append(_named(ids[track], reason, rms[number], used, when))
    return out


def _why(sighted: _Sighted) -> tuple[str | None, int | None]:
    """What a track is that fits no point well, and the index of the frame on which it jumps; None
    where it only scatters."""
    whole = sighted.misfit()
    jump = _jump(sighted, whole)
    if jump is not None:
        return "jumps", int(sighted.frames[jump])
    kind = _kind_of(sighted.off(sighted.nearest()))
    return (kind if whole < EDGE_PX else None), None


def _named(id_: str, reason: str, px: float, used: int, frame: int | None = None) -> dict[str, Any]:
    return {
        "id": id_,
        "reason": reason,
        "frame": frame,
        "residual_px": round(float(px), 3),
        "used": used,
    }


def _kind_of(residuals: Array) -> str | None:
    """Why residuals (n, 2) px, in the order of frames, are as large as they are; None if they only
    scatter."""
    # A straight line through each coordinate: what it explains is drift.
    course = np.linspace(-1, 1, len(residuals))
    slope = course @ residuals / (course @ course)
    rest = residuals - np.outer(course, slope)
    if np.linalg.norm(slope) > DRIFTS * np.sqrt((rest**2).mean()):
        return "slides"
    spread = np.linalg.svd(rest, compute_uv=False)
    return "edge" if spread[0] > STRETCHED * spread[1] else None


def _below(told: Told) -> Array:
    """(P,) of bool: points under the floor, where the floor is where the facts put it."""
    network = told.network
    placed = network.placed
    if any(placed.is_open(name) for name in ("y", "tilt_roll", "scale")):
        return np.zeros(len(network.tracks), bool)
    heights = network.state.points[:, 1]
    variance = np.maximum(told.naive.points[:, 1, 1], told.clustered.points[:, 1, 1])
    limit = np.maximum(BELOW_M, BELOW_SIGMAS * np.sqrt(np.maximum(variance, 0)))
    return heights < -limit


def _of_left_out(told: Told, x: Array, named: set[str]) -> list[dict[str, Any]]:
    """Of the tracks that the path can't use, wholly or for the most part."""
    network, ids, out = told.network, told.evidence.tracks.ids, []
    used = network.use.sum(axis=0)
    total = told.sightings.seen[network.frames].sum(axis=0)
    doubtful = (total - used > 0.3 * total) & (total >= FEWEST)
    for track in np.flatnonzero(doubtful):
        if ids[track] in named:
            continue
        sighted = _sighted(told, x, int(track))
        if len(sighted.frames) < FEWEST:
            continue  # all around, of what lies behind nothing is said
        whole = sighted.misfit()
        if sighted.angle_deg < LEAST_ANGLE_DEG or whole <= LEAST_MISFIT_PX:
            continue  # too far away to say, or left out for another reason
        reason, frame = _why(sighted)
        when = None if frame is None else int(told.evidence.frames[frame])
        out.append(_named(ids[track], reason or "moves", whole, int(used[track]), when))
    return out


@dataclass(frozen=True, eq=False)
class _Sighted:
    """A track's sightings in the world. frames (n,): indices; the rest of each: place, turn,
    picture in focal lengths, px per focal length."""

    frames: Array
    origin: Array
    rotation: Array
    x: Array
    focal_px: Array

    @cached_property
    def rays(self) -> Array:
        """(n, 3) of length 1, in the world."""
        rays = np.concatenate([self.x * [1, -1], -np.ones((len(self.x), 1))], axis=1)
        rays /= np.linalg.norm(rays, axis=1, keepdims=True)
        return np.einsum("nij,nj->ni", self.rotation, rays)

    @property
    def angle_deg(self) -> float:
        """That the rays span."""
        return float(np.degrees(np.arccos(np.clip((self.rays @ self.rays.T).min(), -1, 1))))

    def nearest(self) -> Array:
        """(3,) the point nearest to all rays."""
        return one_point.nearest(self.rays, self.origin)

    def off(self, point: Array) -> Array:
        """(n, 2) px: from where the point would be seen to where the track was."""
        return one_point.off(point, self.rotation, self.origin, self.x, self.focal_px)

    def misfit(self) -> float:
        """The rms residual in px of the one point that fits best."""
        return one_point.misfit(*self._all)

    def parts(self) -> Array:
        """(n,) the same of two points, the second from each sighting on."""
        return np.asarray(one_point.parts(*self._all, LEAST_PART))

    @property
    def _all(self) -> tuple[Array, ...]:
        return self.rays, self.rotation, self.origin, self.x, self.focal_px


def _focal_px(told: Told) -> Array:
    """(F,) px, of each frame."""
    state = told.network.state
    down = float(np.linalg.norm(told.sightings.grid.px_linear[:, 1]))
    return np.asarray(np.exp(state.lens[0] + state.zoom) * down)


def _sighted(told: Told, x: Array, track: int) -> _Sighted:
    """x (F, T, 2): everything that was seen, in focal lengths."""
    network, state = told.network, told.network.state
    number = np.flatnonzero(np.isfinite(x[:, track, 0]))
    focal_px = _focal_px(told)[number]
    places, turns = state.positions[number], state.rotations[number]
    return _Sighted(network.frames[number], places, turns, x[number, track], focal_px)


def _jump(sighted: _Sighted, whole: float) -> int | None:
    """The index of the first sighting of a second point, where two points explain what one
    can't."""
    rms = np.nan_to_num(sighted.parts(), nan=np.inf)
    split = int(np.argmin(rms))
    return split if rms[split] < min(PARTS_FIT * whole, PART_PX) else None
