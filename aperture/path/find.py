"""Finding a path from tracks alone: what kind of motion it is, the lens, and every frame.

1. A camera that doesn't move is recognised, and one that only turns (`turning`).
2. Small bundles of about eight keyframes from a ladder of focal lengths (`growing`): focal lengths
   from two frames alone are off by tens of percent, whole small bundles find the valley from
   nearby. The best explained one is kept. Weak assumptions about distortion keep it from eating the
   perspective.
3. The other frames, outward from the posed ones, each by the points it sees, with local bundles.
4. All together, robustly: what doesn't fit is left out, and named.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from aperture.arrays import Array
from aperture.errors import Problem
from aperture.path.given import GivenMove
from aperture.path.growing import Growing
from aperture.path.imaging import Optics
from aperture.path.pivot import (
    MAY_BE_REVERSED,
    alike,
    middle_lens,
    near_the_pivot,
    off_the_pivot,
    only_turns,
    turns_and_rolls,
)
from aperture.path.rolling import at_middle_rows
from aperture.path.several import several
from aperture.path.sightings import Sightings, connected, grown, keyframes
from aperture.path.surveyed import MOST_SURVEY_PX, from_survey, goes_far, require_tracks
from aperture.path.turning import Turning, chained, is_still, lens_of, solve_turning
from aperture.path.wanted import (
    FEWEST_TRACKS,
    LADDER,
    TURNING_LADDER,
    Wanted,
    Watch,
    cost,
    focals,
    nobody,
    prior_for,
    simple_lens,
    zooms_of,
)

# A camera nearly only turns if that leaves residuals up to this many times as large as a path does,
# and its lens is not near its pivot beyond the other; two focal lengths are about the same if their
# logarithms differ by less than that.
NEARLY_TURNS, FAR_FROM_PIVOT, SAME_FOCAL = 2.0, 40.0, 0.25
# Turns that explain the keyframes explain all frames as well, but for this factor.
MOST_WORSE = 5.0
# How far a track's rays by a move may be apart in the picture, px: a rig's drift, and another lens.
MOST_MOVE_PX = 40.0
# Two paths that are each other's reversal can't be told apart where the worse one is more probable.
RIVALS = 0.0025
# Of fewer tracks than this share points are found where rays hardly differ.
MOST_PLACED = 0.7


@dataclass
class Found:
    """What was found. kind: free, nodal or still; path or turning is set for the first two kinds.

    readout: of a shutter that nobody told of, frames from the first row to the last. rivals: paths
    that explain the tracks nearly as well, as with near and far reversed. near: whether the path is
    the answer to nearly the same evidence.
    """

    kind: str
    path: Growing | None = None
    turning: Turning | None = None
    readout: float = 0.0
    rivals: tuple[Growing, ...] = ()
    near: bool = False


def find(
    sightings: Sightings, optics: Optics, wanted: Wanted, watch: Watch = nobody, threads: int = 1
) -> Found:
    """Find a path.

    Raises
    ------
    Problem
        If the tracks don't hold one, with a sentence that says what is missing.
    """
    if len(sightings.frames) < 2:
        raise Problem("A path needs two frames or more.")
    watch("Looking whether the camera moves", 0.0)
    if wanted.motion == "still" or is_still(sightings):
        return Found("still")
    surveyed = from_survey(sightings, optics, wanted, watch, threads)
    if surveyed is None:
        return _by_tracks(sightings, optics, wanted, watch, threads)
    _grow(surveyed, watch, threads)
    if goes_far(surveyed):
        return Found("free", path=surveyed)
    # The survey's errors are as large as its way, and may have turned near and far about.
    try:
        found = _by_tracks(sightings, optics, wanted, watch, threads)
    except Problem:
        return Found("free", path=surveyed)
    if found.path is None:
        return Found("free", path=surveyed)
    if any(alike(surveyed, path) for path in (found.path, *found.rivals)):
        return found
    return replace(found, rivals=(*found.rivals, surveyed))


def _by_tracks(
    sightings: Sightings, optics: Optics, wanted: Wanted, watch: Watch, threads: int
) -> Found:
    """A path by the tracks alone. Raises Problem as `find`."""
    require_tracks(sightings, wanted)
    keys = keyframes(sightings)
    some = connected(sightings, keys)
    turning = _best_turning(sightings, optics, wanted, some, watch, threads)
    if wanted.motion == "nodal":
        return Found("nodal", turning=_all_turning(sightings, optics, wanted, turning, threads))
    paths = _best_starts(sightings, optics, wanted, some, turning, watch, threads)
    if turning is not None and all(only_turns(sightings, turning, path, some) for path in paths):
        watch("Solving the turns of all frames", 0.6)
        every = _all_turning(sightings, optics, wanted, turning, threads)
        if not paths or every.scale < MOST_WORSE * max(turning.scale, 1.0):
            return Found("nodal", turning=every)
    if not paths:
        raise Problem(
            "No two frames share enough tracks that agree on one motion of the camera. Follow more "
            "points that stand still, for longer, and keep out what moves by itself."
        )
    if turning is not None and not wanted.rolls:
        rolling = turns_and_rolls(sightings, optics, wanted, turning, paths[0], some)
        if rolling is not None:
            watch("Solving the turns of all frames", 0.6)
            readout, turning = rolling
            straight = at_middle_rows(sightings, readout)
            every = _all_turning(straight, optics, wanted, turning, threads)
            return Found("nodal", turning=every, readout=readout)
    for path in paths:
        _grow(path, watch, threads)
    return _ranked(paths)


def _best_turning(
    sightings: Sightings,
    optics: Optics,
    wanted: Wanted,
    keys: list[int],
    watch: Watch,
    threads: int,
) -> Turning | None:
    """The rotation-only path over some keyframes that explains most."""
    starts: list[tuple[float, Array | None]] = [
        (focal, None) for focal in focals(optics, wanted, TURNING_LADDER)
    ]
    if wanted.zooms:
        starts = list(zooms_of(sightings, optics, wanted))

    def turned(start: tuple[float, Array | None]) -> Turning | None:
        focal, zoom = start
        return solve_turning(
            sightings,
            optics,
            np.array(keys),
            lens_of(optics, focal),
            simple_lens(wanted),
            prior_for(sightings, optics, wanted, focal, zoom),
            zoom=None if zoom is None else zoom[keys],
        )

    def told(number: int) -> None:
        watch("Trying a camera that only turns", 0.02 + 0.1 * number / len(starts))

    found = [turning for turning in several(turned, starts, threads, told) if turning]
    return min(found, key=lambda turning: cost(turning.residuals, 1.0), default=None)


def _best_starts(
    sightings: Sightings,
    optics: Optics,
    wanted: Wanted,
    keys: list[int],
    turning: Turning | None,
    watch: Watch,
    threads: int,
) -> list[Growing]:
    """The path over some keyframes that explains most of what they see; and, of a lens near its
    pivot, another that may turn out to be the true one, with near and far reversed.

    The lens of a camera that only turns is tried too. If turning alone explains nearly everything,
    only paths with about that lens count: its turns tell the focal length, whereas a wrong lens
    with a wide arc past points on a shell explains such tracks just as well.
    """
    starts = _lenses(sightings, optics, wanted, turning)

    def begun(start: tuple[Array, Array | None]) -> tuple[Growing, Array] | None:
        return _started(sightings, optics, wanted, keys, *start)

    def told(number: int) -> None:
        focal = float(np.exp(starts[number][0][0]))
        watch(f"Tried a focal length of {focal:.3g} mm", 0.12 + 0.4 * number / len(starts))

    paths = [started for started in several(begun, starts, threads, told) if started]
    pivoted: list[tuple[Growing, Array]] = []
    noise = min((path.scale for path, _ in paths), default=np.inf)
    if turning is not None and not wanted.zooms and turning.scale < FAR_FROM_PIVOT * noise:
        pivoted = off_the_pivot(sightings, optics, wanted, turning)
        paths.append(pivoted[0])
    if not paths:
        return []
    noise = min(path.scale for path, _ in paths)
    if turning is not None and turning.scale < NEARLY_TURNS * noise:
        turned = middle_lens(turning)[0]
        paths = [
            item
            for item in paths
            if abs(item[0].lens[0] + np.median(item[0].zoom[keys]) - turned) < SAME_FOCAL
        ] or paths
    total = int(np.count_nonzero(sightings.seen[keys]))
    best = min(paths, key=lambda item: _misfit(item[0], item[1], noise, total))
    if turning is None or not pivoted:
        return [best[0]]
    return near_the_pivot(turning, pivoted, best, noise)


def _lenses(
    sightings: Sightings, optics: Optics, wanted: Wanted, turning: Turning | None
) -> list[tuple[Array, Array | None]]:
    """The lenses that paths are begun with, and of a zoom each frame's own share (F,)."""
    starts: list[tuple[Array, Array | None]] = [
        (lens_of(optics, focal), None) for focal in focals(optics, wanted, LADDER)
    ]
    if wanted.zooms:
        starts = [
            (lens_of(optics, focal), zoom) for focal, zoom in zooms_of(sightings, optics, wanted)
        ]
        if turning is not None and _is_ordinary(optics, middle_lens(turning)):
            every = np.arange(len(sightings.frames))
            starts.append((turning.lens, np.interp(every, turning.frames, turning.zoom)))
    elif turning is not None and not wanted.focal_mm and _is_ordinary(optics, turning.lens):
        starts.append((turning.lens, None))
    return starts


def _ranked(paths: list[Growing]) -> Found:
    """Of some paths the one that explains most; the others are its rivals, if the facts may still
    show that one of them is the true one."""
    if len(paths) == 1:
        return Found("free", path=paths[0])
    residuals = [path.adjust(rounds=1, most=1) for path in paths]
    common = np.isfinite(residuals).all(axis=0)
    scale = min(path.scale for path in paths)
    costs = np.array([cost(own[common], scale) for own in residuals])
    order = [int(index) for index in np.argsort(costs, kind="stable")]
    near = [index for index in order if costs[index] < MAY_BE_REVERSED * costs.min()]
    best, *rivals = (paths[index] for index in near)
    return Found("free", path=best, rivals=tuple(rivals))


def _is_ordinary(optics: Optics, lens: Array) -> bool:
    """Whether a focal length lies among those that are tried, or near."""
    share = np.exp(lens[0]) / (optics.grid.gate_mm[0] * optics.lens.squeeze)
    return bool(0.5 * LADDER[0] < share < 2 * LADDER[-1])


def _misfit(path: Growing, residuals: Array, noise: float, total: int) -> float:
    """What a start doesn't explain, in squared σ, what is assumed of the lens included.

    A sighting whose track has no point yet, for want of an angle between its rays, says nothing for
    or against: it counts as the noise that it has.
    """
    explained = np.count_nonzero(np.isfinite(residuals))
    assumed = sum(row.residual**2 for row in path.prior.rows(path)) if path.prior else 0.0
    return cost(residuals, noise) + 2 * (total - explained) + assumed


def _started(
    sightings: Sightings,
    optics: Optics,
    wanted: Wanted,
    keys: list[int],
    lens: Array,
    zoom: Array | None,
) -> tuple[Growing, Array] | None:
    """A path over the keyframes from one assumed lens, and its residuals (F, T) in σ."""
    path = Growing(
        sightings,
        optics,
        simple_lens(wanted),
        lens.copy(),
        prior_for(sightings, optics, wanted, float(np.exp(lens[0])), zoom),
        zooms=wanted.zooms,
    )
    if path.begin(keys) is None or np.count_nonzero(path.placed) < 12:
        return None
    waiting = [key for key in keys if not path.posed[key]]
    while waiting:
        seen = [np.count_nonzero(path.placed & sightings.seen[key]) for key in waiting]
        key = waiting.pop(int(np.argmax(seen)))
        if not path.resect(key, most_px=6.0):
            continue
        path.adjust(most=6)
        path.triangulate(least_deg=1.0, most_px=4.0)
    path.believe_all()
    for _ in range(2):
        residuals = path.adjust(rounds=2, most=25)
        path.triangulate(least_deg=0.7, most_px=3.0)
    return path, residuals


def from_move(
    sightings: Sightings,
    optics: Optics,
    wanted: Wanted,
    move: GivenMove,
    watch: Watch,
    threads: int,
) -> Found | None:
    """A path that begins at a move that is given; None where that explains the tracks with no lens.

    Its lens is the one that is known, or of those that are tried the one that leaves least. No
    first reconstruction is needed, which forward motion can lead into a wrong valley.
    """
    row_of = {int(frame): row for row, frame in enumerate(move.frames)}
    some = [
        number
        for number in connected(sightings, keyframes(sightings))
        if int(sightings.frames[number]) in row_of
    ]
    if len(some) < 2:
        return None

    def begun(focal: float) -> tuple[float, Growing]:
        lens, prior = lens_of(optics, focal), prior_for(sightings, optics, wanted, focal)
        path = Growing(sightings, optics, simple_lens(wanted), lens.copy(), prior)
        for number in some:
            row = row_of[int(sightings.frames[number])]
            path.rotations[number], path.positions[number] = (
                move.rotations[row],
                move.positions[row],
            )
            path.posed[number] = True
        px = np.full(1, np.inf)
        # A rig's drift is many times what the tracks are known to: what seems wrong at first isn't.
        for most_px in (MOST_MOVE_PX, MOST_MOVE_PX / 3, MOST_MOVE_PX / 9):
            path.believe_all()
            path.triangulate(least_deg=0.5, most_px=most_px)
            if np.count_nonzero(path.placed) < FEWEST_TRACKS:
                return np.inf, path
            px = path.adjust(rounds=2, most=30) * sightings.sigma.mean(axis=2)
        return float(np.nanmedian(px)), path

    watch("Beginning at the move that is given", 0.1)
    off, path = min(
        (begun(focal) for focal in focals(optics, wanted, LADDER)), key=lambda one: one[0]
    )
    if not off < MOST_SURVEY_PX:
        return None
    path.free_lens = wanted.free_lens
    path.in_world = True
    _grow(path, watch, threads)
    return Found("free", path=path)


def _grow(path: Growing, watch: Watch, threads: int) -> None:
    """Pose the other frames outward, and adjust all."""
    sightings = path.sightings
    count = len(sightings.frames)
    path.believe_all()
    path.triangulate(least_deg=0.7, most_px=3.0)
    waiting, since, begun = set(range(count)) - set(np.flatnonzero(path.posed)), 0, path.posed.sum()
    while waiting:
        posed = np.flatnonzero(path.posed)
        distance = {frame: int(np.abs(posed - frame).min()) for frame in waiting}
        near = sorted(
            (frame for frame in waiting if distance[frame] <= 6), key=distance.__getitem__
        )
        for frame in near:
            if path.resect(frame, most_px=3.0):
                break
        else:
            break
        waiting.discard(frame)
        path.triangulate(least_deg=0.7, most_px=3.0, near=frame)
        since += 1
        watch("Posing the frames", 0.55 + 0.25 * (path.posed.sum() - begun) / max(count - begun, 1))
        if since % 8 == 0:
            posed = np.flatnonzero(path.posed)
            local = posed[np.argsort(np.abs(posed - frame), kind="stable")[:24]]
            path.adjust(np.sort(local), most=5, threads=threads)
    path.believe_all()
    path.triangulate(least_deg=0.5, most_px=3.0)
    for number in range(2):
        watch("Adjusting all frames", 0.8 + 0.08 * number)
        path.adjust(rounds=3, most=30, threads=threads)
        path.triangulate(least_deg=0.5, most_px=3.0)
    followed = sightings.seen.sum(axis=0) >= 2
    if np.count_nonzero(path.placed) < MOST_PLACED * np.count_nonzero(followed):
        # Of many tracks the rays hardly differ. They tell how the camera turned, and where they are
        # left out, those that noise has brought near are what remains.
        path.triangulate(least_deg=0.02, most_px=3.0)


def _all_turning(
    sightings: Sightings, optics: Optics, wanted: Wanted, some: Turning | None, threads: int
) -> Turning:
    """The turning path over all frames that share enough tracks, from that over some."""
    if some is None:
        raise Problem(
            "Neighbouring frames share too few tracks to say how the camera turned: follow more"
            " points."
        )
    frames = chained(sightings.seen, int(some.frames[len(some.frames) // 2]))
    focal, zoom = float(np.exp(some.lens[0])), None
    if wanted.zooms:
        # Between the frames that are solved it goes as the picture grows.
        growth, every = grown(sightings), np.arange(len(sightings.frames))
        zoom = growth + np.interp(every, some.frames, some.zoom - growth[some.frames])
    turning = solve_turning(
        sightings,
        optics,
        frames,
        some.lens,
        wanted.free_lens,
        prior_for(sightings, optics, wanted, wanted.focal_mm or focal, zoom),
        threads=threads,
        zoom=None if zoom is None else zoom[frames],
    )
    if turning is None or len(frames) < 2:
        raise Problem(
            "Two neighbouring frames share fewer than eight tracks: follow more points there."
        )
    return turning
