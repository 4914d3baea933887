"""Following points from frame to frame.

Each frame, a pyramidal search (Bouguet 2000, OpenCV's `calcOpticalFlowPyrLK`) from the frame before
says about where each point has gone: it finds big motions, and drifts. From there `alignment`
refines the position against the template of the track's own key frame, which doesn't drift.

Nothing in an alignment says that it found the right place. Four gates do; without them tracks slide
from one thing to another and keep a small σ:

- the aligned position must be near the predicted one, and the predicted one where the change of
  pace of the tracks near by leads;
- the affine map must be one that a surface seen from elsewhere has;
- the residual must be about as large as those of the other tracks on this frame;
- gain must be within two stops.

A frame on which most tracks fail is a flash, a black frame or a cut: it is left out, and if the
tracks don't return within a few frames, they all end there and new ones begin.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

import cv2
import numpy as np
from scipy.spatial import cKDTree

from aperture.arrays import Array
from aperture.track import alignment
from aperture.track.detect import corners
from aperture.track.eyes import across_eyes
from aperture.track.templates import (
    HALF,
    LEAST_SIGMA_PX,
    Active,
    is_sane,
    is_worn,
    make,
    window_fits,
)
from aperture.track.tracks import FOLLOWED, PLACED, Tracks

# Gates. How far the refined position may lie from the predicted one, px.
FARTHEST_JUMP_PX = 3.0
# How many of the nearest tracks, the point's own among them, tell how the motion changes.
NEIGHBOURS = 9
# Residual over the median residual of the frame, and over the track's own so far.
MOST_NOISE = 4.0
# A residual below this, 8-bit values, is always small enough: of a picture shown twice it is zero.
LEAST_NOISE = 0.25
# Residual over the standard deviation of the template: more, and it is another thing that is seen.
MOST_UNLIKE = 0.6
# Observations that make a track.
LEAST_LENGTH = 3
# The largest σ of an observation across an edge, and along one, px.
MOST_SIGMA_PX, MOST_ALONG_PX = 0.5, 1.5
# A frame on which more than this share of the tracks fails is left out; that many in a row are a
# cut.
LOST_AT_ONCE, MOST_LEFT_OUT = 0.6, 3
# Two frames that differ by less than this on the mean, in 8-bit values, are one picture twice.
SAME_PICTURE = 0.02
PYRAMID_LEVELS, MOST_SEARCH_STEPS = 4, 15
# The search has only to come near: it goes on a picture that is halved until its shorter side has
# at most this many px. Of 1920 × 1080 that takes half the time and finds points to 0.04 px.
SEARCHED_PX = 800
# Of a picture that isn't halved and of one that is: the window's side, and a step that ends it, px.
SEARCHES = (21, 0.02), (17, 0.03)


@dataclass(frozen=True)
class Settings:
    """How to follow.

    wanted: how many tracks to have on each frame; reach: half the window's side, px; least_length:
    of how many observations a track is one; pair: the two pictures are of one moment, seen by two
    eyes: things near and far lie differently far apart on them, and much of one is hidden in the
    other.
    """

    wanted: int = 300
    reach: int = 10
    apart_px: float | None = None
    most_steps: int = 12
    close_px: float = 0.004
    least_length: int = LEAST_LENGTH
    pair: bool = False

    def distance(self, width: int, height: int) -> float:
        """The least distance between new corners, px."""
        return self.apart_px or max(12.0, 0.45 * np.sqrt(width * height / max(self.wanted, 1)))


@dataclass
class Follower:
    """Follows points through pictures that come one by one, forward or backward.

    Parameters
    ----------
    settings : Settings
    threads : int
        How many share the tracks of a frame.
    keep_out : callable, optional
        Of a frame's number its mask, (H, W) of bool or None.
    detect : bool
        Whether to look for new corners; if not, only what `start` was given is followed.
    """

    settings: Settings = field(default_factory=Settings)
    threads: int = 1
    keep_out: Callable[[int], Array | None] = lambda frame: None
    detect: bool = True
    remarks: list[tuple[int, str]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._weights = alignment.window_weights(self.settings.reach)
        self._count = 0
        self._seen: list[tuple[Array, ...]] = []
        self._placed: list[tuple[int, int, Array]] = []
        self._active: Active | None = None
        self._coarse: Array | None = None
        self._before: Array | None = None
        self._left_out: list[tuple[int, Array]] = []
        self._pool = ThreadPoolExecutor(self.threads) if self.threads > 1 else None

    @property
    def following(self) -> int:
        """How many tracks are followed now."""
        return 0 if self._active is None else len(self._active.number)

    def place(
        self, frame: int, picture: Array, places: Array, offset: Array | None = None
    ) -> Array:
        """Begin tracks of points (n, 2) px on a frame; returns their numbers.

        The pattern that is followed lies around the point, or `offset` (n, 2) px before it.

        A place at which no window fits into the picture begins no track, and its number is −1.
        """
        picture = _prepared(picture)
        if not self.following:  # whatever was followed before ended on an earlier picture
            self._remember(picture)
        numbers, places = np.full(len(places), -1), np.asarray(places, float)
        offset = np.zeros(places.shape) if offset is None else np.asarray(offset, float)
        fits = window_fits(places - offset, picture.shape, self.settings.reach)
        numbers[fits] = np.arange(self._count, self._count + fits.sum())
        self._begin(frame, picture, places[fits], PLACED, offset[fits])
        return numbers

    def advance(self, frame: int, picture: Array) -> None:
        """Take the next picture: (H, W) brightness in 8-bit values, of any kind of number."""
        coarse, picture = self._to_search(picture), _prepared(picture)
        if self._before is None or self._active is None:
            self._remember(picture)
            self._find_more(frame, picture)
            return
        if picture.shape != self._before.shape:
            self._cut(frame, picture)
            return
        if float(cv2.norm(picture, self._before, cv2.NORM_L1)) / picture.size < SAME_PICTURE:
            self.remarks.append((frame, "repeated"))
        moved, good, noise = self._followed(coarse, picture, frame)
        fails = len(good) > 8 and np.count_nonzero(~good) > LOST_AT_ONCE * len(good)
        if fails and not self.settings.pair:
            self._left_out.append((frame, picture))
            if len(self._left_out) > MOST_LEFT_OUT:
                self._after_cut()
            return
        self.remarks += [(number, "unlike its neighbours") for number, _ in self._left_out]
        self._left_out = []
        self._keep(frame, picture, moved, good, noise)
        self._before, self._coarse = picture, coarse
        self._find_more(frame, picture)

    def finish(self, prefix: str = "t") -> Tracks:
        """Every track that was seen often enough: one that ended at once is noise more often than a
        corner."""
        if self._left_out:
            self._after_cut()
        if self._pool:
            self._pool.shutdown()
        if not self._count:
            return Tracks.none()
        track, frame, xy, sigma, cross, correlation, state = (
            np.concatenate(column) for column in zip(*self._seen)
        )
        sigma, cross = _with_first(track, sigma, cross)
        ids = tuple(f"{prefix}{number + 1}" for number in range(self._count))
        tracks = Tracks.build(ids, track, frame, xy, sigma, correlation, state, cross=cross)
        return tracks.only(tracks.lengths() >= self.settings.least_length)

    def _remember(self, picture: Array) -> None:
        self._before, self._coarse = picture, self._to_search(picture)

    def _to_search(self, picture: Array) -> Array:
        """The picture that the point's rough place is looked for on."""
        coarse = _eight_bit(picture)
        if not self.settings.pair:
            for _ in range(_halvings(picture.shape)):
                coarse = np.asarray(cv2.pyrDown(coarse))
        return coarse

    def _cut(self, frame: int, picture: Array) -> None:
        """End everything before a frame and begin anew on it."""
        self.remarks.append((frame, "cut"))
        self._active = None
        self._remember(picture)
        self._find_more(frame, picture)

    def _after_cut(self) -> None:
        """The frames that were left out show another place: begin anew on the first of them."""
        waiting, self._left_out = self._left_out, []
        (frame, picture), *others = waiting
        self._cut(frame, picture)
        for number, later in others:
            self.advance(number, later)

    def _followed(self, coarse: Array, picture: Array, frame: int) -> tuple[Array, Array, Array]:
        """The warps (n, 8) on a new picture, which of them pass the gates, and their residuals."""
        active = self._active
        assert active is not None and self._coarse is not None
        if not len(active.number):
            return active.warps, np.zeros(0, bool), np.zeros(0)
        predicted = self._predicted(coarse, active)
        warps = active.warps.copy()
        warps[:, :2] = predicted
        noise, ended = np.zeros(len(warps)), np.zeros(len(warps), np.int64)
        self._align(picture, active, warps, noise, ended)
        good = ended == alignment.ALIGNED
        good &= np.hypot(*(warps[:, :2] - predicted).T) < FARTHEST_JUMP_PX
        good &= is_sane(warps)
        good &= noise < MOST_UNLIKE * active.contrast
        if good.any():
            usual = np.maximum(np.median(noise[good]), active.typical)
            good &= noise < MOST_NOISE * np.maximum(usual, LEAST_NOISE)
        covered = self.keep_out(frame)
        if covered is not None:
            column, row = np.clip(
                np.round(np.nan_to_num(warps[:, :2])).astype(int).T,
                0,
                np.array([picture.shape[1] - 1, picture.shape[0] - 1])[:, None],
            )
            good &= ~covered[row, column]
        return warps, good, noise

    def _predicted(self, coarse: Array, active: Active) -> Array:
        """(n, 2) index positions: where the pyramidal search finds the points, or where they were
        heading."""
        before = active.warps[:, :2].astype(np.float32)
        if self.settings.pair:
            assert self._coarse is not None
            return across_eyes(self._coarse, coarse, before)
        assert self._before is not None and self._coarse is not None
        halvings = _halvings(self._before.shape)
        smaller, (side, close_px) = np.float32(2**halvings), SEARCHES[halvings > 0]
        guess = (active.warps[:, :2] + np.nan_to_num(active.velocity)).astype(np.float32)
        found, status, _ = cv2.calcOpticalFlowPyrLK(
            self._coarse,
            coarse,
            before[:, None] / smaller,
            guess[:, None] / smaller,
            winSize=(side, side),
            maxLevel=PYRAMID_LEVELS - 1,
            criteria=(
                cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS,
                MOST_SEARCH_STEPS,
                close_px,
            ),
            flags=cv2.OPTFLOW_USE_INITIAL_FLOW,
        )
        found, status = found[:, 0].astype(float) * smaller, status.ravel() > 0
        if status.any():
            motion = np.median(found[status] - before[status], axis=0)
        else:
            motion = np.zeros(2)
        found[~status] = before[~status] + motion
        expected = _expected(active, found)
        strays = np.hypot(*(found - expected).T) > FARTHEST_JUMP_PX
        return np.where(strays[:, None], expected, found)

    def _align(
        self, picture: Array, active: Active, warps: Array, noise: Array, ended: Array
    ) -> None:
        """`alignment.align`, the tracks shared among the threads."""
        settings = self.settings

        def part(rows: slice) -> None:
            alignment.align(
                picture,
                active.values[rows],
                active.slopes[rows],
                active.inverses[rows],
                active.freedoms[rows],
                settings.reach,
                self._weights,
                settings.most_steps,
                settings.close_px,
                warps[rows],
                noise[rows],
                ended[rows],
            )

        self._share(part, len(warps))

    def _share(self, part: Callable[[slice], None], count: int) -> None:
        """Do something for all of `count` tracks, in slices on the threads."""
        if self._pool is None:
            part(slice(0, count))
            return
        edges = np.linspace(0, count, 4 * self.threads + 1).astype(int)
        list(self._pool.map(part, (slice(a, b) for a, b in zip(edges[:-1], edges[1:]) if b > a)))

    def _keep(self, frame: int, picture: Array, warps: Array, good: Array, noise: Array) -> None:
        """Write down the good ones of a frame, and go on with these."""
        assert self._active is not None
        moved = warps[:, :2] - self._active.warps[:, :2]
        active = self._active.kept(good)
        active.warps, active.velocity, noise = warps[good], moved[good], noise[good]
        active.typical = np.where(active.typical > 0, 0.9 * active.typical + 0.1 * noise, noise)
        own = active.covariances(noise)
        total = own + active.anchor
        # What can't be told any more is lost: along an edge more may be open than across it. Where
        # the artist put a point, it goes on, and says how badly it is known.
        spread = np.sqrt(np.linalg.eigvalsh(total))
        held = (spread[:, 0] < MOST_SIGMA_PX) & (spread[:, 1] < MOST_ALONG_PX)
        if self.detect and not held.all():
            active, own, total, noise = active.kept(held), own[held], total[held], noise[held]
        correlation = np.sqrt(np.maximum(0, 1 - (noise / active.contrast) ** 2))
        self._note(frame, active.number, active.points(), total, correlation, FOLLOWED)
        worn = is_worn(active.warps)
        worn &= window_fits(active.warps[:, :2] + HALF, picture.shape, self.settings.reach)
        if worn.any():
            self._renew(picture, active, worn, total + own)
        self._active = active

    def _renew(self, picture: Array, active: Active, worn: Array, covariance: Array) -> None:
        """New templates for those whose view has changed too much; what they err by stays with
        them."""
        # The point stays where it is in the picture, whatever the surface has become.
        aside = active.points()[worn] - active.warps[worn, :2]
        reach = self.settings.reach
        fresh = make(picture, active.warps[worn, :2], reach, self._weights, aside)
        gain = 1 + active.warps[worn, 6]
        for name in (
            "values",
            "slopes",
            "inverses",
            "spreads",
            "middles",
            "information",
            "freedoms",
            "contrast",
            "offset",
        ):
            getattr(active, name)[worn] = getattr(fresh, name)
        # The error of this observation goes on, and the noise of the new template comes on top of
        # it.
        active.anchor[worn] = covariance[worn]
        active.typical[worn] *= gain
        active.warps[worn, 2:] = 0

    def _note(
        self,
        frame: int,
        number: Array,
        index_xy: Array,
        covariance: Array,
        correlation: Array,
        state: int,
    ) -> None:
        sigma = np.sqrt(np.maximum(np.einsum("nii->ni", covariance), 0))
        cross = covariance[:, 0, 1] / np.maximum(sigma[:, 0] * sigma[:, 1], 1e-30)
        count = len(number)
        self._seen.append(
            (
                number.copy(),
                np.full(count, frame),
                index_xy + HALF,
                sigma,
                cross,
                correlation,
                np.full(count, state),
            )
        )

    def _find_more(self, frame: int, picture: Array) -> None:
        """New corners where tracks have ended, once a fifth is missing."""
        missing = self.settings.wanted - self.following
        if not self.detect or missing <= 0.2 * self.settings.wanted:
            return
        height, width = picture.shape
        avoid = np.zeros((0, 2)) if self._active is None else self._active.warps[:, :2] + HALF
        places = corners(
            picture,
            missing,
            self.settings.distance(width, height),
            avoid,
            self.keep_out(frame),
        )
        places = places[window_fits(places, picture.shape, self.settings.reach)]
        self._begin(frame, picture, places, FOLLOWED)

    def _begin(
        self, frame: int, picture: Array, places: Array, state: int, offset: Array | None = None
    ) -> None:
        """Templates for points at `places` (n, 2) px, which lie `offset` beside; they fit into the
        picture."""
        middles = places - HALF if offset is None else places - offset - HALF
        fresh = make(picture, middles, self.settings.reach, self._weights, offset)
        fresh.number = np.arange(self._count, self._count + len(places))
        self._count += len(places)
        nothing = np.zeros((len(places), 2, 2))
        self._note(frame, fresh.number, places - HALF, nothing, np.ones(len(places)), state)
        self._active = fresh if self._active is None else self._active.with_more(fresh)


def follow(
    pictures: Iterable[tuple[int, Array]], settings: Settings | None = None, threads: int = 1
) -> Iterator[tuple[int, Follower]]:
    """Follow corners through (frame, picture) pairs; yields after each frame, for progress.

    Examples
    --------
    >>> noise = np.random.default_rng(0).uniform(0, 255, (60, 90)).astype(np.float32)
    >>> picture = cv2.GaussianBlur(noise, (0, 0), 2) * 4 - 400
    >>> frames = [(1, picture), (2, np.roll(picture, 2, axis=1))]
    >>> *_, (_, follower) = follow(frames, Settings(wanted=4, reach=7, apart_px=12))
    >>> tracks = follower.finish()
    >>> moved = tracks.xy[1::2] - tracks.xy[0::2]
    >>> bool(abs(moved - [2, 0]).max() < 0.01)
    True
    """
    follower = Follower(settings or Settings(), threads)
    for frame, picture in pictures:
        follower.advance(frame, picture)
        yield frame, follower


def _expected(active: Active, found: Array) -> Array:
    """(n, 2): where the points should be if each went on and changed its pace as its neighbours do.

    The search takes one window of a fence for the next one. Then the point's pace changes and that
    of its neighbours doesn't. NaN for new tracks, and where there are too few.
    """
    known = np.isfinite(active.velocity[:, 0])
    expected = np.full(found.shape, np.nan)
    if np.count_nonzero(known) < NEIGHBOURS:
        return expected
    before, velocity = active.warps[known, :2], active.velocity[known]
    change = found[known] - before - velocity
    nearest = cKDTree(before).query(before, NEIGHBOURS)[1]
    expected[known] = before + velocity + np.median(change[nearest], axis=1)
    return expected


def _with_first(track: Array, sigma: Array, cross: Array) -> tuple[Array, Array]:
    """The σ (N, 2) and correlations (N,), where a key frame's own, which are written as zero, are
    those of the track's others."""
    first = sigma[:, 0] <= 0
    order = np.lexsort((sigma[:, 0], track))
    measured = order[~first[order]]
    middle = np.full((int(track.max()) + 1, 3), np.nan)
    starts = np.searchsorted(track[measured], np.arange(len(middle) + 1))
    for number in np.flatnonzero(np.diff(starts)):
        rows = measured[starts[number] : starts[number + 1]]
        middle[number, :2] = np.median(sigma[rows], axis=0)
        middle[number, 2] = np.median(cross[rows])
    sigma, cross = sigma.copy(), cross.copy()
    sigma[first], cross[first] = middle[track[first], :2], middle[track[first], 2]
    sigma = np.maximum(np.nan_to_num(sigma, nan=LEAST_SIGMA_PX), LEAST_SIGMA_PX)
    return sigma, np.nan_to_num(cross)


def _prepared(picture: Array) -> Array:
    """(H, W) float32, contiguous."""
    return np.ascontiguousarray(picture, np.float32)


def _halvings(shape: tuple[int, ...]) -> int:
    """How often a picture is halved for the search."""
    return int(max(0, np.ceil(np.log2(min(shape) / SEARCHED_PX))))


def _eight_bit(picture: Array) -> Array:
    """(H, W) uint8, for OpenCV's pyramidal search, which takes no other kind of number."""
    if picture.dtype == np.uint8:
        return np.ascontiguousarray(picture)
    return np.clip(picture + HALF, 0, 255).astype(np.uint8)
