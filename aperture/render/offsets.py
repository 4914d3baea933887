"""How far a render's outlines lie from where they should: point by point, and as one shift, scale
and rotation.

Both pictures are averaged over pixels, so across a clean edge the difference of their sums is the
distance between the two edges.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from aperture.arrays import Array

REACH = 6  # px to each side of an outline that are looked at
STEP = 0.25
EVERY = 3.0  # px between the points
LEAST = 12  # points below which nothing is said
WORTH_TELLING = (
    0.5  # px left over; near corners and thin things a measurement is off by some tenths
)
FIRM = 3.0
POINTS_TOGETHER = 6  # neighbouring points of an outline that err together
SURE = 2.5  # a shift, scale or turn is told where it is so many times its ±
KNOWN_PX = 0.6  # and scale and turn only where they are known as well as this at the corner
HALF = 0.08  # px within which a shift counts as the half pixel of another convention


@dataclass(frozen=True, eq=False)
class Offsets:
    """at: (N, 2) px on the expected outline; normal: (N, 2) outward; off: (N,) px that the render
    lies farther out along it.

    shift: (2,) px right and down; scale; rotation, radians, clockwise as seen: what best explains
    them, about the picture's middle. rest: (N,) px that this leaves. plus_minus: (4,) standard
    deviations of shift right and down, and of scale and rotation in px at the picture's corner,
    `corner` px from its middle.
    """

    at: Array
    normal: Array
    off: Array
    shift: Array
    scale: float
    rotation: float
    rest: Array
    plus_minus: Array
    corner: float

    @property
    def median(self) -> float:
        """Of the distances, px."""
        return float(np.median(np.abs(self.off)))

    @property
    def most(self) -> float:
        """95th percentile of the distances, px."""
        return float(np.percentile(np.abs(self.off), 95))


def measure(alpha: Array, expected: Array) -> Offsets | None:
    """Compare two alphas (H, W), the second being right; None where there are too few clean
    edges."""
    at, normal = _outline(expected)
    if not len(at):
        return None
    steps = np.arange(-REACH, REACH + STEP / 2, STEP)
    where = at[:, None] + steps[:, None] * normal[:, None]
    right, found = (_sampled(picture, where) for picture in (expected, alpha))
    # A clean edge: full on one side, empty on the other, in both pictures; else another outline is
    # near.
    clean = np.ones(len(at), bool)
    for profile in (right, found):
        clean &= (profile[:, :5] > 0.97).all(axis=1) & (profile[:, -5:] < 0.03).all(axis=1)
    clean &= np.abs(np.diff(right, axis=1)).sum(axis=1) < 1.05
    at, normal, off = at[clean], normal[clean], (found - right)[clean].sum(axis=1) * STEP
    return explained(at, normal, off, expected.shape) if len(at) >= LEAST else None


def explained(at: Array, normal: Array, off: Array, shape: tuple[int, int]) -> Offsets:
    """Distances `off` (N,) px along `normal` (N, 2) at places `at` (N, 2) px, with the shift, scale
    and rotation about the middle of a picture of `shape` (H, W) that best explain them.
    """
    middle, size = np.array(shape[::-1]) / 2, np.hypot(*shape) / 2
    away = (at - middle) / size
    rows = np.stack(
        [
            normal[:, 0],
            normal[:, 1],
            (normal * away).sum(axis=1),
            normal[:, 1] * away[:, 0] - normal[:, 0] * away[:, 1],
        ],
        -1,
    )
    answer, spread, rest = _best(rows, off)
    return Offsets(
        at,
        normal,
        off,
        answer[:2],
        float(1 + answer[2] / size),
        float(answer[3] / size),
        rest,
        spread,
        float(size),
    )


def shift_alone(found: Offsets) -> tuple[Array, Array]:
    """(2,) px right and down that best explain the distances without scale and rotation, and their
    ± (inf where they are open).

    What a frame's few outlines tell best, and what may be compared from frame to frame.
    """
    shift, spread, _ = _best(found.normal, found.off)
    return shift, spread


def _best(rows: Array, off: Array) -> tuple[Array, Array, Array]:
    """(k,) the unknowns of rows (N, k) that best explain distances (N,) px, their ± (inf where they
    are open), and what is left (N,)."""
    size = rows.shape[1]
    weight, scale = np.ones(len(rows)), 0.01
    for _ in range(8):  # points that something else has moved have less and less of a say
        # What the points don't determine stays within FIRM px at the picture's corner.
        held = np.eye(size) * scale / FIRM
        answer = np.linalg.lstsq(
            np.concatenate([rows * weight[:, None], held]),
            np.concatenate([off * weight, np.zeros(size)]),
            rcond=None,
        )[0]
        rest = off - rows @ answer
        scale = max(1.4826 * float(np.median(np.abs(rest))), 0.01)
        weight = 1 / np.sqrt(np.maximum(1.0, np.abs(rest) / (2 * scale)))
    # Neighbouring points of one outline err together.
    design = rows * weight[:, None]
    covariance = np.linalg.pinv(design.T @ design) * scale**2 * POINTS_TOGETHER
    return answer, np.sqrt(np.diag(covariance)) + np.where(_open(design), np.inf, 0.0), rest


def _open(design: Array) -> Array:
    """(k,) whether the points don't determine each of the unknowns at all."""
    _, singular, vt = np.linalg.svd(design, full_matrices=False)
    null = vt[singular < 1e-6 * max(singular.max(initial=0.0), 1e-12)]
    return (np.abs(null) > 1e-3).any(axis=0) if len(null) else np.zeros(design.shape[1], bool)


def _outline(expected: Array) -> tuple[Array, Array]:
    """Points along the outline of an alpha, (N, 2) px with the origin at the outer corner, and
    outward unit normals."""
    import cv2

    smooth = cv2.GaussianBlur(expected.astype(np.float32), (0, 0), 1.0)
    contours, _ = cv2.findContours(
        (smooth > 0.5).astype(np.uint8), cv2.RETR_LIST, cv2.CHAIN_APPROX_NONE
    )
    points = [contour[:, 0][:: int(EVERY)] for contour in contours if len(contour) > 30]
    if not points:
        return np.zeros((0, 2)), np.zeros((0, 2))
    at = np.concatenate(points) + 0.5
    height, width = expected.shape
    at = at[
        (at > REACH + 2).all(axis=1) & (at < (width - REACH - 2, height - REACH - 2)).all(axis=1)
    ]
    if not len(at):
        return np.zeros((0, 2)), np.zeros((0, 2))
    across, down = (cv2.Sobel(smooth, cv2.CV_32F, *which, ksize=3) for which in ((1, 0), (0, 1)))
    x, y = at.astype(int).T
    normal = -np.stack([across[y, x], down[y, x]], -1).astype(float)
    length = np.linalg.norm(normal, axis=1)
    return at[length > 1e-3], normal[length > 1e-3] / length[length > 1e-3, None]


def _sampled(picture: Array, where: Array) -> Array:
    """A picture (H, W) at positions (N, K, 2) px, linearly between the pixels' middles."""
    import cv2

    at = (where - 0.5).astype(np.float32)
    step = 30_000  # cv2.remap takes pictures of fewer than 32,768 rows
    return np.concatenate(
        [
            cv2.remap(
                picture.astype(np.float32),
                at[start : start + step, :, 0],
                at[start : start + step, :, 1],
                cv2.INTER_LINEAR,
            )
            for start in range(0, len(at), step)
        ]
    )


def in_words(found: Offsets, hard: bool = False) -> list[str]:
    """What explains the offsets, in sentences, each figure with its ±.

    Only what the outlines can tell is told: a shift, scale or turn that is sure. `hard`: whether
    the render has no alpha, so that its outlines are known to half a pixel only.
    """
    out = [*_shift_words(found), *_shape_words(found)]
    scale_known, turn_known = found.plus_minus[2:] < KNOWN_PX
    left = float(np.percentile(np.abs(found.rest), 95))
    if not out:
        out.append(
            "It lies where it should."
            if left < WORTH_TELLING
            else "No shift, scale or rotation explains what is off."
        )
    elif left >= WORTH_TELLING:
        out.append(
            f"That leaves {left:.2f} px at the worst twentieth: there is more to it, such as the "
            "lens's distortion or a moved stand-in."
        )
    unknown = [name for name, known in (("scale", scale_known), ("turn", turn_known)) if not known]
    if unknown:
        out.append(
            f"Its {' and '.join(unknown)} can't be told: there are too few outlines, or they lie "
            "too close together."
        )
    if hard:
        out.append("Without an alpha its outlines are known to half a pixel only.")
    return out


def _shift_words(found: Offsets) -> list[str]:
    spread = found.plus_minus[:2]
    told = [
        (value, sigma, words)
        for value, sigma, words in zip(found.shift, spread, (("right", "left"), ("down", "up")))
        if abs(value) >= 0.05 and abs(value) > SURE * sigma
    ]
    if not told:
        return []
    parts = [
        f"{abs(value):.2f} ± {max(sigma, 0.005):.2f} px {plus if value > 0 else minus}"
        for value, sigma, (plus, minus) in told
    ]
    x, y = found.shift
    halves = all(abs(abs(value) - 0.5) < HALF or abs(value) < HALF for value in (x, y))
    why = ""
    if halves and max(abs(x), abs(y)) > 0.3:
        why = ": half a pixel is what a program that counts from pixel middles is off by"
    return [f"Everything sits {' and '.join(parts)}{why}."]


def _shape_words(found: Offsets) -> list[str]:
    """Scale and turn, where they are sure and show within the outlines."""
    out, size = [], np.abs(found.at - found.at.mean(axis=0)).max()
    _, _, scale_px, turn_px = found.plus_minus
    growth, turn = found.scale - 1, found.rotation
    sure = abs(growth) * found.corner > SURE * scale_px and scale_px < KNOWN_PX
    if abs(growth) * size >= 0.05 and sure:
        large = "large" if growth > 0 else "small"
        spread = 100 * scale_px / found.corner
        out.append(
            f"It is {abs(growth) * 100:.3f} ± {max(spread, 0.0005):.3f} % too {large}, as with a "
            "focal length or a gate that is off by as much."
        )
    sure = abs(turn) * found.corner > SURE * turn_px and turn_px < KNOWN_PX
    if abs(turn) * size >= 0.05 and sure:
        way = "clockwise" if turn > 0 else "anticlockwise"
        spread = np.degrees(turn_px / found.corner)
        out.append(
            f"It is turned by {abs(np.degrees(turn)):.3f} ± {max(spread, 0.0005):.3f}° {way}."
        )
    return out
