"""Straight segments found in a picture, grouped into those that likely run across, up and along: a first fit that needs no drawing.

Segments by OpenCV's line segment detector (Grompone von Gioi et al. 2010); directions by random sampling of vanishing points of a
room at right angles (in the manner of Coughlan & Yuille 1999 and of Wildenauer & Hanbury 2012); references from memory.
"""

from dataclasses import dataclass

import numpy as np

from aperture.camera import exponential
from aperture.errors import Problem
from aperture.gates.grid import Grid
from aperture.lens.lens import Lens
from aperture.match.facts import AXES
from aperture.match.solve import solve

SIDE_PX = 1800  # the longer side at which segments are looked for
LEAST_SHARE = 0.022  # of the diagonal: shorter segments point anywhere
MOST_SEGMENTS = 420
TRIES = 6000
NEAR_PX = 1.6  # of the picture looked at: how far a segment's end may lie from the line through its vanishing point
SEED = 20261124


@dataclass(frozen=True)
class Proposal:
    """A segment (2, 2) px of the full picture; `axis` as in a match document, None where it fits no direction; `off` px from its direction."""

    points: np.ndarray
    axis: str | None
    off: float

    @property
    def length(self) -> float:
        """px."""
        return float(np.linalg.norm(self.points[1] - self.points[0]))


@dataclass(frozen=True)
class Proposals:
    """The segments, and what the groups alone say of the lens: `focal_share`, focal length over the picture's width."""

    segments: tuple[Proposal, ...]
    focal_share: float | None


def propose(pixels, grid: Grid | None = None, lens: Lens | None = None, principal_px=None) -> Proposals:
    """Look for segments in a picture (H, W, 3) uint8. `principal_px` (2,): where the lens's axis meets it, its middle where left out.

    A `lens` that bends straightens the segments first (with `grid`, the picture's); its focal length is not used. A squeezing lens needs
    both too. Raises Problem where there are too few segments to group.
    """
    small, scale = _small(pixels)
    found = _segments(small)
    if len(found) < 8:
        raise Problem("Too few straight edges stand out in this picture to group them: draw them by hand.")
    full = found / scale
    height, width = pixels.shape[:2]
    principal = np.array([width / 2, height / 2]) if principal_px is None else np.asarray(principal_px, float)
    straight = _straightened(full, grid, lens, principal) * scale  # around the axis, in px of the small picture
    keep = np.isfinite(straight).all(axis=(1, 2))
    full, straight = full[keep], straight[keep]
    directions, focal = _room(straight, float(np.hypot(*small.shape)))
    if directions is None:
        return Proposals(tuple(Proposal(points, None, np.nan) for points in full), None)
    off = _off(straight, directions, focal)
    best = np.argmin(off, axis=1)
    names = _names(directions)
    chosen = off[np.arange(len(off)), best]
    segments = tuple(Proposal(points, names[axis] if miss < NEAR_PX else None, float(miss / scale)) for points, axis, miss in zip(full, best, chosen))
    return Proposals(tuple(sorted(segments, key=lambda one: -one.length)), float(focal / scale / width))


def choose(segments, most: int = 14) -> list[Proposal]:
    """Of each direction the longest, spread over the picture: those worth taking together."""
    out = []
    # Short ones point anywhere: leaves and cars make them too.
    least = 0.25 * max((one.length for one in segments if one.axis), default=0.0)
    for axis in AXES:
        own = [one for one in segments if one.axis == axis and one.length > least]
        taken: list[Proposal] = []
        for one in sorted(own, key=lambda one: -one.length):
            middle = one.points.mean(axis=0)
            normal = np.array([-(one.points[1] - one.points[0])[1], (one.points[1] - one.points[0])[0]]) / one.length
            # A second segment of one and the same edge says little that is new.
            if all(abs((other.points.mean(axis=0) - middle) @ normal) > 0.012 * (abs(middle).max() + 1) or
                   np.linalg.norm(other.points.mean(axis=0) - middle) > one.length + other.length for other in taken):
                taken.append(one)
            if len(taken) >= most:
                break
        out += taken
    return out


def agreeing(document: dict, marks: list[dict]) -> list[dict]:
    """Of marks made from proposals, those that don't contradict a document's evidence or each other: the furthest off go first.

    The program made them, so it may leave them; what the artist drew stays and is spoken of.
    """
    kept = [{"id": f"proposal{index}", **mark} for index, mark in enumerate(marks)]
    for _ in range(len(marks)):
        fit = solve(document | {"marks": [*document["marks"], *kept]}, explain=False).document
        blamed = {id_ for conflict in fit.get("conflicts", ()) for id_ in conflict["of"]}
        own = [mark for mark in kept if mark["id"] in blamed]
        if not own:
            break
        worst = max(own, key=lambda mark: fit["residuals"]["mark_sigmas"][mark["id"]])
        kept = [mark for mark in kept if mark is not worst]
    return [{key: value for key, value in mark.items() if key != "id"} for mark in kept]


def _small(pixels):
    import cv2

    height, width = pixels.shape[:2]
    scale = min(1.0, SIDE_PX / max(height, width))
    step = max(1, int(1 / scale / 2))  # a coarse decimation first: a large picture isn't read whole
    view = np.asarray(pixels[::step, ::step]) if step > 1 else np.asarray(pixels)
    grey = cv2.cvtColor(np.ascontiguousarray(view), cv2.COLOR_RGB2GRAY)
    size = (max(1, round(width * scale)), max(1, round(height * scale)))
    return (grey if (grey.shape[1], grey.shape[0]) == size else cv2.resize(grey, size, interpolation=cv2.INTER_AREA)), scale


def _segments(grey) -> np.ndarray:
    """(N, 2, 2) px of the small picture, the longest first."""
    import cv2

    lines = cv2.createLineSegmentDetector(cv2.LSD_REFINE_STD).detect(grey)[0]
    if lines is None:
        return np.zeros((0, 2, 2))
    ends = lines.reshape(-1, 2, 2).astype(float) + 0.5  # OpenCV counts from the first pixel's centre
    length = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
    order = np.argsort(-length)
    return ends[order][length[order] > LEAST_SHARE * np.hypot(*grey.shape)][:MOST_SEGMENTS]


def _straightened(full, grid, lens, principal):
    """(N, 2, 2) px from the axis, as a straight lens without squeeze would have drawn them, y down."""
    if grid is None or lens is None:
        return full - principal
    rays = lens.rays(grid.to_mm(full.reshape(-1, 2)))
    with np.errstate(all="ignore"):
        flat = np.stack([rays[:, 0] / -rays[:, 2], -rays[:, 1] / -rays[:, 2]], -1)
    flat[rays[:, 2] > -0.05] = np.nan
    return (flat * lens.focal_mm / grid.mm_per_px[1]).reshape(-1, 2, 2)


def _room(segments, diagonal):
    """((3, 3) unit directions as rows in the camera's space, x right, y down, z forward; focal length in px), or (None, None)."""
    rng = np.random.default_rng(SEED)
    half = diagonal / 2
    ends = np.concatenate([segments / half, np.ones((*segments.shape[:2], 1))], -1)
    lines = np.cross(ends[:, 0], ends[:, 1])
    lines /= np.linalg.norm(lines[:, :2], axis=1, keepdims=True)
    length = np.linalg.norm(segments[:, 1] - segments[:, 0], axis=1)
    chance = length / length.sum()
    pick = rng.choice(len(segments), (TRIES, 4), p=chance)
    first, second = np.cross(lines[pick[:, 0]], lines[pick[:, 1]]), np.cross(lines[pick[:, 2]], lines[pick[:, 3]])
    with np.errstate(all="ignore"):
        focal2 = -(first[:, 0] * second[:, 0] + first[:, 1] * second[:, 1]) / (first[:, 2] * second[:, 2])
    good = np.isfinite(focal2) & (focal2 > 0.3**2) & (focal2 < 12**2)
    if not good.any():
        return None, None
    focal = np.sqrt(focal2[good])
    to_direction = np.stack([np.ones_like(focal), np.ones_like(focal), focal], -1)
    a, b = first[good] * to_direction, second[good] * to_direction
    a /= np.linalg.norm(a, axis=1, keepdims=True)
    b /= np.linalg.norm(b, axis=1, keepdims=True)
    frames = np.stack([a, b, np.cross(a, b)], 1)
    score = np.array([_score(segments, frame, f * half, length) for frame, f in zip(frames, focal)])
    best = None
    for index in np.argsort(-score)[:6]:
        directions, f = _polished(segments, frames[index], focal[index] * half, length)
        value = _score(segments, directions, f, length)
        if best is None or value > best[0]:
            best = value, directions, f
    return best[1], best[2]


def _off(segments, directions, focal) -> np.ndarray:
    """(N, 3) px: how far each segment's ends lie from the line through its middle and each direction's vanishing point."""
    middle = segments.mean(axis=1)
    half = (segments[:, 1] - segments[:, 0]) / 2
    # Toward the vanishing point v = (f dx / dz, f dy / dz), written so that dz may be 0.
    way = directions[None, :, :2] * focal - middle[:, None, :] * directions[None, :, 2:]
    way /= np.maximum(np.linalg.norm(way, axis=2, keepdims=True), 1e-12)
    return np.abs(half[:, None, 0] * way[..., 1] - half[:, None, 1] * way[..., 0])


def _score(segments, directions, focal, length) -> float:
    """The length of the segments that fit a direction; each direction must have some, and the least of them counts twice."""
    off = _off(segments, directions, focal)
    best = np.argmin(off, axis=1)
    fit = np.maximum(0, 1 - (off[np.arange(len(off)), best] / NEAR_PX) ** 2) * np.minimum(length, 12 * np.median(length))
    each = np.sort(np.bincount(best, fit, 3))
    return float(each.sum() + each[0] + 0.5 * each[1])


def _polished(segments, directions, focal, length):
    """Directions and focal length by Gauss–Newton on what fits them, a few rounds with the fitting ones chosen anew."""
    def signed(rotation, f, chosen, axis):
        d = rotation[axis]
        middle, half = chosen.mean(axis=1), (chosen[:, 1] - chosen[:, 0]) / 2
        way = d[:, :2] * f - middle * d[:, 2:]
        way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-12)
        return half[:, 0] * way[:, 1] - half[:, 1] * way[:, 0]

    rotation = directions
    for limit in (2.5, 1.5, 1.0, 1.0):
        off = _off(segments, rotation, focal)
        axis = np.argmin(off, axis=1)
        fits = off[np.arange(len(off)), axis] < limit * NEAR_PX
        if fits.sum() < 6 or len(set(axis[fits])) < 2:
            break
        chosen, own = segments[fits], axis[fits]
        for _ in range(4):
            r = signed(rotation, focal, chosen, own)
            jac = np.empty((len(r), 4))
            for column in range(3):
                turn = exponential(np.eye(3)[column] * 1e-6)
                jac[:, column] = (signed(rotation @ turn, focal, chosen, own) - r) / 1e-6
            jac[:, 3] = (signed(rotation, focal * (1 + 1e-6), chosen, own) - r) / 1e-6
            weight = 1 / (1 + (r / (0.5 * NEAR_PX)) ** 2)
            step = np.linalg.lstsq(jac * np.sqrt(weight)[:, None], -r * np.sqrt(weight), rcond=1e-10)[0]
            if not np.isfinite(step).all() or np.abs(step[:3]).max() > 0.5 or abs(step[3]) > 0.5:
                break
            rotation, focal = rotation @ exponential(step[:3]), focal * (1 + step[3])
    return rotation, focal


def _names(directions) -> list[str]:
    """Which of three directions is up, across and along: up runs most upright in the picture, along most away from the camera."""
    upright = int(np.argmax(np.abs(directions[:, 1]) - 0.3 * np.abs(directions[:, 2])))
    others = [index for index in range(3) if index != upright]
    along = max(others, key=lambda index: abs(directions[index, 2]))
    return ["up" if index == upright else "along" if index == along else "across" for index in range(3)]
