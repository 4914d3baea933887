"""Tracks that are placed by hand: one point seen on some frames, and followed between and beyond
these."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.track.follow import Follower, Settings
from aperture.track.tracks import FOLLOWED, PLACED, Tracks

# How well a point is placed by hand at the loupe, px, where nothing was followed that would tell:
# common practice, no source.
BY_HAND_PX = 0.3
# Two tracks that are further apart than this on the frames they share aren't one point, px.
FARTHEST_APART_PX = 3.0
# By frame x, y, σ across and down, the correlation of these errors, and the one with the template.
Run = dict[int, tuple[float, float, float, float, float, float]]


@dataclass(frozen=True)
class ByHand:
    """One track to follow.

    keys: (frame, x, y) px in order, where the artist placed the point; reach: half the window's
    side, px; offset: from the pattern that is followed to the point, px; first, last: the frames
    before and after which it isn't seen; pair: as `Settings` has it.
    """

    id: str
    keys: tuple[tuple[int, float, float], ...]
    reach: int = 10
    offset: tuple[float, float] = (0.0, 0.0)
    first: int | None = None
    last: int | None = None
    pair: bool = False

    def __post_init__(self) -> None:
        frames = [frame for frame, _, _ in self.keys]
        if not frames or frames != sorted(set(frames)):
            raise Problem("A track begins where it was placed by hand, once on each frame.")


Pictures = Callable[[Sequence[int]], Iterable[tuple[int, Array]]]


def follow_by_hand(
    wanted: Sequence[ByHand],
    numbers: Sequence[int],
    pictures: Pictures,
    threads: int = 1,
    keep_out: Callable[[int], Array | None] = lambda frame: None,
) -> tuple[Tracks, dict[str, float]]:
    """Follow tracks from where they were placed.

    Before the first key and after the last one a track goes on until it is lost. Between two keys
    it is followed from both, and what the two say is blended, the nearer one counting more. They
    differ by what the hand erred, or by what the point isn't one point of the surface: half of it
    goes into the σ.

    Parameters
    ----------
    wanted : sequence of ByHand
    numbers : sequence of int
        The frames there are, in order.
    pictures : callable
        Of some frames their (frame, (H, W) brightness), in the order given.
    threads : int
        How many share the tracks of a frame.
    keep_out : callable
        Of a frame its mask, as `Follower` has it.

    Returns
    -------
    tracks : Tracks
    apart : dict
        Of tracks with several keys, the farthest that the two ways between keys were apart, px.
    """
    there = set(numbers)
    wanted = [
        replace(one, keys=tuple(key for key in one.keys if key[0] in there)) for one in wanted
    ]
    first = min(one.keys[0][0] for one in wanted)
    last = max(one.keys[-1][0] for one in wanted)
    ways = (
        [number for number in numbers if number >= first],
        [number for number in reversed(numbers) if number <= last],
    )
    forward, backward = (_run(wanted, way, pictures, threads, keep_out) for way in ways)
    parts, apart = [], {}
    for index, one in enumerate(wanted):
        track, away = _assembled(one, forward[index], backward[index])
        parts.append(track)
        if len(one.keys) > 1:
            apart[one.id] = away
    whole = Tracks.none()
    for part in parts:
        whole = whole.joined(part)
    return whole, apart


def _run(
    wanted: Sequence[ByHand],
    way: Sequence[int],
    pictures: Pictures,
    threads: int,
    keep_out: Callable[[int], Array | None],
) -> list[list[Run]]:
    """Of each track and each of its keys, what is followed from there in the order of `way`."""
    pair = any(one.pair for one in wanted)
    followers = {
        reach: Follower(
            Settings(0, reach, least_length=1, pair=pair), threads, keep_out, detect=False
        )
        for reach in {one.reach for one in wanted}
    }
    begun: dict[tuple[int, str], tuple[int, int]] = {}
    waiting = {number for one in wanted for number, _, _ in one.keys}
    for number, picture in pictures(way) if len(way) > 1 else ():
        for reach, follower in followers.items():
            if follower.following:
                follower.advance(number, picture)
            begins = [
                (index, key, one)
                for index, one in enumerate(wanted)
                for key, at in enumerate(one.keys)
                if one.reach == reach and at[0] == number
            ]
            if not begins:
                continue
            places = np.array([one.keys[key][1:] for _, key, one in begins], float)
            offset = np.array([one.offset for _, _, one in begins], float)
            ids = follower.place(number, picture, places, offset)
            for (index, key, _), id_ in zip(begins, ids):
                begun[reach, f"t{id_ + 1}"] = index, key
        waiting.discard(number)
        if not waiting and not any(follower.following for follower in followers.values()):
            break
    runs: list[list[Run]] = [[{} for _ in one.keys] for one in wanted]
    for reach, follower in followers.items():
        found = follower.finish()
        for index, id_ in enumerate(found.ids):
            own = slice(found.starts[index], found.starts[index + 1])
            track, key = begun[reach, id_]
            seen = zip(found.frame[own].tolist(), found.xy[own], found.sigma[own])
            scores = zip(found.cross[own].tolist(), found.correlation[own].tolist())
            runs[track][key] = {
                frame: (*map(float, xy), *map(float, sigma), cross, score)
                for (frame, xy, sigma), (cross, score) in zip(seen, scores)
            }
    return runs


def _assembled(one: ByHand, forward: list[Run], backward: list[Run]) -> tuple[Tracks, float]:
    """One track of the runs from its keys, and how far apart two runs between keys were, px."""
    keys, gaps = one.keys, np.zeros(len(one.keys) + 1)
    places: dict[int, tuple[float, ...]] = {}
    places |= {frame: at for frame, at in backward[0].items() if frame < keys[0][0]}
    places |= {frame: at for frame, at in forward[-1].items() if frame > keys[-1][0]}
    for index, (begin, end) in enumerate(zip(keys[:-1], keys[1:])):
        between, gaps[index + 1] = _between(begin[0], end[0], forward[index], backward[index + 1])
        places |= between
    if one.first is not None:
        places = {frame: at for frame, at in places.items() if frame >= one.first}
    if one.last is not None:
        places = {frame: at for frame, at in places.items() if frame <= one.last}
    # Beyond the outer keys the hand errs by what it errs at these.
    if len(keys) > 1:
        gaps[0], gaps[-1] = gaps[1], gaps[-2]
    spreads = [at[2:5] for at in places.values()]
    usual = np.median(spreads, axis=0) if spreads else np.array([BY_HAND_PX, BY_HAND_PX, 0.0])
    for frame, x, y in keys:
        places[frame] = (x, y, *usual, 1.0)
    frames = np.array(sorted(places))
    rows = np.array([places[frame] for frame in frames])
    stretch = np.searchsorted([key[0] for key in keys], frames, side="right")
    own = np.array([key[0] for key in keys])
    spread = gaps[stretch] / 2
    at_key = np.isin(frames, own)
    number = np.searchsorted(own, frames[at_key])
    spread[at_key] = np.maximum(gaps[number], gaps[number + 1]) / 2
    # The hand errs any way: that makes the ellipse of an error rounder.
    sigma = np.hypot(rows[:, 2:4], spread[:, None])
    cross = rows[:, 4] * (rows[:, 2:4] / sigma).prod(axis=1)
    state = np.where(at_key, PLACED, FOLLOWED)
    track = Tracks.build(
        (one.id,),
        np.zeros(len(frames)),
        frames,
        rows[:, :2],
        sigma,
        rows[:, 5],
        state,
        cross=cross,
    )
    return track, float(gaps.max())


def _between(
    begin: int, end: int, forward: Run, backward: Run
) -> tuple[dict[int, tuple[float, ...]], float]:
    """The places between two keys, and the farthest that the two ways are apart."""
    places: dict[int, tuple[float, ...]] = {}
    farthest = 0.0
    for frame in range(begin, end + 1):
        there, back = forward.get(frame), backward.get(frame)
        if there and back:
            farthest = max(farthest, float(np.hypot(there[0] - back[0], there[1] - back[1])))
            share = (frame - begin) / (end - begin)
            places[frame] = tuple(
                (1 - share) * a + share * b for a, b in zip(there, back, strict=True)
            )
        elif there or back:
            places[frame] = there or back or ()
    places.pop(begin, None), places.pop(end, None)
    return places, farthest


def join(tracks: Tracks, first: str, second: str) -> Tracks:
    """Two tracks as one, under the first one's id; on frames that both have, the one with the
    smaller σ counts.

    Raises
    ------
    Problem
        If on the frames that they share they lie too far apart to be one point.
    """
    one, two = (tracks.ids.index(id_) for id_ in (first, second))
    a, b = (slice(tracks.starts[index], tracks.starts[index + 1]) for index in (one, two))
    shared, in_a, in_b = np.intersect1d(tracks.frame[a], tracks.frame[b], return_indices=True)
    drop = np.zeros(len(tracks.frame), bool)
    if len(shared):
        away = np.hypot(*(tracks.xy[a][in_a] - tracks.xy[b][in_b]).T)
        if np.median(away) > FARTHEST_APART_PX:
            raise Problem(
                f"On the {len(shared)} frames that both are seen on, they lie {np.median(away):.1f}"
                " px apart: they aren’t one point."
            )
        # What the hand placed counts; else the more exact one.
        hand = [(tracks.state[part] == PLACED) for part in (a, b)]
        first_counts = np.where(
            hand[0][in_a] == hand[1][in_b],
            tracks.sigma[a][in_a].sum(axis=1) <= tracks.sigma[b][in_b].sum(axis=1),
            hand[0][in_a],
        )
        drop[np.arange(a.start, a.stop)[in_a[~first_counts]]] = True
        drop[np.arange(b.start, b.stop)[in_b[first_counts]]] = True
    track = np.where(tracks.track == two, one, tracks.track)
    told = tracks.about.get(second, {}) | tracks.about.get(first, {})
    both = replace(tracks, about=tracks.about | ({first: told} if told else {}))
    keep = np.array([id_ != second for id_ in tracks.ids], bool)
    together = Tracks.build(
        both.ids,
        track[~drop],
        both.frame[~drop],
        both.xy[~drop],
        both.sigma[~drop],
        both.correlation[~drop],
        both.state[~drop],
        both.about,
        cross=both.cross[~drop],
    )
    return together.only(keep)
