"""Tracks as arrays: points followed over frames, and where each was seen."""

from __future__ import annotations

import json
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem

# States of an observation, as numbers in the arrays.
FOLLOWED, PLACED = 0, 1
# Version of the arrays in a file.
VERSION = 2
_FIELDS = ("track", "frame", "xy", "sigma", "cross", "correlation", "state")
# A correlation of errors is at most so near to 1: a point on an edge is held along it by something.
MOST_CROSS = 0.999


@dataclass(frozen=True, eq=False)
class Tracks:
    """Points followed over frames.

    Parameters
    ----------
    ids : tuple of str
        One per track, length T; each once.
    track : ndarray of int32, shape (N,)
        Of each observation, the index of its track. Sorted by track, then by frame.
    frame : ndarray of int32, shape (N,)
        In the shot's numbering.
    xy : ndarray, shape (N, 2)
        Pixels of the plate, from the outer corner of its first pixel.
    sigma : ndarray, shape (N, 2)
        One standard deviation across and down, px.
    cross : ndarray, shape (N,)
        Correlation of the errors across and down, −1 to 1: 0 for a round corner, near ±1 on a
        slanting edge.
    correlation : ndarray, shape (N,)
        Between the template and what was seen, at most 1; NaN if not measured.
    state : ndarray of uint8, shape (N,)
        FOLLOWED, or PLACED by hand.
    about : dict
        Of tracks by id what isn't about frames: `name`, `source` (detected, placed, imported),
        `world`, `world_plus_minus`, `off`; as the match document has it.

    Raises
    ------
    Problem
        If the arrays don't belong together.
    """

    ids: tuple[str, ...]
    track: Array
    frame: Array
    xy: Array
    sigma: Array
    cross: Array
    correlation: Array
    state: Array
    about: dict[str, dict[str, Any]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        count = len(self.track)
        shapes = [len(getattr(self, name)) for name in _FIELDS]
        if set(shapes) != {count} or self.xy.shape != (count, 2) or self.sigma.shape != (count, 2):
            raise Problem("The arrays of the tracks don't belong together.")
        if count and (self.track.min() < 0 or self.track.max() >= len(self.ids)):
            raise Problem("An observation belongs to no track.")
        if len(set(self.ids)) != len(self.ids):
            raise Problem("Two tracks have the same id.")
        if not (np.isfinite(self.xy).all() and (self.sigma > 0).all()):
            raise Problem("An observation has no place, or no ±.")

    @classmethod
    def build(
        cls,
        ids: Any,
        track: Any,
        frame: Any,
        xy: Any,
        sigma: Any,
        correlation: Any = None,
        state: Any = None,
        about: dict[str, dict[str, Any]] | None = None,
        cross: Any = 0.0,
    ) -> Tracks:
        """Tracks of arrays in any order; of two observations of a track on one frame the later one
        counts."""
        track, frame = np.asarray(track, np.int32).ravel(), np.asarray(frame, np.int32).ravel()
        xy = np.asarray(xy, float).reshape(-1, 2)
        sigma = np.broadcast_to(np.asarray(sigma, float), xy.shape) if len(xy) else np.ones((0, 2))
        if correlation is None:
            correlation = np.full(len(xy), np.nan)
        if state is None:
            state = np.full(len(xy), FOLLOWED)
        cross = np.clip(np.broadcast_to(np.asarray(cross, float), len(xy)), -MOST_CROSS, MOST_CROSS)
        correlation, state = np.asarray(correlation, float), np.asarray(state, np.uint8)
        of_each = track, frame, xy, sigma, cross, correlation, state
        order = _order(track, frame)
        arrays = {name: np.array(array[order]) for name, array in zip(_FIELDS, of_each)}
        return cls(ids=tuple(ids), about=about or {}, **arrays)

    @classmethod
    def none(cls) -> Tracks:
        """No tracks."""
        return cls.build((), [], [], [], np.ones(2))

    def __len__(self) -> int:
        return len(self.ids)

    @property
    def starts(self) -> Array:
        """(T + 1,) of each track its first observation, and the number of all."""
        return np.searchsorted(self.track, np.arange(len(self.ids) + 1))

    def lengths(self) -> Array:
        """(T,) how many observations each track has."""
        return np.bincount(self.track, minlength=len(self.ids))

    def only(self, keep: Array, observations: Array | None = None) -> Tracks:
        """Those tracks (T,) of bool, and of these those observations (N,) of bool."""
        of_kept = keep[self.track]
        if observations is not None:
            of_kept = of_kept & observations
        if keep.all() and of_kept.all():
            return self
        number = np.cumsum(keep) - 1
        ids = tuple(id_ for id_, kept in zip(self.ids, keep) if kept)
        about = {id_: self.about[id_] for id_ in ids if id_ in self.about}
        arrays = {name: getattr(self, name)[of_kept] for name in _FIELDS}
        arrays["track"] = number[arrays["track"]].astype(np.int32)
        return Tracks(ids=ids, about=about, **arrays)

    def joined(self, other: Tracks) -> Tracks:
        """Both; an observation of `other` replaces one of the same track on the same frame."""
        own = set(self.ids)
        ids = [*self.ids, *(id_ for id_ in other.ids if id_ not in own)]
        index = {id_: number for number, id_ in enumerate(ids)}
        renumbered = np.array([index[id_] for id_ in other.ids], int)
        both = {
            name: np.concatenate([getattr(self, name), getattr(other, name)])
            for name in _FIELDS[1:]
        }
        track = np.concatenate([self.track, renumbered[other.track]]) if len(other) else self.track
        about = {id_: self.about.get(id_, {}) | other.about.get(id_, {}) for id_ in ids}
        about = {id_: told for id_, told in about.items() if told}
        return Tracks.build(ids, track, about=about, **both)

    def telling(self, id_: str, **told: Any) -> Tracks:
        """The same with something else told about one track; None takes a word back."""
        words = self.about.get(id_, {}) | told
        words = {key: value for key, value in words.items() if value is not None}
        about = {key: value for key, value in self.about.items() if key != id_}
        return replace(self, about=about | ({id_: words} if words else {}))

    def shifted(self, frames: int) -> Tracks:
        """The same on other frames."""
        return replace(self, frame=self.frame + np.int32(frames))

    def to_arrays(self) -> dict[str, Array]:
        """The arrays that a file holds; `xy` to a 4096th of a pixel, which is far below any σ."""
        words = json.dumps({"ids": self.ids, "about": self.about}, separators=(",", ":"))
        return {
            "version": np.array(VERSION),
            "words": np.frombuffer(words.encode(), np.uint8),
            "track": self.track,
            "frame": self.frame,
            "xy": np.round(self.xy * 4096) / 4096,
            "sigma": self.sigma.astype(np.float32),
            "cross": self.cross.astype(np.float16),
            "correlation": self.correlation.astype(np.float16),
            "state": self.state,
        }

    @classmethod
    def from_arrays(cls, arrays: dict[str, Array]) -> Tracks:
        """Tracks of a file's arrays."""
        words = json.loads(bytes(arrays["words"]))
        return cls(
            tuple(words["ids"]),
            arrays["track"].astype(np.int32),
            arrays["frame"].astype(np.int32),
            arrays["xy"].astype(float),
            arrays["sigma"].astype(float),
            # Version 1 had none.
            np.clip(
                arrays["cross"].astype(float)
                if "cross" in arrays
                else np.zeros(len(arrays["track"])),
                -MOST_CROSS,
                MOST_CROSS,
            ),
            arrays["correlation"].astype(float),
            arrays["state"].astype(np.uint8),
            words["about"],
        )


def _order(track: Array, frame: Array) -> Array | slice:
    """Which rows to take, to have them by track and frame: of two of a track on one frame the
    later one."""
    onward = np.diff(track)
    if ((onward > 0) | ((onward == 0) & (np.diff(frame) > 0))).all():
        return slice(None)  # as they mostly come
    order = np.lexsort((np.arange(len(track)), frame, track))
    last = np.ones(len(order), bool)
    t, f = track[order], frame[order]
    last[:-1] = (t[1:] != t[:-1]) | (f[1:] != f[:-1])
    rows: Array = order[last]
    return rows
