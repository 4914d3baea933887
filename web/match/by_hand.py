"""The verbs on tracks that are placed by hand: where a point lies on a frame, and how it is
followed from there.

What a track is followed by stands in its `about`, by picture number: `reach` of its window,
`offset` from its pattern, `first` and `last` picture, and `stale` where these or its places have
changed since it was followed. `apart` is what following found.
"""

from collections.abc import Callable, Iterable
from dataclasses import replace

import numpy as np

from aperture.errors import Problem
from aperture.track.by_hand import BY_HAND_PX, ByHand
from aperture.track.by_hand import join as joined_tracks
from aperture.track.tracks import FOLLOWED, PLACED, Tracks
from web.match.tracking import change_tracks, require_chosen, tracks_of
from web.shows.models import Shot

REACH = 10  # half a window's side where none was chosen, px
FARTHEST_OFFSET_PX = 200.0


def keys_of(tracks: Tracks, id_: str) -> tuple[tuple[int, float, float], ...]:
    """Where a track was placed by hand: (picture, x, y) in order. A found one that nobody touched
    has its first place."""
    index = tracks.ids.index(id_)
    rows = np.arange(tracks.starts[index], tracks.starts[index + 1])
    placed = rows[tracks.state[rows] == PLACED]
    return tuple(
        (int(tracks.frame[row]), *map(float, tracks.xy[row]))
        for row in (placed if len(placed) else rows[:1])
    )


def wanted(tracks: Tracks, ids: Iterable[str]) -> list[ByHand]:
    """How some tracks are to be followed."""
    out = []
    for id_ in ids:
        told = tracks.about.get(id_, {})
        offset = told.get("offset", [0.0, 0.0])
        out.append(
            ByHand(
                id_,
                keys_of(tracks, id_),
                told.get("reach", REACH),
                (offset[0], offset[1]),
                told.get("first"),
                told.get("last"),
            )
        )
    return out


def stale(tracks: Tracks) -> list[str]:
    """Tracks that were followed before the artist changed them."""
    return [id_ for id_ in tracks.ids if tracks.about.get(id_, {}).get("stale")]


def place(shot: Shot, number: int, at: tuple[float, float], base: int | None) -> tuple[Shot, str]:
    """A new track at a place of a picture; the shot, and the track's id."""
    _require_inside(shot, at)
    taken = set(tracks_of(shot.state).ids)
    id_ = next(f"h{n}" for n in range(1, 100_000) if f"h{n}" not in taken)
    told = {id_: {"source": "placed"}}
    one = Tracks.build((id_,), [0], [number], [at], [[BY_HAND_PX]], [1.0], [PLACED], told)
    return change_tracks(shot, f"Placed {id_}", lambda tracks: tracks.joined(one), base), id_


def correct(shot: Shot, id_: str, number: int, at: tuple[float, float], base: int | None) -> Shot:
    """Where a track's point lies on a picture, as the artist sees it."""
    _require_inside(shot, at)

    def change(tracks: Tracks) -> Tracks:
        require_chosen(tracks, [id_])
        tracks = _as_placed(tracks, id_)
        one = Tracks.build((id_,), [0], [number], [at], [[BY_HAND_PX]], [1.0], [PLACED])
        return _to_follow(tracks.joined(one), id_)

    return change_tracks(shot, f"Corrected {id_}", change, base)


def take_back(shot: Shot, id_: str, number: int, base: int | None) -> Shot:
    """Take back what was placed by hand on a picture; the last one stays."""

    def change(tracks: Tracks) -> Tracks:
        require_chosen(tracks, [id_])
        keys = [key[0] for key in keys_of(tracks, id_)]
        index = tracks.ids.index(id_)
        at = (tracks.track == index) & (tracks.frame == number) & (tracks.state == PLACED)
        if not at.any():
            raise Problem(f"{id_} wasn’t placed by hand on this frame.")
        if len(keys) == 1:
            raise Problem(f"{id_} was placed on this frame only: remove the track instead.")
        state = tracks.state.copy()
        state[at] = FOLLOWED
        return _to_follow(replace(tracks, state=state), id_)

    return change_tracks(shot, f"Took back a place of {id_}", change, base)


def set_offset(
    shot: Shot, id_: str, number: int, at: tuple[float, float], base: int | None
) -> Shot:
    """The point of a track lies beside the pattern that is followed: at `at` on a picture, where
    the pattern stays."""

    def change(tracks: Tracks) -> Tracks:
        require_chosen(tracks, [id_])
        tracks = _as_placed(tracks, id_)
        index = tracks.ids.index(id_)
        own = tracks.track == index
        here = own & (tracks.frame == number)
        if not here.any():
            raise Problem(f"{id_} isn’t seen on this frame.")
        moved = np.array(at) - tracks.xy[here][0]
        before = np.array(tracks.about.get(id_, {}).get("offset", [0.0, 0.0]))
        offset = before + moved
        if np.hypot(*offset) > FARTHEST_OFFSET_PX:
            raise Problem(
                f"A point lies at most {FARTHEST_OFFSET_PX:.0f} px beside its pattern: farther away"
                " it moves otherwise."
            )
        xy = tracks.xy.copy()
        xy[own] += moved
        told = [round(float(value), 3) for value in offset] if np.hypot(*offset) > 0.01 else None
        tracks = replace(tracks, xy=xy).telling(id_, offset=told)
        return _to_follow(tracks, id_)

    return change_tracks(shot, f"Set {id_} beside its pattern", change, base)


def set_window(shot: Shot, ids: list[str], reach: int, base: int | None) -> Shot:
    """How large the patterns of tracks are."""

    def change(tracks: Tracks) -> Tracks:
        for id_ in sorted(require_chosen(tracks, ids)):
            tracks = _to_follow(_as_placed(tracks, id_).telling(id_, reach=reach), id_)
        return tracks

    side = 2 * reach + 1
    return change_tracks(shot, f"Windows of {side} × {side} px", change, base)


def trim(shot: Shot, ids: list[str], number: int, ends: bool, base: int | None) -> Shot:
    """Tracks aren't seen after a picture (`ends`), or before it."""

    def change(tracks: Tracks) -> Tracks:
        wanted_ids = require_chosen(tracks, ids)
        chosen = np.array([id_ in wanted_ids for id_ in tracks.ids], bool)
        beyond = tracks.frame > number if ends else tracks.frame < number
        kept = tracks.only(np.ones(len(tracks), bool), ~(chosen[tracks.track] & beyond))
        kept = kept.only(kept.lengths() > 0)
        for id_ in sorted(wanted_ids & set(kept.ids)):
            kept = kept.telling(id_, **{"last" if ends else "first": number})
        return kept

    word = "Ended" if ends else "Began"
    return change_tracks(shot, f"{word} {', '.join(sorted(set(ids))[:3])} here", change, base)


def end_each(shot: Shot, numbers: dict[str, int], base: int | None) -> Shot:
    """Each of some tracks isn't seen after a picture of its own."""

    def change(tracks: Tracks) -> Tracks:
        require_chosen(tracks, numbers)
        last = np.array([numbers.get(id_, np.inf) for id_ in tracks.ids])
        stay = tracks.frame <= last[tracks.track]
        kept = tracks.only(np.ones(len(tracks), bool), stay)
        kept = kept.only(kept.lengths() > 0)
        for id_ in sorted(set(numbers) & set(kept.ids)):
            kept = kept.telling(id_, last=numbers[id_])
        return kept

    return change_tracks(shot, f"Ended {len(numbers)} tracks where they jump", change, base)


def join(shot: Shot, ids: list[str], base: int | None) -> Shot:
    """Two tracks of one point become one, under the first one's name."""
    first, second = _two(ids)

    def change(tracks: Tracks) -> Tracks:
        require_chosen(tracks, [first, second])
        both = joined_tracks(tracks, first, second)
        return both.telling(first, first=None, last=None, source="placed")

    return change_tracks(shot, f"Joined {first} and {second}", change, base)


def followed(found: Tracks, span: tuple[int, int], apart: dict[str, float]) -> Callable:
    """What following changes: places within a span of pictures are those found; those outside
    stay."""

    def change(tracks: Tracks) -> Tracks:
        chosen = np.array([id_ in set(found.ids) for id_ in tracks.ids], bool)
        inside = (tracks.frame >= span[0]) & (tracks.frame <= span[1])
        stay = ~(chosen[tracks.track] & inside)
        tracks = tracks.only(np.ones(len(tracks), bool), stay).joined(found)
        for id_ in found.ids:
            away = round(apart[id_], 2) if id_ in apart else None
            tracks = tracks.telling(id_, stale=None, apart=away)
        return tracks

    return change


def _two(ids: list[str]) -> tuple[str, str]:
    unique = list(dict.fromkeys(ids))
    if len(unique) != 2:
        raise Problem("Two tracks are joined: choose two.")
    return unique[0], unique[1]


def _as_placed(tracks: Tracks, id_: str) -> Tracks:
    """A found track as one that the artist has taken over: where it begins is where it was
    placed."""
    index = tracks.ids.index(id_)
    own = slice(tracks.starts[index], tracks.starts[index + 1])
    if not (tracks.state[own] == PLACED).any():
        state = tracks.state.copy()
        state[own.start] = PLACED
        tracks = replace(tracks, state=state)
    return tracks.telling(id_, source="placed")


def _to_follow(tracks: Tracks, id_: str) -> Tracks:
    """To be followed anew, if it was followed before."""
    index = tracks.ids.index(id_)
    own = slice(tracks.starts[index], tracks.starts[index + 1])
    was = (tracks.state[own] == FOLLOWED).any()
    return tracks.telling(id_, stale=True) if was else tracks


def _require_inside(shot: Shot, at: tuple[float, float]) -> None:
    plate = shot.state["plate"]
    if not (0 <= at[0] <= plate["width"] and 0 <= at[1] <= plate["height"]):
        raise Problem("A track lies inside the picture.")
