"""Tracks as one table of frames by tracks, for finding a first path."""

from __future__ import annotations

import warnings
from dataclasses import dataclass, replace
from typing import Any

import cv2
import numpy as np

from aperture.arrays import Array
from aperture.geometry.grid import Grid
from aperture.lens.lens import Lens
from aperture.path.problem import Observations
from aperture.track.tracks import Tracks


@dataclass(frozen=True, eq=False)
class Sightings:
    """Where each track was seen on each frame.

    Parameters
    ----------
    frames : ndarray of int, shape (F,)
        In the shot's numbering, those of the range in order.
    xy : ndarray, shape (F, T, 2)
        Pixels; NaN where a track wasn't seen.
    sigma : ndarray, shape (F, T, 2)
        Pixels; NaN where it wasn't seen.
    cross : ndarray, shape (F, T)
        Correlation of the errors across and down.
    grid : Grid
        Of the plate.
    """

    frames: Array
    xy: Array
    sigma: Array
    cross: Array
    grid: Grid

    @classmethod
    def of(cls, tracks: Tracks, first: int, last: int, grid: Grid) -> Sightings:
        """The tracks on the frames first to last; tracks may have observations on others."""
        count = last - first + 1
        xy = np.full((count, len(tracks), 2), np.nan)
        sigma = np.full((count, len(tracks), 2), np.nan)
        cross = np.zeros((count, len(tracks)))
        tracks = tracks.only(
            np.ones(len(tracks), bool), (tracks.frame >= first) & (tracks.frame <= last)
        )
        at = tracks.frame - first, tracks.track
        xy[at], sigma[at], cross[at] = tracks.xy, tracks.sigma, tracks.cross
        return cls(np.arange(first, last + 1), xy, sigma, cross, grid)

    def observations(self, row: Array, column: Array, at: Any, factor: Any = 1.0) -> Observations:
        """Observations of cameras and points (N,) at (frames, tracks), each σ times a factor."""
        flat = np.ravel_multi_index(at, self.cross.shape)  # by which NumPy takes much faster
        xy, sigma = (np.take(each.reshape(-1, 2), flat, axis=0) for each in (self.xy, self.sigma))
        sigma *= np.reshape(factor, (-1, 1))
        return Observations(row, column, xy, sigma, np.take(self.cross, flat))

    @property
    def seen(self) -> Array:
        """(F, T) of bool."""
        return np.isfinite(self.xy[:, :, 0])

    @property
    def width(self) -> int:
        """Of the picture, px."""
        return self.grid.width

    def zoomed(self, lens: Lens, zoom: Array) -> Array:
        """`normalised` through a lens that zooms: (F,) ln of each frame's focal length over the
        lens's.

        What a lens does depends on how many focal lengths beside its axis it is: a picture of
        another focal length is one of the lens's own, shrunk towards the axis.
        """
        axis = self.grid.to_px([lens.centre_mm])[0]
        shrunk = axis + (self.xy - axis) * np.exp(-zoom)[:, None, None]
        return replace(self, xy=shrunk).normalised(lens)

    def on(self, frames: Array, tracks: Array | None = None) -> Sightings:
        """Those on some frames, of all tracks or some, by index."""
        which = frames if tracks is None else np.ix_(frames, tracks)
        return Sightings(
            self.frames[frames], self.xy[which], self.sigma[which], self.cross[which], self.grid
        )

    def rays(self, lens: Lens) -> Array:
        """(F, T, 3) unit directions in camera space; NaN where unseen."""
        flat = self.xy.reshape(-1, 2)
        out = np.full((len(flat), 3), np.nan)
        seen = np.isfinite(flat[:, 0])
        rays = lens.rays(self.grid.to_mm(flat[seen]))
        out[seen] = rays / np.linalg.norm(rays, axis=1, keepdims=True)
        return out.reshape(*self.xy.shape[:2], 3)

    def normalised(self, lens: Lens) -> Array:
        """(F, T, 2): straight through the lens, y down, in focal lengths; NaN where unseen, or
        beyond 85° from the axis."""
        flat = self.xy.reshape(-1, 2)
        out = np.full(flat.shape, np.nan)
        seen = np.flatnonzero(np.isfinite(flat[:, 0]))
        rays = lens.rays(self.grid.to_mm(np.take(flat, seen, axis=0)))
        with np.errstate(all="ignore"):
            ahead = -rays[:, 2] > np.cos(np.radians(85)) * np.linalg.norm(rays, axis=1)
            x = np.stack([rays[:, 0], -rays[:, 1]], axis=1) / -rays[:, 2:]
        x[~ahead] = np.nan
        out[seen] = x
        return out.reshape(self.xy.shape)


def travelled(sightings: Sightings) -> Array:
    """(F,) px: how far the picture has moved up to each frame, the median motion of its tracks
    added up.

    By the mean of both axes' medians of absolute values, so that turning about the axis counts too.
    """
    moved = np.linalg.norm(np.diff(sightings.xy, axis=0), axis=2)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)  # frames that share no track
        steps = np.nanmedian(moved, axis=1)
    return np.concatenate([[0.0], np.cumsum(np.nan_to_num(steps))])


def grown(sightings: Sightings) -> Array:
    """(F,) ln of how much larger the picture is than on the first frame: by a zoom, or by walking
    ahead.

    From one frame to the next, by the similarity that most of the shared tracks agree on.
    """
    steps = np.zeros(len(sightings.frames))
    for index, (before, after) in enumerate(zip(sightings.xy[:-1], sightings.xy[1:]), 1):
        both = np.isfinite(before[:, 0]) & np.isfinite(after[:, 0])
        if np.count_nonzero(both) < 8:
            continue
        turn, _ = cv2.estimateAffinePartial2D(
            before[both], after[both], method=cv2.RANSAC, ransacReprojThreshold=2.0
        )
        if turn is not None:
            steps[index] = np.log(max(float(np.hypot(turn[0, 0], turn[1, 0])), 0.1))
    return np.cumsum(steps)


def keyframes(sightings: Sightings, most: int = 10, least: int = 6) -> list[int]:
    """Indices of frames that are evenly apart in what the picture moved, and share their tracks.

    A new one where the picture has moved by 3 % of its width (or by the `most`-th part of all
    motion, if that is more; of less motion in all, by its `least`-th part), or where fewer than
    half of the last one's tracks are left. The last frame is one, in place of one that hardly
    differs from it.
    """
    seen, path = sightings.seen, travelled(sightings)
    step = max(min(0.03 * sightings.width, path[-1] / least), path[-1] / most)
    keys, count = [0], len(path)
    for index in range(1, count):
        shared = np.count_nonzero(seen[keys[-1]] & seen[min(index + 1, count - 1)])
        few = shared < max(30, 0.5 * np.count_nonzero(seen[keys[-1]]))
        if path[index] - path[keys[-1]] >= step or (few and index > keys[-1]):
            keys.append(index)
    if keys[-1] != count - 1:
        if len(keys) > 2 and path[-1] - path[keys[-1]] < 0.3 * step:
            keys.pop()
        keys.append(count - 1)
    return keys


def connected(
    sightings: Sightings, keys: list[int], most: int = 8, least_shared: int = 40
) -> list[int]:
    """At most eight of the keyframes: spread over all if neighbours share enough tracks, or else
    the run that shares most."""
    if len(keys) <= most:
        return keys
    seen = sightings.seen

    def weakest(chosen: list[int]) -> int:
        return min(int(np.count_nonzero(seen[a] & seen[b])) for a, b in zip(chosen, chosen[1:]))

    spread = [keys[index] for index in np.unique(np.linspace(0, len(keys) - 1, most).astype(int))]
    if weakest(spread) >= least_shared:
        return spread
    runs = [keys[start : start + most] for start in range(len(keys) - most + 1)]
    return max(runs, key=weakest)
