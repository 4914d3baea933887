"""By how many frames a move runs before or behind its picture, from what the picture does.

Corners of each picture are followed to the next. A move says where each of them can be then: on a
short line, from where a point infinitely far away goes to where one just before the lens does. How
far things are away needn't be known. The distance of the corners from their lines, summed over all
frames, is least at the right lag; and of the two ways in which the picture can be upright, at the
right one, so that a camera that hung upside down is seen here too.

Between frames the move's places are cubic splines and its turns `scipy`'s rotation splines, so that
the lag isn't whole frames only. Its ± comes from leaving out a tenth of the frames at a time
(jackknife; Efron 1982, from memory), as errors of neighbouring frames aren't independent.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from scipy.interpolate import CubicSpline
from scipy.spatial.transform import Rotation, RotationSpline

from aperture.arrays import Array
from aperture.camera import CameraPath
from aperture.errors import Problem

WIDE = 960  # px, of the pictures whose corners are followed
MOST_CORNERS, FEWEST = 200, 12
# Over so many frames corners are followed at once: where little moves from one to the next, more
# moves over several. The first is taken over which they go far enough, px.
STRIDES, FAR_ENOUGH = (1, 3, 8, 20), 8.0
NEAR_M = 0.4  # nothing is nearer to the lens
# The search goes so many frames either way, in coarse steps, and then in fine ones about the best.
MOST_LAG, COARSE, FINE, AROUND = 60.0, 0.5, 0.05, 1.5
PARTS = 3  # the coarse search looks at every third
LEAST_SHARED = 0.4  # of the frames that both have
# Distances beyond this are no more evidence than this: something else moved there. px of WIDE.
MOST_OFF = 2.0
# A picture whose corners move less than this over the longest stride is at rest.
STILL_PX = 0.2
# The share of the picture's motion that the move must explain, to be its move at all.
LEAST_EXPLAINED = 0.5
# Blocks of frames that are left out; each at least as long as a stride, whose errors are common.
BLOCKS, FEWEST_BLOCKS = 10, 4
VAGUE = 0.5  # frames: a ± above that isn't a measurement
# What a whole film may be off by beyond that: found on films whose cameras are known, frames.
SYSTEMATIC = 0.03


@dataclass(frozen=True, eq=False)
class Corners:
    """Corners followed from each picture to a later one.

    Parameters
    ----------
    stride : int
        From each of them to the picture so many frames later.
    frames : ndarray of int, shape (N,)
        The first of each two.
    first, second : ndarray, shape (N, MOST_CORNERS, 2)
        Shares of the picture's width and height; NaN where there are fewer.
    """

    stride: int
    frames: Array
    first: Array
    second: Array


@dataclass(frozen=True)
class Lag:
    """How late a move is.

    Parameters
    ----------
    frames : float
        The move agrees with the picture if its frame numbers are lowered by so many.
    plus_minus : float
        1 σ.
    explained : float
        The share of the picture's motion that the move explains.
    turned : bool
        Whether the picture is upside down to the move.
    """

    frames: float
    plus_minus: float
    explained: float
    turned: bool


def followed(pictures: Iterable[tuple[int, Array]]) -> Corners:
    """Return the corners of pictures, followed from each to a later one and back.

    Parameters
    ----------
    pictures : iterable of (int, ndarray of shape (H, W))
        Frame and brightness, 0 to 255, in order.
    """
    found: dict[int, list[tuple[int, Array]]] = {stride: [] for stride in STRIDES}
    kept: deque[tuple[int, Array]] = deque(maxlen=max(STRIDES) + 1)
    for frame, picture in pictures:
        grey = _small(picture)
        if kept and (frame != kept[-1][0] + 1 or grey.shape != kept[-1][1].shape):
            kept.clear()
        kept.append((frame, grey))
        for stride in STRIDES:
            # What long strides tell overlaps: every fourth part of one begins another.
            if len(kept) > stride and frame % max(1, stride // 4) == 0:
                first, before = kept[-1 - stride]
                found[stride].append((first, _between(before, grey)))
    made = [_corners(stride, pairs) for stride, pairs in found.items() if pairs]
    if not made:
        raise Problem("The picture’s motion needs two frames or more that follow each other.")
    return next((one for one in made if _median_px(one) >= FAR_ENOUGH), made[-1])


def _corners(stride: int, pairs: list[tuple[int, Array]]) -> Corners:
    both = np.array([pair for _, pair in pairs])
    return Corners(stride, np.array([frame for frame, _ in pairs]), both[:, 0], both[:, 1])


def _median_px(corners: Corners) -> float:
    """How far a corner goes, in the middle of all, px of WIDE; 0 without any."""
    far = np.linalg.norm(corners.second - corners.first, axis=2) * WIDE
    return float(np.nanmedian(far)) if np.isfinite(far).any() else 0.0


def _small(picture: Array) -> Array:
    """(H, W) uint8 of a picture's brightness, WIDE across if it is wider."""
    height, width = picture.shape
    grey = np.clip(picture, 0, 255).astype(np.uint8)
    if width <= WIDE:
        return grey
    return cv2.resize(grey, (WIDE, round(height * WIDE / width)), interpolation=cv2.INTER_AREA)


def _between(first: Array, second: Array) -> Array:
    """(2, MOST_CORNERS, 2) corners of one picture and where they are on the next."""
    out = np.full((2, MOST_CORNERS, 2), np.nan)
    height, width = first.shape
    corners = cv2.goodFeaturesToTrack(first, MOST_CORNERS, 0.01, width / 70, blockSize=7)
    if corners is None:
        return out
    there, good = _flow(first, second, corners)
    back, again = _flow(second, first, there)
    came_back = np.linalg.norm(back - corners, axis=2)[:, 0] < 0.3
    kept = np.flatnonzero((good & again)[:, 0].astype(bool) & came_back)
    # OpenCV counts from the middle of the first pixel.
    for row, points in enumerate((corners, there)):
        out[row, : len(kept)] = (points[kept, 0] + 0.5) / (width, height)
    return out


def _flow(first: Array, second: Array, corners: Array) -> tuple[Any, Any]:
    """Where corners (N, 1, 2) of a picture are on another, and whether they were found (N, 1)."""
    there, good, _ = cv2.calcOpticalFlowPyrLK(
        first, second, corners, None, winSize=(21, 21), maxLevel=4
    )
    return there, good


def lag(corners: Corners, path: CameraPath, most: float = MOST_LAG) -> Lag:
    """Return by how many frames a move is late to its picture.

    Parameters
    ----------
    corners : Corners
    path : CameraPath
        The move on the picture's plate, in the same frame numbers.
    most : float
        Of frames, either way.

    Raises
    ------
    Problem
        If they share too few frames, the picture is at rest, the move explains none of its motion
        at any lag, or so even a move that every lag is as good.
    """
    if len(path.frames) < 4:
        raise Problem("A move of fewer than four frames can’t be compared with a picture.")
    trials = {turned: _Trial(corners, path, turned) for turned in (False, True)}
    if np.nansum(trials[False].known) < FEWEST * 3:
        raise Problem(
            "Too few corners could be followed in the picture to compare it with the move."
        )
    if trials[False].still() < STILL_PX:
        raise Problem("The picture is at rest on these frames: nothing tells when the move begins.")
    lags = np.arange(-most, most + COARSE / 2, COARSE)
    best: tuple[float, float, bool] | None = None
    for turned, trial in trials.items():
        each = np.array([trial.share(float(one), PARTS) for one in lags.tolist()])
        if np.isfinite(each).any():
            at = int(np.nanargmin(each))
            if best is None or each[at] < best[0]:
                best = float(each[at]), float(lags[at]), turned
    if best is None:
        raise Problem("The move and the picture share too few frames to be compared.")
    share, middle, turned = best
    if 1 - share < LEAST_EXPLAINED:
        raise Problem(
            "The picture doesn’t move as the move does, at any lag: is it the move of this take, "
            "in the right unit?"
        )
    trial = trials[turned]
    fine = middle + np.arange(-AROUND, AROUND + FINE / 2, FINE)
    costs = np.array([trial.costs(float(one)) for one in fine.tolist()])  # (lags, N)
    late, spread = _jackknifed(fine, costs, corners.stride)
    if not spread < VAGUE:
        raise Problem("The move is too even to tell when it happens.")
    spread = float(np.hypot(spread, SYSTEMATIC))
    return Lag(late, spread, 1 - trial.share(late), turned)


def _jackknifed(lags: Array, costs: Array, stride: int) -> tuple[float, float]:
    """The lag of least cost, and its σ from leaving out blocks of frames."""
    costs = costs[:, np.isfinite(costs).all(axis=0)]
    whole = _least(lags, costs.sum(axis=1))
    count = min(max(costs.shape[1] // stride, FEWEST_BLOCKS), BLOCKS, costs.shape[1])
    blocks = np.array_split(np.arange(costs.shape[1]), count)
    total = costs.sum(axis=1)
    each = np.array([_least(lags, total - costs[:, block].sum(axis=1)) for block in blocks])
    spread = np.sqrt((count - 1) / count * np.square(each - each.mean()).sum())
    return whole, float(spread)


def _least(lags: Array, cost: Array) -> float:
    """Where a curve is least, between its samples."""
    at = int(np.argmin(cost))
    if not 0 < at < len(lags) - 1:
        return float(lags[at])
    left, middle, right = cost[at - 1 : at + 2]
    bend = left - 2 * middle + right
    return float(lags[at] + (0.5 * (left - right) / bend if bend > 0 else 0.0) * FINE)


class _Trial:
    """Corners against a move, the picture one way up or the other."""

    def __init__(self, corners: Corners, path: CameraPath, turned: bool) -> None:
        self.frames, self.stride = corners.frames, corners.stride
        size = np.array([path.grid.width, path.grid.height], float)
        sign = -1 if turned else 1
        # In pixels of a picture WIDE across, through the lens of the first frame.
        self.scale = path.at(int(path.frames[0])).focal_px[0] * WIDE / size[0]
        rays = []
        for shares in (corners.first, corners.second):
            flat = path.lens.rays(path.grid.to_mm(shares.reshape(-1, 2) * size))
            rays.append(sign * (flat[:, :2] / -flat[:, 2:]).reshape(*shares.shape[:2], 2))
        self.first, self.second = rays
        both = np.isfinite(self.first) & np.isfinite(self.second)
        self.known: Array = np.asarray(both.all(axis=2))
        self.places = CubicSpline(path.frames, path.positions, axis=0)
        self.turns = RotationSpline(path.frames, Rotation.from_matrix(path.rotations))
        self.ends = path.frames[[0, -1]]
        # Where each corner would be after no motion at all.
        motion = np.linalg.norm(self.second - self.first, axis=2) * self.scale
        self.nothing = _summed(motion, self.known)

    def still(self) -> float:
        """How far a corner goes from frame to frame, px, in the middle of all."""
        far = np.linalg.norm(self.second - self.first, axis=2) * self.scale
        return float(np.nanmedian(far)) if self.known.any() else 0.0

    def costs(self, late: float, every: int = 1) -> Array:
        """(N,) per frame the corners' distances from where the move says that they can be; NaN on
        frames that it hasn't, and on all but some of them.
        """
        moment = self.frames + late
        shared = (moment >= self.ends[0]) & (moment + self.stride <= self.ends[1])
        shared &= np.arange(len(moment)) % every == 0
        out = np.full(len(self.frames), np.nan)
        if not shared.any():
            return out
        then = moment[shared] + self.stride
        here, after = self.turns(moment[shared]), self.turns(then)
        turn = (after.inv() * here).as_matrix()  # second camera from first
        step = self.places(moment[shared]) - self.places(then)
        shift = after.inv().apply(step)
        first = self.first[shared]
        away = np.concatenate([first, np.full((*first.shape[:2], 1), -1.0)], axis=2)
        far = np.einsum("nij,nkj->nki", turn, away)
        near = far + shift[:, None] / NEAR_M
        ends = [point[..., :2] / -point[..., 2:] for point in (far, near)]
        off = _from_line(self.second[shared], *ends) * self.scale
        out[shared] = _summed(off, self.known[shared])
        return out

    def share(self, late: float, every: int = 1) -> float:
        """What is left of the picture's motion at a lag, as a share; NaN where too few frames are
        shared.
        """
        each = self.costs(late, every)
        shared = np.isfinite(each)
        length = min(len(self.frames), self.ends[1] - self.ends[0])
        if shared.sum() * every < max(4, LEAST_SHARED * length):
            return float("nan")
        before = self.nothing[shared].sum()
        return float(each[shared].sum() / before) if before > 0 else float("nan")


def _summed(off: Array, known: Array) -> Array:
    """(N,) the distances (N, C) px of the known corners of each frame, none beyond MOST_OFF."""
    return np.where(known, np.minimum(np.nan_to_num(off), MOST_OFF), 0.0).sum(axis=1)


def _from_line(points: Array, start: Array, end: Array) -> Array:
    """How far points are from the lines between two others, (..., 2) each."""
    along = end - start
    length = np.square(along).sum(axis=-1)
    share = ((points - start) * along).sum(axis=-1) / np.where(length > 0, length, 1.0)
    nearest = start + np.clip(share, 0, 1)[..., None] * along
    return np.linalg.norm(points - nearest, axis=-1)
