"""Three directions at right angles from straight segments, and how far the lens that follows is
true.

A room at right angles is three perpendicular directions and a focal length. Four segments make two
vanishing points `a` and `b` (homogeneous, from the principal point), and perpendicular directions
want

    a_x b_x + a_y b_y + f² a_z b_z = 0

(Caprile & Torre 1990). So four segments at a time are drawn at random, each hypothesis is scored by
the segments that agree with it (in the manner of Coughlan & Yuille 1999 and of Wildenauer & Hanbury
2012), and the best are polished.

**How sure it is.** The residuals of the segments that agree say little: they were chosen because
they agree, the things in a picture are not really at right angles, and the segments of one thing
err together. The variance of the logarithm of the focal length is therefore put together from what
each of these would change:

- *the things*: the picture is divided into blocks, the search repeated with each of them left out
  (a delete-one jackknife over blocks; Shao & Wu 1989). A board held askew, or a shelf that only
  looks parallel, is in one block or two;
- *the grouping*: the other hypotheses that score nearly as well;
- *the lens*: straightened as if it bent by 5 % at the corner, either way;
- *squareness*: buildings and boards are square to about half a degree (common practice, no
  source), which for the focal length is about three per cent.

All references are cited from memory.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array
from aperture.geometry.rotation import exponential

TRIES = 6000
NEAR_PX = 1.6  # how far a segment's end may lie from the line through its vanishing point
SEED = 20261124
# Focal lengths looked for, in half diagonals of the picture.
SHORTEST, LONGEST = 0.3, 12.0
POLISHED = 24  # hypotheses that are polished
# Hypotheses whose focal lengths differ by less are one, ln f.
DISTINCT = 0.03
RIVALS = 5  # kept beside the best
RIVAL_SCORE = 0.8  # of the best one's score
# How fast a hypothesis loses weight as its score falls below the best.
SHARPNESS = 20.0
BLOCKS = (4, 3)
CORNER_BEND = 0.05
SQUARENESS = 0.03
LEAST_SEGMENTS = 8


@dataclass(frozen=True)
class Room:
    """`directions` (3, 3): unit rows, x right, y down, z forward; `focal` in px of the segments.

    `spread`: standard deviation of the focal length's logarithm; None where it wasn't asked for.
    """

    directions: Array
    focal: float
    score: float
    spread: float | None = None


def find_room(segments: Array, diagonal: float) -> Room | None:
    """The room that segments (N, 2, 2), px from the principal point, agree with best."""
    rooms = _hypotheses(segments, diagonal)
    if not rooms:
        return None
    best = rooms[0]
    return Room(best.directions, best.focal, best.score, _spread(segments, diagonal, rooms))


def misses(segments: Array, directions: Array, focal: float) -> Array:
    """(N, 3) px: how far each segment's ends lie from the line to each direction's vanishing
    point."""
    middle = segments.mean(axis=1)
    half = (segments[:, 1] - segments[:, 0]) / 2
    # Toward the vanishing point v = (f dx / dz, f dy / dz), written so that dz may be 0.
    way = directions[None, :, :2] * focal - middle[:, None, :] * directions[None, :, 2:]
    way /= np.maximum(np.linalg.norm(way, axis=2, keepdims=True), 1e-12)
    return np.abs(half[:, None, 0] * way[..., 1] - half[:, None, 1] * way[..., 0])


def _lengths(segments: Array) -> Array:
    return np.linalg.norm(segments[:, 1] - segments[:, 0], axis=1)


def _hypotheses(segments: Array, diagonal: float) -> list[Room]:
    """The best room and those that differ from it and score nearly as well, the best first."""
    rng, half = np.random.default_rng(SEED), diagonal / 2
    ends = np.concatenate([segments / half, np.ones((*segments.shape[:2], 1))], -1)
    lines = np.cross(ends[:, 0], ends[:, 1])
    lines /= np.linalg.norm(lines[:, :2], axis=1, keepdims=True)
    length = _lengths(segments)
    pick = rng.choice(len(segments), (TRIES, 4), p=length / length.sum())
    first = np.cross(lines[pick[:, 0]], lines[pick[:, 1]])
    second = np.cross(lines[pick[:, 2]], lines[pick[:, 3]])
    with np.errstate(all="ignore"):
        inner = first[:, 0] * second[:, 0] + first[:, 1] * second[:, 1]
        focal2 = -inner / (first[:, 2] * second[:, 2])
    good = np.isfinite(focal2) & (focal2 > SHORTEST**2) & (focal2 < LONGEST**2)
    if not good.any():
        return []
    focal = np.sqrt(focal2[good])
    to_direction = np.stack([np.ones_like(focal), np.ones_like(focal), focal], -1)
    a, b = first[good] * to_direction, second[good] * to_direction
    a /= np.linalg.norm(a, axis=1, keepdims=True)
    b /= np.linalg.norm(b, axis=1, keepdims=True)
    frames = np.stack([a, b, np.cross(a, b)], 1)
    pairs = zip(frames, focal * half)
    score = np.array([_score(segments, frame, f, length) for frame, f in pairs])
    order = np.argsort(-score)[:POLISHED]
    rooms = [_polished(segments, frames[i], focal[i] * half) for i in order]
    rooms.sort(key=lambda room: -room.score)
    distinct = rooms[:1]
    for room in rooms[1:]:
        apart = min(abs(np.log(room.focal / other.focal)) for other in distinct)
        if apart > DISTINCT and room.score > RIVAL_SCORE * rooms[0].score:
            distinct.append(room)
    return distinct[: RIVALS + 1]


def _score(segments: Array, directions: Array, focal: float, length: Array) -> float:
    """The length of the segments that fit a direction.

    Each direction must have some: that of the least counts twice.
    """
    off = misses(segments, directions, focal)
    best = np.argmin(off, axis=1)
    fit = np.maximum(0, 1 - (off[np.arange(len(off)), best] / NEAR_PX) ** 2)
    each = np.sort(np.bincount(best, fit * np.minimum(length, 12 * np.median(length)), 3))
    return float(each.sum() + each[0] + 0.5 * each[1])


def _signed_misses(segments: Array, directions: Array, focal: float, axis: Array) -> Array:
    """(N,) px: as `misses`, with its sign, each segment against one direction."""
    d = directions[axis]
    middle, half = segments.mean(axis=1), (segments[:, 1] - segments[:, 0]) / 2
    way = d[:, :2] * focal - middle * d[:, 2:]
    way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-12)
    return half[:, 0] * way[:, 1] - half[:, 1] * way[:, 0]


def _polished(segments: Array, directions: Array, focal: float) -> Room:
    """A room refined by Gauss–Newton on what fits it, a few rounds with that chosen anew."""
    for limit in (2.5, 1.5, 1.0, 1.0):
        off = misses(segments, directions, focal)
        axis = np.argmin(off, axis=1)
        fits = off[np.arange(len(off)), axis] < limit * NEAR_PX
        if fits.sum() < 6 or len(set(axis[fits])) < 2:
            break
        for _ in range(4):
            step = _step(segments[fits], directions, focal, axis[fits])
            if not np.isfinite(step).all() or np.abs(step).max() > 0.5:
                break
            directions, focal = directions @ exponential(step[:3]), focal * (1 + step[3])
    return Room(directions, focal, _score(segments, directions, focal, _lengths(segments)))


def _step(segments: Array, directions: Array, focal: float, axis: Array) -> Array:
    """(4,) the Gauss–Newton step of the turn and of the focal length's logarithm."""
    r = _signed_misses(segments, directions, focal, axis)
    tiny, jacobian = 1e-6, np.empty((len(r), 4))
    for column in range(3):
        turned = directions @ exponential(np.eye(3)[column] * tiny)
        jacobian[:, column] = (_signed_misses(segments, turned, focal, axis) - r) / tiny
    longer = focal * (1 + tiny)
    jacobian[:, 3] = (_signed_misses(segments, directions, longer, axis) - r) / tiny
    weight = np.sqrt(1 / (1 + (r / (0.5 * NEAR_PX)) ** 2))
    return np.linalg.lstsq(jacobian * weight[:, None], -r * weight, rcond=1e-10)[0]


def _best_focal(segments: Array, rooms: list[Room]) -> float:
    """Logarithm of the focal length that segments want, from the rooms that all of them gave."""
    polished = [_polished(segments, room.directions, room.focal) for room in rooms]
    return float(np.log(max(polished, key=lambda room: room.score).focal))


def _spread(segments: Array, diagonal: float, rooms: list[Room]) -> float:
    """Standard deviation of the logarithm of the best room's focal length (see the theory
    above)."""
    best = rooms[0]
    weights = np.exp(SHARPNESS * (np.array([room.score for room in rooms]) / best.score - 1))
    apart = np.log([room.focal / best.focal for room in rooms])
    grouping = float((weights * apart**2).sum() / weights.sum())
    logs = np.array([_best_focal(part, rooms) for part in _with_a_block_less(segments)])
    count = len(logs)
    things = (count - 1) / count * float(((logs - logs.mean()) ** 2).sum()) if count > 1 else 1.0
    reach = np.linalg.norm(segments, axis=2, keepdims=True) / (diagonal / 2)
    bends = [segments * (1 + bend * reach**2) for bend in (-CORNER_BEND, CORNER_BEND)]
    bent = [_best_focal(part, rooms[:1]) - np.log(best.focal) for part in bends]
    lens = float(np.mean(np.square(bent)))
    return float(np.sqrt(things + grouping + lens + SQUARENESS**2))


def _with_a_block_less(segments: Array) -> list[Array]:
    """The segments without those of one block of the picture, once for each block."""
    middle = segments.mean(axis=1)
    low, high = middle.min(axis=0), middle.max(axis=0)
    place = (middle - low) / np.maximum(high - low, 1e-9) * BLOCKS
    column, row = np.minimum(place.astype(int), np.array(BLOCKS) - 1).T
    block = column * BLOCKS[1] + row
    parts = [segments[block != index] for index in np.unique(block)]
    return [part for part in parts if len(part) >= LEAST_SEGMENTS]
