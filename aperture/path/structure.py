"""What of a bundle's equations depends only on which camera sees which point: the order in which
points are eliminated, and where what they leave lies."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.path import elimination


@dataclass(frozen=True, eq=False)
class Seen:
    """Which camera sees which point: all that a Structure depends on.

    Parameters
    ----------
    cameras, points : ndarray of int, shape (N,)
        Of each observation.
    count, frames, size : int
        How many points and cameras, and parameters of a camera.
    tied : tuple of int
        Points that a fact ties to a camera, the lens or to another point.
    """

    cameras: Array
    points: Array
    count: int
    frames: int
    size: int
    tied: tuple[int, ...] = ()

    def is_same(self, other: Seen) -> bool:
        """Whether both are of the same sightings, in the same order."""
        sizes, others = ((one.count, one.frames, one.size, one.tied) for one in (self, other))
        return (
            sizes == others
            and np.array_equal(self.cameras, other.cameras)
            and np.array_equal(self.points, other.points)
        )


class Structure:
    """The order of points and sightings of one problem.

    Attributes
    ----------
    order, rank : ndarray of int, shape (P,)
        The points in their order of elimination, the tied ones last; and the place of each in it.
    eliminated : int
        How many aren't tied.
    sorting, unsorting : ndarray of int, shape (N,)
        The observations by point in that order, and by camera; and the place of each in it.
    camera, point : ndarray of int, shape (N,)
        Of the observations, so sorted; points by their rank.
    starts : ndarray of int, shape (P + 1,)
        Where each point's observations begin.
    seen_from : ndarray of int, shape (P,)
        Of each point, in the caller's order, the camera in the middle of those that see it.
    groups : Groups
    seen : Seen
        What it is made for.
    """

    def __init__(self, seen: Seen) -> None:
        self.seen = seen
        cameras, points, count, tied = seen.cameras, seen.points, seen.count, seen.tied
        is_tied = np.zeros(count, bool)
        is_tied[list(tied)] = True
        order = elimination.point_order(cameras, points, count)
        self.order = np.concatenate([order[~is_tied[order]], np.array(tied, int)]).astype(int)
        self.rank = np.empty(count, int)
        self.rank[self.order] = np.arange(count)
        self.eliminated = count - len(tied)
        point = self.rank[points]
        by_camera = _stably_sorted(cameras)
        self.sorting = by_camera[_stably_sorted(point[by_camera])]
        self.unsorting = np.empty_like(self.sorting)
        self.unsorting[self.sorting] = np.arange(len(self.sorting))
        self.point = point[self.sorting]
        self.camera = np.ascontiguousarray(cameras[self.sorting], np.int32)
        self.starts = np.searchsorted(self.point, np.arange(count + 1))
        middle = np.minimum((self.starts[:-1] + self.starts[1:]) // 2, len(self.camera) - 1)
        self.seen_from = np.zeros(count, int)
        if len(self.camera):
            self.seen_from[self.order] = self.camera[middle]
        self.groups = elimination.Groups(
            self.camera, self.point, self.eliminated, seen.frames, seen.size
        )

    @classmethod
    def of(cls, seen: Seen, like: Structure | None = None) -> Structure:
        """That of a problem; `like` itself, where it is of the same sightings."""
        return like if like is not None and seen.is_same(like.seen) else cls(seen)


def _stably_sorted(numbers: Array) -> Array:
    """The order (N,) that sorts small integers; NumPy does it in linear time if they are short."""
    short = len(numbers) and numbers.max() < 2**16
    return np.argsort(numbers.astype(np.uint16) if short else numbers, kind="stable")
